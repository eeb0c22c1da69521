"""The ledger on its own and in bad hands: merging, marking, locked and closed places."""

from __future__ import annotations

import gzip
import json
import os
import random
import re
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import pytest

from conftest import Ferocal
from ferocal.bench.facts import read_facts
from ferocal.errors import LedgerError
from ferocal.ledger import connecting, tables
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.columns import read_columns
from ferocal.ledger.reading.runs import read_runs
from ferocal.ledger.records import (
    Ending,
    Outcome,
    SessionRecord,
    Slot,
    Value,
    VisitRecord,
    pack,
)
from ferocal.ledger.store import Ledger
from ferocal.ledger.writing.additions import mark_runs
from ferocal.ledger.writing.merge import merge_ledgers
from ferocal.ledger.writing.opening import open_ledger
from ferocal.ledger.writing.runs import Recorder
from ferocal.ledger.writing.store import WritableLedger
from ferocal.traces.capture import Trace
from test_measure import query, valid_runs

Study = Callable[..., Ferocal]


def fill(ledger: WritableLedger, rng: random.Random, visits: int) -> None:
    """Record visits with runs of every outcome."""
    recorder = Recorder(ledger)
    recorder.begin_session(SessionRecord("1", {}, 9, False, "node", "", {}))
    for number in range(1, visits + 1):
        name = rng.choice(["r61", "r64"])
        facts = [{"name": "memory", "value": rng.choice(["16", "32"]), "kind": "resource"}]
        visit = recorder.begin_visit(
            VisitRecord(
                "node", name, {"driver": name}, number, number, 0.0, "active", [], facts, {}, []
            )
        )
        for k in range(rng.randrange(4)):
            slot = Slot(number, name, "flight", k)
            run = recorder.begin_run(visit, slot, k, warmup=False)
            outcome = rng.choice([Outcome.OK, Outcome.OK, Outcome.FAILED])
            unit, samples = rng.choice(["fps", "Hz"]), rng.choice([None, 100, 200])
            values = [Value("flight", "fps", unit, rng.gauss(60, 1), samples)]
            traces = [
                Trace("frame-time", "frames", "ms", {"value": np.array([16.0, rng.random()])})
            ]
            streams = {"stdout": (rng.randbytes(20), 20)}
            recorder.end_run(run, Ending(outcome, None, 1.0, values, traces, streams))
    runs = [run for run in read_runs(ledger) if run.excluded is None]
    if runs:
        mark_runs(ledger, [rng.choice(runs).id], excluded=True, reason="dark")


def content(ledger: Ledger) -> list[object]:
    """What a ledger holds, whatever its local keys and the order of its rows."""
    rows = [
        (r.id, r.visit, r.configuration, r.round, r.outcome, r.excluded, sorted(r.values.items()))
        for r in read_runs(ledger)
    ]
    columns = read_columns(ledger)
    traces = sorted(row[0] for row in ledger.rows("SELECT content FROM trace"))
    samples = np.nansum(columns.samples)
    return [sorted(rows), sorted(columns.value), samples, len(columns.value), traces]


