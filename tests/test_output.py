"""What is written: whole files, beside others, and never over what is not our own."""

from __future__ import annotations

import csv
import hashlib
import json
import os
import re
import shutil
import sqlite3
import zipfile
import zlib
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Ferocal
from ferocal.errors import FerocalError, UsageError
from ferocal.media.files import whole_file
from ferocal.terms.spreadsheets import guarded, unguarded


@pytest.fixture
def copy(demo: tuple[Ferocal, str], tmp_path: Path) -> Ferocal:
    """A copy of a small measured study."""
    source = demo[0].directory / "hosts"
    for name in ("study.toml", "ledger.sqlite"):
        shutil.copy(source / name, tmp_path / name)
    return Ferocal(tmp_path)


WRITING = {
    "report": ("report", "-o"),
    "export": ("export",),
    "chart": ("chart", "-o"),
}
NAMES = {"report": "page.html", "export": "all.csv", "chart": "chart.svg"}


@pytest.mark.parametrize("command", WRITING)
def test_nothing_of_somebody_else_is_written_over(copy: Ferocal, command: str) -> None:
    place = copy.directory
    kept = {name: (place / name).read_bytes() for name in ("study.toml", "ledger.sqlite")}
    own = place / NAMES[command]
    for name in kept:
        copy.refusal(*WRITING[command], name, "--force")
    link = place / f"link{own.suffix}"
    link.symlink_to(place / "ledger.sqlite")
    assert "not written over" in copy.refusal(*WRITING[command], link.name, "--force")
    link.unlink()
    link.symlink_to(place / "study.toml")
    copy.quick(*WRITING[command], link.name, "--force")  # the link is replaced, and not followed
    assert not link.is_symlink()
    link.unlink()
    assert kept == {name: (place / name).read_bytes() for name in kept}
    own.write_text("my own notes")
    assert "not written by Ferocal" in copy.refusal(*WRITING[command], own.name)
    assert own.read_text() == "my own notes"
    copy.quick(*WRITING[command], own.name, "--force")
    first = hashlib.sha256(own.read_bytes()).digest()
    copy.quick(*WRITING[command], own.name)  # it is our own now
    assert hashlib.sha256(own.read_bytes()).digest() == first
    (place / "folder").mkdir()
    assert copy.refusal(*WRITING[command], "folder")
    left = {p.name for p in place.iterdir()} - {own.name, "folder", *kept}
    assert not {name for name in left if not re.fullmatch(r"ledger\.sqlite-(wal|shm)", name)}


def test_a_file_takes_its_place_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "page.html"
    target.write_text('<meta name="generator" content="Ferocal 1">before')
    seen: list[Path] = []
    with pytest.raises(FerocalError, match="No space left"), whole_file(target) as partial:
        seen.append(partial)
        partial.write_text("half of")
        raise OSError(28, "No space left on device")
    with pytest.raises(KeyboardInterrupt), whole_file(target) as partial:
        seen.append(partial)
        raise KeyboardInterrupt
    assert target.read_text().endswith("before") and len(set(seen)) == 2
    assert [p.name for p in tmp_path.iterdir()] == ["page.html"]
    elsewhere = tmp_path / "elsewhere.html"
    elsewhere.write_bytes(target.read_bytes())
    link = tmp_path / "link.html"
    link.symlink_to(elsewhere)
    with whole_file(link) as partial:
        partial.write_text("after")
    assert elsewhere.read_text().endswith("before") and link.read_text() == "after"
    plain = tmp_path / "plain"
    plain.touch()  # with the permissions that this user gives to what is new
    assert not link.is_symlink() and link.stat().st_mode == plain.stat().st_mode
    with pytest.raises(UsageError, match="not a regular file"), whole_file(Path("/dev/full")):
        raise AssertionError
    with (
        pytest.raises(FerocalError, match="cannot be written"),
        whole_file(tmp_path / "nowhere" / "page.html"),
    ):
        raise AssertionError


REASONS = (
    '=HYPERLINK("http://x","y")', "+1 s too slow", "-", "@SUM(A1)", "'=quoted", "''-", "\t=x", "-",
)  # fmt: skip


