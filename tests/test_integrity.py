"""A ledger in bad hands: bits that flip, rows that are lost or changed, values that cannot be."""

from __future__ import annotations

import contextlib
import random
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ferocal
from ferocal.ledger import refusing
from ferocal.ledger.integrity.check import find_broken
from ferocal.ledger.integrity.seals import Broken
from ferocal.ledger.opening import LEDGER_FILE
from ferocal.ledger.records import Note
from ferocal.ledger.writing.additions import add_note
from ferocal.ledger.writing.opening import open_ledger
from test_measure import query

Study = Callable[..., Ferocal]


@pytest.fixture(scope="module")
def measured(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A study with a bit of everything in its ledger."""
    directory = tmp_path_factory.mktemp("measured")
    ferocal = Ferocal(directory)
    ferocal.write(STUDY)
    ferocal.quick("measure")
    (directory / "more.csv").write_text(MORE)
    ferocal.quick("load", "more.csv")
    ferocal.quick("note", "no sound", "--configuration", "on")
    ferocal.quick("exclude", ferocal.json("runs")["run_list"][0]["id"], "--reason", "door open")
    ferocal.quick(
        "correct", ferocal.json("runs")["run_list"][3]["id"], "score", "101", "--reason", "x"
    )
    poster = ("--metric", "flight score", "--value", "118", "--source", "a poster")
    ferocal.quick("reference", "add", "--device", "Halden 5", *poster)
    return directory


MORE = "configuration,workload,metric,round,value\noff,flight,score,7,100\non,flight,score,7,121\n"
STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
rounds = 3
[bench.dome-node]
[factor.mode.level.off]
environment = { GAIN = "100" }
[factor.mode.level.on]
environment = { GAIN = "120" }
verify = [{ command = "echo on", equals = "on" }]
[workload.flight]
shell = true
command = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9.]+)" }
[claim.better]
says = "It is faster."
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""


@pytest.fixture
def copy(measured: Path, tmp_path: Path) -> Ferocal:
    for name in ("study.toml", LEDGER_FILE):
        shutil.copy(measured / name, tmp_path / name)
    return Ferocal(tmp_path)


def test_flipped_bits_are_told_or_change_nothing(copy: Ferocal) -> None:
    ledger, rng = copy.directory / LEDGER_FILE, random.Random(4)
    good = ledger.read_bytes()
    commands = ("compare", "runs", "claims", "note", "reference")
    expected = {name: copy.quick(name, "--json") for name in commands}
    told = 0
    for number in range(80):
        bad = bytearray(good)
        for _ in range(rng.choice([1, 1, 4])):
            bad[rng.randrange(len(bad))] ^= 1 << rng.randrange(8)
        # What another flip has led SQLite to leave beside it is not of this one.
        for path in copy.directory.glob(f"{LEDGER_FILE}-*"):
            path.unlink()
        ledger.write_bytes(bad)
        name = commands[number % len(commands)]
        status, out, err = copy.attempt(name, "--json")
        assert (status, out) == (0, expected[name]) or (status == 1 and LEDGER_FILE in err)
        told += status
    assert told > 5
    ledger.write_bytes(good)
    assert copy.quick("compare", "--json") == expected["compare"]


@pytest.mark.parametrize(
    ("sql", "told"),
    [
        ("UPDATE reading SET value = value * 1.0001 WHERE run_id = 2", "run .* is not as it was"),
        ("UPDATE visit SET configuration = 'on' WHERE id = 1", "visit .* is not as it was"),
        ("UPDATE facts SET content = '[]'", "facts no. 1 is not as it was written"),
        ("UPDATE metric SET unit = 'fps'", "metric no. 1 is not as it was"),
        ("DELETE FROM mark", "mark no. 1 is lost"),
        ("DELETE FROM correction", "correction no. 1 is lost"),
        ("UPDATE note SET text = 'sound'", "note .* is not as it was"),
        ("UPDATE session SET study_file = ''", "session .* is not as it was"),
        ("DELETE FROM output WHERE run_id = 2", "run .* is not as it was"),
        ("DELETE FROM seal WHERE id = 4", "the chain of seals does not hold"),
        ("DELETE FROM mark; DELETE FROM seal WHERE kind = 'mark'", "the chain of seals"),
        ("DELETE FROM seal; DELETE FROM chain", "was not written by Ferocal"),
        ("UPDATE claim SET before_readings = 0", "claim .* is not as it was"),
        (
            "INSERT INTO mark SELECT 9, printf('%032x', 9), 2, at, 1, 'x' FROM mark",
            "mark .* was not written by Ferocal",
        ),
    ],
)
def test_rows_that_are_changed_lost_or_added_are_named(copy: Ferocal, sql: str, told: str) -> None:
    assert copy.json("inspect", "--integrity")["whole"] is True
    copy.edit(*sql.split("; "), sealed=False)
    status, out, err = copy.attempt("compare")
    assert (status, out) == (1, "")
    assert_matches(err, rf"ledger.sqlite: is damaged: .*{told}.*inspect --integrity")
    found = copy.quick("inspect", "--integrity", status=1)
    assert_matches(found, rf"damaged: .*{told}")


def assert_matches(text: str, pattern: str) -> None:
    import re

    assert re.search(pattern, " ".join(text.split())), text


def test_a_damaged_run_can_be_left_out(copy: Ferocal) -> None:
    run = copy.json("runs")["run_list"][2]["id"]
    copy.edit(f"UPDATE run SET wall = 2 * wall WHERE substr(uid, 1, 10) = '{run}'", sealed=False)
    assert "ferocal exclude" in copy.attempt("compare")[2]
    copy.quick("exclude", run, "--reason", "damaged")
    assert copy.json("compare")["effects"]
    assert "it is excluded" in copy.quick("inspect", "--integrity")
    copy("measure")  # another takes its place, and is sealed
    assert copy.json("inspect", "--integrity")["whole"] is True
    # The damage counts again as soon as the run does.
    copy.quick("restore", run)
    assert copy.attempt("compare")[0] == 1


WRONG = [
    ("UPDATE reading SET value = 9e999", "reading of run .* cannot have value = inf"),
    ("UPDATE reading SET value = 'fast'", "cannot have value = 'fast'"),
    ("UPDATE visit SET round = 999999999999 WHERE id = 1", "visit .* cannot have round"),
    ("UPDATE visit SET round = 0 WHERE id = 1", "visit .* cannot have round = 0"),
    ("UPDATE visit SET levels = '{\"mode\": 3}' WHERE id = 2", "cannot have levels.mode"),
    ("UPDATE visit SET checks = '[7]' WHERE id = 2", "cannot have checks.0"),
    ("UPDATE visit SET remarks = '{}' WHERE id = 2", "cannot have remarks"),
    ("UPDATE visit SET subjects = '[' WHERE id = 2", "cannot have subjects"),
    ("UPDATE facts SET content = '{\"a\": 1}'", "facts no. 1 cannot have content"),
    ("UPDATE run SET outcome = 'fine' WHERE id = 2", "run .* cannot have outcome = 'fine'"),
    ("UPDATE run SET started_at = 'noon' WHERE id = 2", "cannot have started_at = 'noon'"),
    ("UPDATE run SET uid = '../../etc' WHERE id = 2", "cannot have uid = '../../etc'"),
    ("UPDATE run SET workload = '../up' WHERE id = 2", "cannot have workload: .*is not a name"),
    ("UPDATE visit SET bench = 'a b'", "cannot have bench: .*is not a name"),
    ("UPDATE visit SET configuration = X'00ff' WHERE id = 1", "cannot have configuration"),
    ("UPDATE metric SET name = 'a/../b\n'", "cannot have name"),
    ("UPDATE run SET conditions = '7' WHERE id = 2", "cannot have conditions"),
    ("UPDATE session SET criteria = '{\"question\": 2}'", "cannot have criteria"),
    ('UPDATE facts SET content = \'[{"name": "a", "value": "b"}]\'', "content.0.kind"),
    ('UPDATE run SET conditions = \'{"before": {"load": [1]}, "after": {}}\'', "before.load"),
    ("UPDATE note SET date = '9999-99-99'", "note .* cannot have date = '9999-99-99'"),
    ("UPDATE run SET started_at = '2026-02-30T10:00:00.000+00:00'", "cannot have started_at"),
    ("UPDATE run SET started_at = '2026-02-03T10:00:00.000'", "cannot have started_at"),
    ("UPDATE correction SET value = 1e308", "correction .* cannot have value = 1e\\+308"),
    ("UPDATE reading SET samples = 9223372036854775807", "cannot have samples"),
    ("UPDATE reading SET low = 5, high = 4", "cannot have low = 5"),
]


@pytest.mark.parametrize(("sql", "told"), WRONG)
def test_what_no_row_can_hold_is_refused_when_opened_and_when_merged(
    copy: Ferocal, measured: Path, tmp_path: Path, sql: str, told: str
) -> None:
    """Sealed as if Ferocal had written it."""
    copy.edit(sql)
    assert_matches(copy.attempt("compare")[2], f"is damaged: .*{told}")
    target = Ferocal(tmp_path / "target")
    shutil.copytree(measured, target.directory)
    before = (target.directory / LEDGER_FILE).read_bytes()
    status, _, err = target.attempt("merge", str(copy.directory))
    assert status == 1
    assert_matches(err, f"{copy.directory.name}.*is damaged: .*{told}")
    assert (target.directory / LEDGER_FILE).read_bytes() == before


@pytest.mark.parametrize(
    ("sql", "told"),
    [
        ("PRAGMA user_version = 0", "its header says version 0, its tables say 9"),
        ("PRAGMA application_id = 7", "its header says version 0"),
        ("UPDATE about SET value = '6' WHERE key = 'schema'", "its tables say 6"),
        ("CREATE TRIGGER t AFTER INSERT ON note BEGIN DELETE FROM mark; END", "holds a trigger"),
        ("CREATE VIEW v AS SELECT 1", "holds a view that is not Ferocal's: v"),
        ("CREATE TABLE extra (id)", "holds a table that is not Ferocal's: extra"),
    ],
)
def test_a_ledger_cannot_be_made_an_unsealed_one(copy: Ferocal, sql: str, told: str) -> None:
    copy.edit(sql, sealed=False)
    for command in (["compare"], ["note", "no sound"], ["measure"]):
        status, _, err = copy.attempt(*command)
        assert status == 1
        assert_matches(err, f"is damaged: .*{told}")


def test_what_is_in_a_write_ahead_log_is_checked_too(copy: Ferocal) -> None:
    assert copy.json("compare")["effects"]
    connection = sqlite3.connect(copy.directory / LEDGER_FILE)
    connection.execute("PRAGMA journal_mode = WAL")
    assert copy.json("compare")["effects"]
    connection.execute("UPDATE reading SET value = value + 1 WHERE run_id = 2")
    connection.commit()
    assert_matches(copy.attempt("compare")[2], "is damaged: run .* is not as it was written")
    connection.close()


@pytest.mark.parametrize("others", range(4))
def test_what_this_process_wrote_itself_is_not_checked_again_and_what_others_wrote_is(
    copy: Ferocal, others: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    checks: list[list[Broken]] = []
    ledger = copy.directory / LEDGER_FILE
    copy.quick("compare")

    def check(driver: sqlite3.Connection) -> list[Broken]:
        checks.append(find_broken(driver))
        return checks[-1]

    monkeypatch.setattr(refusing, "find_broken", check)

    def change_by_hand(number: int) -> None:
        if number == others:
            with contextlib.closing(sqlite3.connect(ledger)) as driver, driver:
                driver.execute("UPDATE reading SET value = value + 1")

    with contextlib.closing(open_ledger(copy.directory)) as opened:
        for number in range(3):
            change_by_hand(number)
            if number < 2:
                add_note(opened, Note("no sound"))
    assert copy.attempt("compare")[0] == (others < 3)
    assert bool(checks) == (others < 3)
    content = bytearray(ledger.read_bytes())
    content[content.index(b"no sound")] ^= 1
    ledger.write_bytes(content)
    assert "is damaged" in copy.quick("compare", status=1)


def test_entries_that_are_gone_are_noticed(copy: Ferocal) -> None:
    before = copy.json("inspect", "--integrity")
    earlier = (copy.directory / LEDGER_FILE).read_bytes()
    copy("exclude", copy.json("runs")["run_list"][5]["id"], "--reason", "dark")
    after = copy.json("inspect", "--integrity")
    assert (after["ledger"], after["missing_entries"]) == (before["ledger"], [])
    assert after["entries"] == before["entries"] + 1
    (copy.directory / LEDGER_FILE).write_bytes(earlier)
    assert_matches(
        copy("compare").stderr, f"{after['entries']} entries were seen here on .*deleted"
    )
    assert copy("compare").stderr == ""
    assert len(copy.json("inspect", "--integrity")["missing_entries"]) == 1
    copy.quick("export", "all.csv")
    name = f"{before['ledger']}:{before['entries']}"
    assert (copy.directory / "all.csv").read_text().splitlines()[1].endswith(name)
    copy.quick("report", "-o", "page.html")
    page = (copy.directory / "page.html").read_text()
    assert f"ledger {before['ledger'][:8]}, {before['entries']} entries" in page


@pytest.mark.parametrize(
    ("sql", "sealed", "lost"),
    [
        ("UPDATE reading SET value = 1e300 WHERE run_id = 2", True, (0, 1)),
        ("UPDATE visit SET started_at = 'noon' WHERE id = 2", True, (1, 2)),
        ("UPDATE metric SET unit = 'fps'", False, (0, 14)),
        ("UPDATE note SET text = 'sound'", False, (0, 0)),
        ("DELETE FROM mark", False, (0, 0)),
        ("DELETE FROM seal WHERE id = 4", False, None),
        ("UPDATE chain SET length = 'x', head = 'y'", False, (0, 0)),
        ("CREATE TRIGGER t AFTER INSERT ON note BEGIN DELETE FROM run; END", True, (0, 0)),
        ("PRAGMA user_version = 0", True, (0, 0)),
    ],
)
def test_what_is_damaged_can_be_set_aside(
    copy: Ferocal, sql: str, sealed: bool, lost: tuple[int, int] | None
) -> None:
    ledger, tables = copy.directory / LEDGER_FILE, ("visit", "run")
    counts = [query(copy, f"SELECT count(*) FROM {name}")[0][0] for name in tables]
    copy.edit(sql, sealed=sealed)
    damaged = ledger.read_bytes()
    assert "damaged: " in copy.quick("inspect", "--integrity", status=1)
    assert "would set aside" in copy.quick("repair", "--reason", "test", "--preview")
    assert ledger.read_bytes() == damaged
    copy.quick("repair", "--reason", "the disk failed")
    assert copy.json("inspect", "--integrity")["whole"] is True
    now = [query(copy, f"SELECT count(*) FROM {name}")[0][0] for name in tables]
    gone = tuple(before - after for before, after in zip(counts, now, strict=True))
    assert lost is None or gone == lost
    assert copy("compare").stderr == ""
    for command in ("runs", "note", "table"):
        copy.quick(command)
    (kept,) = copy.directory.glob(f"{LEDGER_FILE}.damaged")
    with sqlite3.connect(kept) as connection:
        assert connection.execute("SELECT count(*) FROM run").fetchone()[0] == counts[1]
    assert "the disk failed" in " ".join(copy.quick("note").split())
    assert "the ledger is intact" in copy.quick("repair", "--reason", "again")
    copy.quick("measure")


def test_a_trace_that_cannot_be_read_is_not_merged(copy: Ferocal, tmp_path: Path) -> None:
    directory = copy.directory
    text = (directory / "study.toml").read_text() + SHOW
    target = Ferocal(tmp_path / "target")
    target.directory.mkdir()
    target.write(text)
    copy.write(text)
    copy.quick("measure")
    copy.edit("UPDATE trace SET content = X'00'")
    assert_matches(target.attempt("merge", str(directory))[2], "run .*: a trace is damaged")
    assert query(target, "SELECT count(*) FROM run") == [(0,)]
    for command in (["frames", "-o", "f.svg"], ["export", "all.csv", "--traces", "traces"]):
        status, _, err = copy.attempt(*command)
        assert status == 1
        assert "a trace is damaged" in err


SHOW = """
[workload.show]
command = "seq 11 40"
metric.frames = { unit = "ms", kind = "frames", source = { output = "lines" } }
"""
