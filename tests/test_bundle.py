"""Bundles: the same results after the round trip, and no change unnoticed."""

from __future__ import annotations

import hashlib
import io
import json
import os
import pwd
import random
import shutil
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Ferocal
from ferocal.errors import UsageError
from ferocal.intake.bundle import open_bundle, restore_bundle
from ferocal.media.bundle import seal
from ferocal.terms.bundles import COMMENT_LENGTH, MANIFEST, SIGNATURE

COMMANDS = ("compare", "table", "rank", "factors", "frames", "soak", "runs", "history", "inspect")


@pytest.fixture(scope="session")
def packed(demo: tuple[Ferocal, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A bundle of the demo."""
    path = tmp_path_factory.mktemp("packed") / "demo.zip"
    demo[0].quick("bundle", "-o", str(path))
    return path


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A bundle of a small study with everything that may be kept in one."""
    directory = tmp_path_factory.mktemp("small")
    ferocal = Ferocal(directory)
    (directory / "r.csv").write_text(
        "workload,configuration,round,value,unit\n"
        + "".join(f"page,{c},{r},{100 + 10 * n + r % 3}.5,points\n"
                  for n, c in enumerate("abc") for r in range(1, 5))
    )  # fmt: skip
    ferocal.quick("new", "s", "--from", "r.csv")
    ferocal.directory = directory / "s"
    run = ferocal.json("runs")["run_list"][0]["id"]
    ferocal.quick("note", "--run", run, "no sound")
    ferocal.quick("correct", run, "score", "101", "--reason", "mistyped")
    ferocal.quick("exclude", ferocal.json("runs")["run_list"][5]["id"], "--reason", "fan stuck")
    ferocal.quick("bundle", "-o", str(directory / "small.zip"))
    return directory / "small.zip"


def test_the_demo_has_the_same_results_after_the_round_trip(
    demo: tuple[Ferocal, str], packed: Path, tmp_path: Path
) -> None:
    ferocal = demo[0]
    said = ferocal.quick("open", str(packed), str(tmp_path / "opened"))
    assert "not signed" in said and "left out by its author: what programs wrote" in said
    opened = Ferocal(tmp_path / "opened")
    for command in COMMANDS:
        assert opened.quick(command, "--json") == ferocal.quick(command, "--json"), command
    # A page of it is that of the bundle, byte for byte, and so is another bundle.
    page = (opened.directory / "report.html").read_bytes()
    opened.quick("report")
    assert (opened.directory / "report.html").read_bytes() == page
    again = tmp_path / "again.zip"
    opened.quick("bundle", "-o", str(again))
    names = [sorted(zipfile.ZipFile(path).namelist()) for path in (again, packed)]
    assert names[0] == names[1]
    with zipfile.ZipFile(packed) as archive:
        assert {"study.toml", "readings.csv", "effects.csv", "ledger/reading.jsonl"} <= set(
            names[0]
        )
        assert any(name.startswith("traces/") for name in names[0])
        assert sum(name.startswith("charts/") for name in names[0]) >= 2
        manifest = json.loads(archive.read(MANIFEST))
        for name, known in manifest["files"].items():
            assert hashlib.sha256(archive.read(name)).hexdigest() == known["sha256"]


def test_a_thousand_changes_of_one_byte_are_noticed(packed: Path, tmp_path: Path) -> None:
    whole = packed.read_bytes()
    chance = random.Random(8)
    places = {0, len(whole) - 1, len(whole) - COMMENT_LENGTH, *range(30)}
    while len(places) < 1000:
        places.add(chance.randrange(len(whole)))
    changed = tmp_path / "changed.zip"
    changed.write_bytes(whole)
    for place in sorted(places):
        with changed.open("r+b") as file:
            file.seek(place)
            file.write(bytes([whole[place] ^ (1 << chance.randrange(8))]))
        with pytest.raises(UsageError), open_bundle(changed) as bundle:
            restore_bundle(bundle, tmp_path / "made")
        assert not (tmp_path / "made").exists(), place
        with changed.open("r+b") as file:
            file.seek(place)
            file.write(whole[place : place + 1])
    with open_bundle(changed) as bundle:
        assert bundle.manifest.question.startswith("Do graphics driver")
    for length in (0, 1, COMMENT_LENGTH, len(whole) // 2, len(whole) - 1):
        changed.write_bytes(whole[:length])
        with pytest.raises(UsageError), open_bundle(changed):
            pass


def rewrite(source: Path, target: Path, change: Callable[[dict[str, bytes]], None]) -> None:
    """Make another bundle of one, with a whole digest, as a forger who has Ferocal could."""
    with zipfile.ZipFile(source) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    change(files)
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in files.items():
            made.writestr(zipfile.ZipInfo(name), content)
        made.comment = b" " * COMMENT_LENGTH
    seal(target)


def listed(files: dict[str, bytes], *, also: str = "") -> None:
    """Bring the manifest to what is in the bundle."""
    manifest: dict[str, Any] = json.loads(files[MANIFEST])
    manifest["files"] = {
        name: {"sha256": hashlib.sha256(content).hexdigest(), "size": len(content)}
        for name, content in files.items()
        if name not in (MANIFEST, SIGNATURE)
    }
    if also:
        manifest["files"][also] = {"sha256": "0" * 64, "size": 3}
    files[MANIFEST] = json.dumps(manifest).encode()


def edit(name: str, old: bytes, new: bytes) -> Callable[[dict[str, bytes]], None]:
    def change(files: dict[str, bytes]) -> None:
        assert old in files[name]
        files[name] = files[name].replace(old, new, 1)
        listed(files)

    return change


def put(name: str, content: bytes = b"x") -> Callable[[dict[str, bytes]], None]:
    def change(files: dict[str, bytes]) -> None:
        files[name] = content
        listed(files)

    return change


def lose(name: str) -> Callable[[dict[str, bytes]], None]:
    def change(files: dict[str, bytes]) -> None:
        del files[name]

    return change


FORGED: dict[str, tuple[Callable[[dict[str, bytes]], None], str]] = {
    "a reading": (edit("ledger/reading.jsonl", b"100.5", b"999.5"), "does not make a ledger"),
    "an exclusion": (edit("ledger/mark.jsonl", b"fan stuck", b"fan stuck!"), "not make a ledger"),
    "a column": (edit("ledger/note.jsonl", b'"text"', b'"test"'), "does not make a ledger"),
    "a value of a row": (edit("ledger/run.jsonl", b'{"id": 1', b'{"id": [1]'), "a ledger"),
    "a number without end": (
        edit("ledger/run.jsonl", b'"id": 1', b'"id": 1' + b"0" * 30),
        "ledger",
    ),
    "bytes that are none": (
        edit("ledger/seal.jsonl", b'{"base64": "', b'{"base64": 5, "x": "'),
        "a value",
    ),
    "a row that is none": (put("ledger/note.jsonl", b"[1, 2]\n"), "note.jsonl:1"),
    "a row without end": (put("ledger/note.jsonl", b"[" * 100_000), "note.jsonl:1"),
    "a study file": (put("study.toml", b"[study]\nquestion = 1\n"), "study.toml"),
    "a study file in another encoding": (put("study.toml", b"\xff\xfe"), "not UTF-8"),
    "a path upwards": (put("../evil.txt"), "does not belong"),
    "an absolute path": (put("/etc/evil"), "does not belong"),
    "a program": (put("ledger/evil.sh"), "does not belong"),
    "no ledger": (lose("ledger/run.jsonl"), "is missing"),
    "no manifest": (lose(MANIFEST), "no manifest"),
    "a manifest that is none": (lambda files: files.update({MANIFEST: b"{}"}), "manifest.json"),
    "what is listed": (lambda files: listed(files, also="report2.html"), "is missing"),
    "what is not listed": (
        lambda files: files.update({"charts/x.svg": b""}),
        "not in the manifest",
    ),
}


@pytest.mark.parametrize("what", FORGED)
def test_what_does_not_belong_in_a_bundle_is_refused(
    small: Path, tmp_path: Path, what: str
) -> None:
    change, why = FORGED[what]
    forged = tmp_path / "forged.zip"
    rewrite(small, forged, change)
    ferocal = Ferocal(tmp_path)
    assert why in ferocal.refusal("open", "forged.zip", "made")
    assert [path.name for path in tmp_path.iterdir()] == ["forged.zip"]


def test_bombs_links_and_names_given_twice_are_refused(small: Path, tmp_path: Path) -> None:
    ferocal, forged = Ferocal(tmp_path), tmp_path / "forged.zip"

    def forge(fill: Callable[[zipfile.ZipFile], None]) -> str:
        shutil.copy(small, forged)
        with zipfile.ZipFile(forged, "a", zipfile.ZIP_DEFLATED) as archive:
            fill(archive)
            archive.comment = b" " * COMMENT_LENGTH
        seal(forged)
        return ferocal.refusal("open", "forged.zip", "made")

    bomb = io.BytesIO(bytes(1 << 20))

    def fill(archive: zipfile.ZipFile) -> None:
        with archive.open("readings.csv", "w", force_zip64=True) as file:
            for _ in range(400):
                file.write(bomb.getvalue())

    link = zipfile.ZipInfo("charts/link.svg")
    link.external_attr = 0o120777 << 16
    assert "does not belong" in forge(lambda archive: archive.writestr(link, "/etc/passwd"))
    with pytest.warns(UserWarning, match="Duplicate"):
        assert "twice" in forge(lambda archive: archive.writestr("study.toml", "x"))
    with pytest.warns(UserWarning, match="Duplicate"):
        assert "twice" in forge(fill) or "far more" in ferocal.refusal("open", "forged.zip", "made")
    assert not (tmp_path / "made").exists()


def test_a_directory_with_something_in_it_is_left_alone(small: Path, tmp_path: Path) -> None:
    (tmp_path / "there").mkdir()
    (tmp_path / "there" / "mine.txt").write_text("mine")
    assert "not empty" in Ferocal(tmp_path).refusal("open", str(small), "there")
    assert [p.name for p in (tmp_path / "there").iterdir()] == ["mine.txt"]
    (tmp_path / "text.zip").write_text("no bundle")
    assert "is no bundle" in Ferocal(tmp_path).refusal("open", "text.zip", "made")
    assert "cannot be read" in Ferocal(tmp_path).refusal("open", "absent.zip", "made")


@pytest.mark.skipif(shutil.which("ssh-keygen") is None, reason="needs ssh-keygen")
def test_a_signature_says_whose_key_it_is_and_fits_nothing_else(
    small: Path, tmp_path: Path
) -> None:
    try:
        pwd.getpwuid(os.getuid())
    except KeyError:
        pytest.skip("ssh-keygen works for users with a name only")
    ferocal = Ferocal(small.parent / "s")
    for name in ("key", "other"):
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True
        )
    signed = tmp_path / "signed.zip"
    ferocal.quick("bundle", "-o", str(signed), "--sign", str(tmp_path / "key"))
    assert "not checked" in ferocal.quick("open", str(signed), str(tmp_path / "a"))
    signers = {}
    for name in ("key", "other"):
        signers[name] = tmp_path / f"{name}.signers"
        public = (tmp_path / f"{name}.pub").read_text()
        signers[name].write_text(f"engineer@northlight {public}")
    options = ("--signers", str(signers["key"]))
    said = ferocal.quick("open", str(signed), str(tmp_path / "b"), *options)
    assert "signed by engineer@northlight" in said
    options = ("--signers", str(signers["other"]))
    assert "does not fit" in ferocal.refusal("open", str(signed), str(tmp_path / "c"), *options)
    assert "is not signed" in ferocal.refusal("open", str(small), str(tmp_path / "c"), *options)
    forged = tmp_path / "forged.zip"
    rewrite(signed, forged, put("README.txt", b"mine"))
    assert "does not fit" in ferocal.refusal("open", str(forged), str(tmp_path / "c"))
    assert not (tmp_path / "c").exists()
    assert "cannot sign" in ferocal.refusal(
        "bundle", "-o", str(tmp_path / "d.zip"), "--sign", str(signers["key"])
    )
    assert not (tmp_path / "d.zip").exists()


def test_the_page_tells_what_changed_since_a_bundle(small: Path, tmp_path: Path) -> None:
    place = tmp_path / "s"
    shutil.copytree(small.parent / "s", place)
    ferocal = Ferocal(place)
    text = (place / "study.toml").read_text()
    ferocal.write(text.replace('margin = "5 %"', 'margin = "60 %"'))
    (place / "more.csv").write_text(
        "workload,configuration,round,value,unit\n"
        + "".join(f"page,d,{r},140,points\n" for r in range(1, 5))
    )
    ferocal.quick("load", "more.csv", "--add")
    ferocal.quick("report", "--since", str(small), "--only", "since", "-o", "since.md")
    said = (place / "since.md").read_text()
    assert "2 verdicts turned, 0 did not" in said and "1 new configuration: d" in said
    assert "margin of page score was 5 % and is 60 %" in said
    rows = [row for row in said.splitlines() if row.startswith(("| b |", "| c |"))]
    assert len(rows) == 2 and all("better" in row and "equivalent" in row for row in rows)