def test_a_spreadsheet_runs_nothing_that_was_exported(copy: Ferocal, tmp_path: Path) -> None:
    runs = [run["id"] for run in copy.json("runs")["run_list"]]
    for run, reason in zip(runs, REASONS, strict=False):
        copy.quick("exclude", "--reason", reason, run)
    copy.quick("export", "all.csv")
    with (tmp_path / "all.csv").open(newline="", encoding="utf-8") as file:
        rows = list(csv.DictReader(file))
    cells = [cell for row in rows for cell in row.values()]
    numbers = re.compile(r"-?[0-9.]+(e-?[0-9]+)?")
    assert not [c for c in cells if c[:1] in "=+-@\t\r" and c and not numbers.fullmatch(c)]
    (tmp_path / "again").mkdir()
    again = Ferocal(tmp_path / "again")
    shutil.copy(tmp_path / "study.toml", again.directory)
    again.quick("load", "../all.csv")
    found = [
        run["excluded_because"] for run in again.json("runs")["run_list"] if run["excluded_because"]
    ]
    assert sorted(found) == sorted(REASONS)


@given(st.text(alphabet="=+-@'\t1ae.", max_size=6))
def test_what_is_guarded_is_read_back(text: str) -> None:
    assert unguarded(guarded(text)) == text
    assert guarded(text)[:1] not in ("=", "@", "\t") or not text


def test_a_new_ledger_is_its_owner_s_alone(copy: Ferocal, tmp_path: Path) -> None:
    (tmp_path / "ledger.sqlite").unlink()
    before = os.umask(0)
    try:
        copy.quick("note", "nobody else reads this")
    finally:
        os.umask(before)
    assert (tmp_path / "ledger.sqlite").stat().st_mode & 0o777 == 0o600


SECRET_STUDY = """
[study]
question = "Is it faster?"
margin = "5 %"
rounds = 2
runs = 1
secrets = ["DB_PASSWORD", "DB_TOKEN"]
[bench.dome-node]
probe.token = { shell = true, command = "echo fact $DB_TOKEN", kind = "software" }
[bench.dome-node.facts]
serial-number = "SN-4711"
[factor.mode.level.off]
environment = { DB_PASSWORD = "hunter<2" }
[factor.mode.level.on]
environment = { DB_PASSWORD = "hunter<2" }
switch = [{ shell = true, command = "echo on with $DB_PASSWORD" }]
verify = [{ shell = true, command = "echo on $DB_TOKEN", contains = "on" }]
[workload.flight]
command = ["{python}", "-c", '''
import os, sys
print("connected as", os.environ["DB_PASSWORD"], sys.argv[1])
sys.stderr.write("refused " + os.environ["DB_TOKEN"] + " oh-dear")
sys.exit(3) if os.environ["FEROCAL_VISIT"] == "2" else print("score 100")''', "key-0815"]
private = ["key-0815"]
version = { shell = true, command = "echo 1.2 $DB_TOKEN" }
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9.]+)" }
"""
PRIVATE = ("hunter<2", "hunter&lt;2", "token-x9", "key-0815")