@pytest.mark.parametrize("seed", range(6))
def test_merging_is_whole_once_only_and_in_any_order(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    ledgers = []
    for number in range(4):
        directory = tmp_path / str(number)
        directory.mkdir()
        ledgers.append(open_ledger(directory, create=True))
    first, other, third, empty = ledgers
    for ledger in (first, other, third):
        fill(ledger, rng, visits=rng.randrange(1, 6))
    merged = merge_ledgers(empty, first)
    assert content(empty) == content(first)
    assert merged.runs == len(read_runs(first))
    for source in (other, third, other):
        merged = merge_ledgers(empty, source)
    assert (merged.visits, merged.runs) == (0, 0)
    assert merged.known_runs == len(read_runs(other))
    merge_ledgers(third, other)
    merge_ledgers(third, first)
    assert content(third) == content(empty)
    sql = "SELECT uid, content FROM output JOIN run ON id = run_id"
    outputs = [dict(query(Ferocal(first.path.parent), sql)) for first in (third, empty)]
    assert outputs[0] == outputs[1]


def test_a_merge_that_fails_leaves_everything_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from ferocal.ledger.writing import merge

    with open_ledger(tmp_path, create=True) as target:
        fill(target, random.Random(1), 3)
        (tmp_path / "other").mkdir()
        source = open_ledger(tmp_path / "other", create=True)
        fill(source, random.Random(2), 3)
        before = content(target)

        def fail(*_: object) -> None:
            raise sqlite3.OperationalError("disk I/O error")

        monkeypatch.setattr(merge, "_bring_children", fail)
        with pytest.raises(LedgerError, match="disk I/O error"):
            merge_ledgers(target, source)
        assert content(target) == before


def test_long_outputs_keep_both_ends() -> None:
    import zlib

    kept = zlib.decompress(pack(b"a" * 10**6 + b"z" * 10**6))
    assert kept.startswith(b"aaa") and kept.endswith(b"zzz")
    assert "1\u202f475\u202f712 bytes left out".encode() in kept
    assert zlib.decompress(pack(b"short")) == b"short"


def test_a_locked_ledger_is_waited_for_and_then_told(tmp_path: Path) -> None:
    with open_ledger(tmp_path, create=True) as ledger:
        fill(ledger, random.Random(1), 1)
        blocker = sqlite3.connect(tmp_path / LEDGER_FILE, check_same_thread=False)
        blocker.execute("BEGIN EXCLUSIVE")
        begun = threading.Event()

        def write() -> None:
            begun.set()
            fill(ledger, random.Random(2), 1)

        with ThreadPoolExecutor() as pool:
            written = pool.submit(write)
            begun.wait()
            assert not written.done()
            blocker.rollback()
            written.result()
        blocker.close()
    assert {row[0] for row in valid_rows(tmp_path)} == {1, 2}


def test_every_statement_stands_in_a_transaction(
    small_study: Callable[..., Ferocal], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Outside of one, a statement is refused as soon as another process commits."""
    alone: list[str] = []

    class Watched(connecting._PatientConnection):
        def __init__(self, *arguments: Any, **options: Any) -> None:
            super().__init__(*arguments, **options)
            self.set_trace_callback(self.note)

        def note(self, statement: str) -> None:
            if not self.in_transaction and not statement.startswith(("BEGIN", "PRAGMA")):
                alone.append(statement)

    ferocal = small_study(rounds=1)
    monkeypatch.setattr(connecting, "_PatientConnection", Watched)
    for command in ("measure", "note seen", "compare", "inspect --integrity", "repair"):
        status, _, error = ferocal.attempt(*command.split())
        assert status in (0, 2), error
    run = ferocal.json("runs")["run_list"][0]["id"]
    assert ferocal.attempt("exclude", run, "--reason", "a lamp fell")[0] == 0
    assert not alone


def test_a_transaction_that_writes_begins_as_one(tmp_path: Path) -> None:
    # Begun as a reader it would be refused at its first write, if another wrote in between.
    with open_ledger(tmp_path, create=True) as ledger, ledger.transaction():
        other = sqlite3.connect(tmp_path / LEDGER_FILE, timeout=0, isolation_level=None)
        with pytest.raises(sqlite3.OperationalError, match="locked"):
            other.execute("BEGIN IMMEDIATE")
        other.close()


def valid_rows(directory: Path) -> list[Any]:
    return query(Ferocal(directory), "SELECT id FROM session")


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_folder_that_cannot_be_written_is_told_and_can_be_read(small_study: Study) -> None:
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    before = (ferocal.directory / LEDGER_FILE).read_bytes()
    place = str(ferocal.directory)
    if subprocess.run(["mount", "--bind", place, place], check=False).returncode:
        pytest.skip("mounting is not allowed here")
    try:
        subprocess.run(["mount", "-o", "remount,ro,bind", place], check=True)
        error = ferocal.quick("measure", "--rounds", "3", status=1)
        assert "Read-only file system" in error or "cannot be written" in error
        assert ferocal.json("compare")["effects"][0]["rounds"] == 2
        assert "cannot be written" in ferocal("report", status=1).stderr
        assert "cannot be written" in ferocal.quick("note", "dark", status=1)
    finally:
        subprocess.run(["umount", place], check=True)
    assert (ferocal.directory / LEDGER_FILE).read_bytes() == before


def test_an_empty_or_truncated_ledger_is_told(small_study: Study) -> None:
    ferocal = small_study(rounds=1)
    ledger = ferocal.directory / LEDGER_FILE
    ferocal.quick("measure")
    whole = ledger.read_bytes()
    ledger.write_bytes(whole[: len(whole) // 2])
    assert "cannot be" in ferocal.quick("compare", status=1)
    ledger.write_bytes(b"")
    assert "no such table" in ferocal.quick("compare", status=1)
    ledger.write_bytes(whole)
    assert len(valid_runs(ferocal)) == 2


def test_an_unknown_subject_of_a_ledger_is_an_error(tmp_path: Path) -> None:
    with pytest.raises(LedgerError, match="nothing recorded yet"):
        open_ledger(tmp_path)
    assert not (tmp_path / LEDGER_FILE).exists()


def test_tables_and_version_come_into_being_together(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from ferocal.ledger import upgrading

    monkeypatch.setattr(tables, "SCHEMA_VERSION", None)  # violates a constraint at the last step
    monkeypatch.setattr(upgrading, "str", lambda value: value, raising=False)
    with pytest.raises(LedgerError, match="cannot be"):
        open_ledger(tmp_path, create=True)
    monkeypatch.undo()
    there = sqlite3.connect(tmp_path / LEDGER_FILE).execute("SELECT name FROM sqlite_master")
    assert there.fetchall() == []
    open_ledger(tmp_path, create=True)


def with_new_words(document: Any) -> Any:
    """What an earlier version printed, in the words of this one."""
    if isinstance(document, list):
        return [with_new_words(item) for item in document]
    if not isinstance(document, dict):
        return document.replace("/floor", "/minimum") if isinstance(document, str) else document
    keys = {"floor": "noise_floor"}
    return {keys.get(key, key): with_new_words(value) for key, value in document.items()}


def as_judged_now(old: dict[str, Any]) -> dict[str, Any]:
    """An effect as an earlier version judged it, without what has become stricter."""
    if old.get("method") == "none":
        old["verdict"] = "seen once"
    if old["low"] is not None and old["high"] - old["low"] < 1e-6:
        # Without any spread there was no error either; now it is that of the resolution.
        stricter = ("low", "high", "p", "p_adjusted", "degrees", "verdict", "beyond_margin")
        old = {k: v for k, v in old.items() if k not in stricter}
    if old["metric"].endswith("/sustained"):
        # A share of a share is compared in points now.
        old = {k: v for k, v in old.items() if k in ("metric", "configuration", "rounds", "runs")}
    return {k: v for k, v in old.items() if k != "more_rounds_reason"}


@pytest.mark.parametrize("version", [1, 2, 3, 4, 5, 6, 7, 8])
def test_ledgers_of_earlier_versions_give_the_same_results(ferocal: Ferocal, version: int) -> None:
    """Files that the earlier versions wrote, and what they printed of them."""
    kept = Path(__file__).parent / "ledgers" / str(version)
    (ferocal.directory / "study.toml").write_bytes((kept / "study.toml").read_bytes())
    packed = (kept / "old.sqlite.gz").read_bytes()
    (ferocal.directory / LEDGER_FILE).write_bytes(gzip.decompress(packed))
    if version < 7:  # later ones are sealed
        as_if_measured_here(ferocal.directory)
    written = (ferocal.directory / LEDGER_FILE).read_bytes()
    before = with_new_words(json.loads((kept / "compare.json").read_text()))
    now = ferocal.json("compare")
    # What reads leaves the file as it is; what writes keeps it beside the new one, and says so.
    assert (ferocal.directory / LEDGER_FILE).read_bytes() == written
    told = ferocal("note", "the projector was cleaned").stderr
    assert f"kept as {LEDGER_FILE}.v{version}" in told
    (ferocal.directory / "written.sqlite").write_bytes(written)
    kept_ledger = dumped(ferocal.directory / f"{LEDGER_FILE}.v{version}")
    assert kept_ledger == dumped(ferocal.directory / "written.sqlite")
    assert ferocal("note", "once more").stderr == ""
    assert len(before["effects"]) == len(now["effects"]) == [1, 6, 2, 2, 2, 2, 2, 2][version - 1]
    for old, new in zip(before["effects"], now["effects"], strict=True):
        codes = [[caveat["code"] for caveat in e.pop("caveats")] for e in (old, new)]
        # Up to version 3 it was not told that nothing checked a level.
        further = [] if version >= 4 else ["unproven"]
        assert sorted([*codes[0], *further]) == sorted(codes[1])
        old = as_judged_now(old)
        assert {key: new[key] for key in old} == old
    assert now["criteria_changed"] == []
    assert query(ferocal, "SELECT value FROM about WHERE key = 'schema'") == [
        (str(tables.SCHEMA_VERSION),)
    ]
    assert {row[0] for row in query(ferocal, "SELECT bench FROM session")} == {"dome-node"}
    text = "".join(map(str, query(ferocal, "SELECT conditions FROM run")))
    assert "free_memory_mib" in text and "free memory" not in text
    assert ferocal.json("inspect", "--integrity")["whole"] is True
    if version == 3:
        check_what_people_said(ferocal)
    if version in (3, 7, 8):
        return
    ferocal.quick("measure", "--rounds", "6")
    assert ferocal.json("compare")["effects"][0]["rounds"] == 6
    if version == 2:
        assert len(ferocal.json("noise-floor")["noise_floors"]) == 6
        assert (
            ferocal.json("runs", "--excluded")["run_list"][0]["excluded_because"] == "door was open"
        )
        assert "no sound" in ferocal.quick("note")
        assert query(ferocal, "SELECT bench, round FROM look") == [("dome-node", 5)]


@pytest.mark.parametrize("version", [7, 8])
def test_a_damaged_ledger_of_an_earlier_version_is_not_sealed_anew_as_if_it_were_whole(
    ferocal: Ferocal, version: int
) -> None:
    kept = Path(__file__).parent / "ledgers" / str(version)
    (ferocal.directory / "study.toml").write_bytes((kept / "study.toml").read_bytes())
    good, ledger = gzip.decompress((kept / "old.sqlite.gz").read_bytes()), ferocal.directory
    for sql, told in (
        ("UPDATE reading SET value = 200 WHERE run_id = 5", "run .* is not as it was written"),
        ("DELETE FROM mark", "mark no. 1 is lost"),
        ("DELETE FROM seal WHERE id = 9", "was not written by Ferocal"),
        (
            "UPDATE about SET value = '6'; UPDATE reading SET value = 2",
            "run .* is not as it was|its tables say 6",
        ),
    ):
        (ledger / LEDGER_FILE).write_bytes(good)
        ferocal.edit(*sql.split("; "), sealed=False)
        damaged = (ledger / LEDGER_FILE).read_bytes()
        for command in ("compare", "note x"):
            status, _, err = ferocal.attempt(*command.split())
            assert status == 1 and re.search(f"^ferocal: {LEDGER_FILE}: .*{told}", err), err
        assert (ledger / LEDGER_FILE).read_bytes() == damaged
        assert not list(ledger.glob("*.v7"))
    # A damaged run that is excluded is used nowhere, and is damaged afterwards too.
    (ledger / LEDGER_FILE).write_bytes(good)
    excluded = "UPDATE reading SET value = 200 WHERE run_id = (SELECT run_id FROM mark)"
    ferocal.edit(excluded, sealed=False)
    assert ferocal.json("compare")["effects"]
    ferocal.quick("note", "no sound either")
    assert len(ferocal.json("inspect", "--integrity")["excluded_damage"]) == 1
    # Another one is set aside, from this version too.
    (ledger / LEDGER_FILE).write_bytes(good)
    ferocal.edit("UPDATE reading SET value = 200 WHERE run_id = 5", sealed=False)
    assert "set aside 0 visits and 1 run" in ferocal.quick("repair", "--reason", "a bad disk")
    assert ferocal.json("inspect", "--integrity")["whole"] is True
    # What is merged is read as it is.
    other = ledger / "other"
    other.mkdir()
    (other / "study.toml").write_bytes((kept / "study.toml").read_bytes())
    (other / LEDGER_FILE).write_bytes(good)
    ferocal.quick("merge", str(other))
    assert (other / LEDGER_FILE).read_bytes() == good
    assert len(ferocal.json("runs")["run_list"]) == {7: 12, 8: 14}[version]


def dumped(path: Path) -> list[str]:
    connection = sqlite3.connect(path)
    lines = list(connection.iterdump())
    connection.close()
    return lines


def as_if_measured_here(directory: Path) -> None:
    """Give a recorded ledger the facts of the machine that the tests run on."""
    connection = sqlite3.connect(directory / LEDGER_FILE)
    facts = json.dumps([vars(fact) for fact in read_facts()])
    with connection:
        connection.execute("UPDATE facts SET content = ? WHERE content != '[]'", (facts,))
    connection.close()


def check_what_people_said(ferocal: Ferocal) -> None:
    """Times of loading are none of the readings, and notes name what they are on."""
    runs = ferocal.json("runs", "--workload", "cold-start")["run_list"]
    assert sorted(run["started_at"][:10] for run in runs if run["started_at"]) == [
        "2026-05-01", "2026-05-02", "2026-05-02",
    ]  # fmt: skip
    assert sum(run["started_at"] is None for run in runs) == 3
    notes = ferocal.json("note")["notes"]
    assert [(n["configuration"], n["run"] is not None) for n in notes] == [
        ("r64", False), (None, False), (None, True), (None, False), (None, False),
    ]  # fmt: skip


def test_a_migrated_ledger_has_the_tables_of_a_new_one(tmp_path: Path) -> None:
    packed = (Path(__file__).parent / "ledgers" / "1" / "old.sqlite.gz").read_bytes()
    (tmp_path / "old").mkdir()
    (tmp_path / "old" / LEDGER_FILE).write_bytes(gzip.decompress(packed))
    shapes = []
    for place in (tmp_path / "old", tmp_path):
        open_ledger(place, create=True)
        connection = sqlite3.connect(place / LEDGER_FILE)
        names = [row[0] for row in connection.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name"
        )]  # fmt: skip
        shapes.append({
            name: sorted(row[1:4:2] for row in connection.execute(f"PRAGMA table_info({name})"))
            for name in names
        })  # fmt: skip
    assert shapes[0] == shapes[1]


def test_reading_a_ledger_as_a_file_drops_no_lock_on_it(small_study: Study) -> None:
    ferocal = small_study()
    elsewhere = connecting.connect(ferocal.directory / "another.sqlite")
    ferocal.quick("measure")
    path = ferocal.directory / LEDGER_FILE
    program = (
        "import sqlite3, sys\n"
        "driver = sqlite3.connect(sys.argv[1], timeout=0, isolation_level=None)\n"
        "driver.execute('UPDATE about SET value = value')"
    )

    def is_locked() -> bool:
        command = [sys.executable, "-c", program, str(path)]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert not done.returncode or "database is locked" in done.stderr, done.stderr
        return bool(done.returncode)

    with read_ledger(ferocal.directory):
        for _ in range(2):
            with read_ledger(ferocal.directory):
                assert is_locked()
            with open_ledger(ferocal.directory):
                assert is_locked()
        assert is_locked()
    with open_ledger(ferocal.directory) as ledger, ledger.transaction():
        with read_ledger(ferocal.directory):
            assert is_locked()
        assert is_locked()
    assert not is_locked()
    assert path not in [Path(file.path) for file in psutil.Process().open_files()]
    elsewhere.close()


_READING = (
    "compare", "compare --between workload", "table", "runs", "rank", "chart", "factors", "claims",
    "reference", "frames", "soak", "report -o page.html --force", "export all.csv --force",
    "inspect", "inspect --kept", "inspect --integrity", "plan", "note", "noise-floor",
)  # fmt: skip


def test_nobody_writes_between_the_queries_behind_one_answer(
    demo: tuple[Ferocal, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferocal, _ = demo
    other = sqlite3.connect(ferocal.directory / LEDGER_FILE, timeout=0, isolation_level=None)
    could_write: list[bool] = []
    opened: dict[int, Ledger] = {}
    read = Ledger.rows

    def rows(ledger: Ledger, query: str, values: Sequence[Any] = ()) -> list[Any]:
        found = read(ledger, query, values)
        opened[id(ledger)] = ledger
        try:
            other.execute("BEGIN EXCLUSIVE")
            other.execute("ROLLBACK")
            could_write.append(True)
        except sqlite3.OperationalError:
            could_write.append(False)
        return found

    monkeypatch.setattr(Ledger, "rows", rows)
    for command in _READING:
        words = [str(tmp_path / w) if w in ("page.html", "all.csv") else w for w in command.split()]
        could_write.clear()
        opened.clear()
        status, _, error = ferocal.attempt(*words)
        assert status in (0, 2), error
        assert not any(could_write[:-1]) and len(opened) <= 1, command
    assert could_write