def test_what_is_private_is_neither_kept_nor_shown(
    ferocal: Ferocal, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferocal.write(SECRET_STUDY)
    assert "DB_TOKEN is set neither" in ferocal.quick("measure", status=2)
    monkeypatch.setenv("DB_TOKEN", "abc")
    assert "fewer than 4" in ferocal.refusal("measure")
    done = ferocal("measure", status=1, DB_TOKEN="token-x9")
    shown = [done.stdout, done.stderr]
    commands = "inspect", "inspect --json", "runs", "runs --json", "compare", "inspect --kept"
    monkeypatch.setenv("DB_TOKEN", "token-x9")
    shown += [ferocal.quick(*command.split()) for command in commands]
    ferocal.quick("report", "-o", "plain.html")
    ferocal.quick("report", "-o", "full.html", "--identifying")
    pages = [(ferocal.directory / name).read_text() for name in ("plain.html", "full.html")]
    assert [page.count("SN-4711") for page in pages] == [0, 1]
    assert ["oh-dear" in page for page in pages] == [False, True]
    assert "ended with exit status 3" in pages[0]
    for text in (*shown, *pages):
        assert not any(secret in text for secret in PRIVATE), text
    assert "MASKED oh-dear" in shown[0]
    connection = sqlite3.connect(ferocal.directory / "ledger.sqlite")
    dump = "\n".join(connection.iterdump())
    outputs = [zlib.decompress(row[0]) for row in connection.execute("SELECT content FROM output")]
    outputs += [
        zlib.decompress(row[0])
        for row in connection.execute("SELECT output FROM step WHERE output > 0")
    ]
    connection.close()
    assert b"connected as MASKED MASKED\nscore 100\n" in outputs
    for secret in PRIVATE:
        assert secret not in dump
        assert not any(secret.encode() in output for output in outputs)
    # The study file says what it said, for all that is known.
    assert "another" not in ferocal.quick("compare")
    ferocal.write(SECRET_STUDY.replace("hunter<2", "hunter<3").replace("key-0815", "key-0816"))
    assert "another" not in ferocal.quick("compare")
    ferocal.write(SECRET_STUDY.replace("connected", "logged in"))
    assert "the command of flight has changed" in ferocal.quick("compare")


def test_what_is_kept_is_listed(ferocal: Ferocal) -> None:
    ferocal.write(SECRET_STUDY)
    ferocal("measure", status=1, DB_TOKEN="token-x9")
    kinds = {kind["name"]: kind["count"] for kind in ferocal.json("inspect", "--kept")["kinds"]}
    assert kinds["standard error"] == kinds["outputs"] == kinds["readings"] + 1 == 4
    assert kinds["reasons"] == 1
    (ferocal.directory / "ledger.sqlite").chmod(0o644)
    assert "chmod 600" in ferocal.quick("inspect", "--kept")


@pytest.mark.parametrize(
    ("private", "told"),
    [('["abc"]', "fewer than 4 characters"), ('["not-there"]', "not part of the command")],
)
def test_private_words_are_words_of_the_command(ferocal: Ferocal, private: str, told: str) -> None:
    ferocal.write(SECRET_STUDY.replace('["key-0815"]\n', f"{private}\n", 1))
    assert told in ferocal.refusal("plan")


# In every text that a study, a program, a file or a person can put it into.
SPOKEN = 'velvet "curtain"\\key-0815-of-the-north-dome'
EVERYWHERE = """
[study]
question = "Is it SECRET faster?"
margin = "5 %"
rounds = 2
runs = 1
secrets = ["DB_TOKEN"]
prepare = [{ shell = true, command = "echo prepared $DB_TOKEN" }]
[bench.dome-node]
probe.token = { shell = true, command = "echo $DB_TOKEN", kind = "software" }
probe.air = { shell = true, command = "echo $DB_TOKEN", kind = "condition" }
facts.housing = "behind the SECRET"
[factor.mode.level.off]
switch = [{ shell = true, command = "echo off $DB_TOKEN" }]
verify = [{ shell = true, command = "echo on $DB_TOKEN", contains = "on" }]
[factor.mode.level.on]
note = "after SECRET"
[workload.flight]
shell = true
command = "echo $DB_TOKEN; echo $DB_TOKEN >&2; echo '{\\"score\\": 100}'; test $FEROCAL_VISIT != 3"
files = ["SECRET.dat"]
version = { shell = true, command = "echo 1.2 $DB_TOKEN" }
metric.score = { unit = "points", better = "higher", source = { json = "/score" } }
[workload.show]
command = ["{python}", "-c", '''
import json, os
print(json.dumps({"score": "x" * 50 + os.environ["DB_TOKEN"]}))''']
metric.score = { unit = "points", better = "higher", source = { json = "/score" } }
[claim.faster]
says = "It is SECRET faster."
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""


def test_a_secret_is_masked_wherever_it_stands_and_before_anything_is_cut(
    ferocal: Ferocal, monkeypatch: pytest.MonkeyPatch
) -> None:
    quoted = json.dumps(SPOKEN)[1:-1]
    study = EVERYWHERE.replace("SECRET", quoted)
    ferocal.write(study)
    monkeypatch.setenv("DB_TOKEN", SPOKEN)
    shown = [ferocal.quick("measure", status=1)]
    rows = ("configuration,workload,metric,value,visit,excluded\n"
            f'on,flight,score,99,a,"so {SPOKEN.replace(chr(34), chr(34) * 2)} it was"\n'
            f'off,flight,score,"n/a: {SPOKEN.replace(chr(34), chr(34) * 2)}",b,\n')  # fmt: skip
    (ferocal.directory / f"{SPOKEN[:6]}.csv").write_text(rows)
    run = ferocal.json("runs")["run_list"][0]["id"]
    calls = (
        ["load", f"{SPOKEN[:6]}.csv"],
        ["note", f"dark, {SPOKEN}", "--source", SPOKEN, "--configuration", "on"],
        ["correct", run, "score", "98", "--reason", f"typed {SPOKEN}"],
        ["exclude", run, "--reason", SPOKEN], ["restore", run],
        ["exclude", run, "--reason", f"again {SPOKEN}"],
        ["enter", "flight", "--configuration", "off", f"n/a: {SPOKEN}", "--visit", SPOKEN],
        ["reference", "add", "--device", SPOKEN, "--metric", "flight score", "--value", "7",
         "--source", f"a poster of {SPOKEN}"],
    )  # fmt: skip
    shown += [ferocal.quick(*words) for words in calls]
    commands = (
        "compare --detail", "table", "runs --all", "claims", "note", "reference", "inspect",
        "inspect --kept", "chart -o c.svg", "export all.csv --force", "export all.json",
        "report -o page.html --identifying", "plan", "report -o page.md --only readings",
        "chart readings -o r.svg", "compare --format junit", "compare --format csv",
        "export all.openmetrics", "bundle -o b.zip --identifying",
    )  # fmt: skip
    shown += [ferocal.quick(*command.split()) for command in commands]
    names = ("compare", "table", "runs", "claims", "note", "reference", "inspect")
    shown += [ferocal.quick(name, "--json") for name in names]
    files = ("c.svg", "all.csv", "all.json", "page.html", "page.md", "r.svg", "all.openmetrics")
    written = [ferocal.directory / name for name in files]
    shown += [path.read_text() for path in written]
    with zipfile.ZipFile(ferocal.directory / "b.zip") as bundle:
        shown += [bundle.read(name).decode("latin-1") for name in bundle.namelist()]
    shown.append((ferocal.directory / "ledger.sqlite").read_bytes().decode("latin-1"))
    for text in shown:
        assert SPOKEN[:6] not in text.replace(f"{SPOKEN[:6]}.csv", ""), text[:3000]
    assert ferocal.json("compare")["criteria_changed"] == []
    assert sum("MASKED" in text for text in shown) > 15


def test_control_characters_and_warnings_stay_out_of_figures(ferocal: Ferocal) -> None:
    ferocal.write(
        '[study]\nquestion = "Is \\u0007 \\u001b[31m \\uffff あ it?"\nmargin = "5 %"\nrounds = 3\n'
        "[factor.mode]\norder = \"file\"\n[factor.mode.level.off]\nnote = \"\\u0001 new\"\n"
        "[factor.mode.level.on]\n[factor.mode.level.more]\n[workload.flight]\nshell = true\n"
        'command = "seq 11 40; echo score $((RANDOM % 9 + 100))"\n'
        'metric.score = { unit = "points", better = "higher", source = { pattern = "e ([0-9]+)" }'
        " }\n"
        "[workload.show]\ncommand = \"seq 11 40\"\n"
        'metric.frames = { unit = "ms", kind = "frames", source = { output = "lines" } }\n'
    )  # fmt: skip
    ferocal.quick("measure")
    poster = ("--metric", "score", "--value", "101", "--source", "x\x02y", "--device", "Halden\x03")
    ferocal.quick("reference", "add", *poster)
    commands = (
        "chart -o c.svg",
        "frames -o f.svg",
        "series mode -o s.svg",
        "report -o page.html",
    )
    for command in commands:
        ferocal(*command.split())  # without a warning on the terminal
    drawn = [(ferocal.directory / name).read_text() for name in ("c.svg", "f.svg", "s.svg")]
    page = (ferocal.directory / "page.html").read_text()
    drawn += re.findall("<svg.*?</svg>", page, re.DOTALL)
    for figure in drawn:
        ElementTree.fromstring(figure)
    assert len(drawn) > 3 and "\\x07" in drawn[0]
    assert not any(ord(sign) < 32 and sign not in "\n\t" for sign in page)
    told = ferocal("chart", "-o", "c.png").stderr
    assert "has no あ" in told and len(told.splitlines()) == 1
