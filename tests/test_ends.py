"""How measuring ends: by signals, kills, full disks, other holders, and odd outputs."""

from __future__ import annotations

import errno
import json
import os
import random
import re
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import tempfile
import threading
import traceback
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.bench.execution import Completed
from ferocal.errors import FerocalError
from ferocal.ledger import connecting
from ferocal.ledger.writing.opening import open_ledger
from ferocal.ledger.writing.store import WritableLedger
from ferocal.measure import extract
from ferocal.measure.journal import _digest as journal_digest
from ferocal.measure.lock import measuring_lock
from ferocal.study.load import load_study
from test_measure import Study, query, valid_runs, wait_until

# Runs forever, the first time that it is run.
HANGS_ONCE = "[ -e begun ] || { touch begun; sleep 600; }; echo score $GAIN"


@pytest.fixture
def scratch(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("scratch")


def start(ferocal: Ferocal, scratch: Path) -> subprocess.Popen[str]:
    process = subprocess.Popen(
        [PROGRAM, "measure"],
        cwd=ferocal.directory,
        env={**surroundings(), "TMPDIR": str(scratch)},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    wait_until(lambda: (ferocal.directory / "begun").exists() or process.poll() is not None)
    return process


@pytest.mark.parametrize(
    ("signals", "status", "reason"),
    [
        (["SIGINT", "SIGINT"], 130, "interrupted with Ctrl-C"),
        (["SIGTERM"], 143, "ended by SIGTERM"),
        (["SIGHUP", "SIGINT"], 129, "ended by SIGHUP"),
    ],
)
def test_signals_end_with_their_status_and_leave_nothing_open(
    small_study: Study, scratch: Path, signals: list[str], status: int, reason: str
) -> None:
    ferocal = small_study(rounds=2, command=HANGS_ONCE)
    process = start(ferocal, scratch)
    for name in signals:
        process.send_signal(getattr(signal, name))
    out, err = process.communicate(timeout=PATIENCE)
    assert (process.returncode, err) == (status, ""), err
    assert "resume with" in out
    assert query(ferocal, "SELECT outcome, reason FROM run") == [("interrupted", reason)]
    assert list(scratch.iterdir()) == []
    ferocal.quick("measure")
    assert len(valid_runs(ferocal)) == 4


def test_ctrl_c_where_python_drops_exceptions_comes_again() -> None:
    program = """
import os, signal, time, weakref
from ferocal.cli import ending, main
class Thing: pass
def run():
    thing = Thing()
    watch = weakref.ref(thing, lambda _: os.kill(os.getpid(), signal.SIGINT))
    del thing
    time.sleep(60)
main.run = run
from ferocal.__main__ import main
main()
"""
    done = subprocess.run(
        [sys.executable, "-c", program],
        capture_output=True,
        text=True,
        check=False,
        timeout=PATIENCE,
    )
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "ferocal: interrupted\n")


@pytest.mark.parametrize("module", ["click", "ferocal.study.load", "sqlalchemy"])
def test_ctrl_c_while_modules_are_loaded_ends_in_a_line(ferocal: Ferocal, module: str) -> None:
    ferocal.quick("new", ".")
    program = f"""
import os, signal, sys
class Interrupting:
    def find_spec(self, name, *rest):
        if name == {module!r}:
            os.kill(os.getpid(), signal.SIGINT)
sys.meta_path.insert(0, Interrupting())
sys.argv = ["ferocal", "measure"]
from ferocal.__main__ import main
main()
"""
    done = subprocess.run(
        [sys.executable, "-c", program],
        cwd=ferocal.directory, env=surroundings(), capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "ferocal: interrupted\n")


def test_what_a_killed_session_left_is_cleared_by_the_next(
    small_study: Study, scratch: Path
) -> None:
    ferocal = small_study(rounds=1, command=HANGS_ONCE)
    process = start(ferocal, scratch)
    process.kill()
    process.communicate()
    (left,) = scratch.glob("ferocal-*")
    # That of a process which is still there is not touched, nor what is not ours.
    other = scratch / f"ferocal-{os.getpid()}-other"
    other.mkdir()
    (scratch / "ferocal-notes").mkdir()
    ferocal("measure", TMPDIR=str(scratch))
    assert not left.exists()
    assert sorted(path.name for path in scratch.iterdir()) == sorted([other.name, "ferocal-notes"])


def test_a_scratch_directory_taken_away_costs_no_run(small_study: Study, scratch: Path) -> None:
    takes = '[ -e begun ] || { touch begun; rm -rf "$TMPDIR"/*; }; echo score $GAIN'
    ferocal = small_study(rounds=2, command=takes)
    ferocal("measure", TMPDIR=str(scratch))
    assert query(ferocal, "SELECT outcome, count(*) FROM run GROUP BY 1") == [("ok", 4)]


ODD = {
    "deep": ("print('[' * 200_000 + ']' * 200_000)", "json", "nested too deep"),
    "digits": ("print('{\"a\":' + '9' * 6000 + '}')", "json", "thousands of digits"),
    "object": ('print(\'{"a": {"b": 1}}\')', "json", "is an object, not a number"),
    "stars": ("print(1)", "a**b.csv", "wrote no a**b.csv"),
    "elsewhere": ("print(1)", "/nowhere/*.csv", "wrote no /nowhere/*.csv"),
    "no-table": ("open('t.parquet', 'wb').write(b'PAR1')", "t.parquet", "t.parquet"),
    "bytes": ("open('u.csv', 'wb').write(bytes(range(256)) * 9)", "u.csv", "u.csv"),
}


def test_an_output_that_cannot_be_read_fails_its_run_alone(ferocal: Ferocal) -> None:
    text = """
[study]
question = "?"
margin = "5 %"
rounds = 1
runs = 1
[factor.a.level.x]
[factor.a.level.y]
"""
    for name, (program, source, _) in ODD.items():
        text += f"[workload.{name}]\ncommand = ['{{python}}', '-c', '''{program}''']\n"
        text += f'[workload.{name}.metric.m]\nbetter = "lower"\n'
        if source == "json":
            text += 'unit = "s"\nsource = { json = "/a" }\n'
        else:
            text += f'kind = "frames"\nunit = "ms"\nsource = {{ file = "{source}" }}\n'
    ferocal.write(text)
    done = ferocal("measure", status=1)
    found = query(ferocal, "SELECT workload, outcome, reason FROM run")
    assert len(found) == 2 * len(ODD)
    for workload, outcome, reason in found:
        assert outcome == "failed"
        assert ODD[workload][2] in reason, reason
    assert "nested too deep" in done.stdout


def test_a_value_amid_40_mb_of_output_is_found(small_study: Study) -> None:
    noise = "head -c 15000000 /dev/zero | base64 -w 99"
    ferocal = small_study(rounds=1, command=f"{noise}; echo score $GAIN; {noise}")
    ferocal.quick("measure")
    assert query(ferocal, "SELECT value FROM reading ORDER BY 1") == [(100.0,), (120.0,)]
    assert query(ferocal, "SELECT min(size) > 4e7 FROM output") == [(1,)]


@pytest.mark.parametrize("pattern", [r"^a(\d*)b?$", r"(?<=\nx)(\d+)", r"\b(a+)\b", r"(?:ab|b)(a*)"])
def test_a_long_output_is_searched_as_if_in_one_piece(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, pattern: str
) -> None:
    monkeypatch.setattr(extract, "_PIECE", 40)
    monkeypatch.setattr(extract, "_LONGEST", 30)
    monkeypatch.setattr(extract, "_BEFORE", 8)
    rng, file = random.Random(5), tmp_path / "output"
    for _ in range(300):
        text = "".join(rng.choices(["a", "b", "1", "x", "\n", "é"], k=rng.randrange(400)))
        file.write_text(text, encoding="utf-8", newline="")
        completed = Completed(0, stdout=b"", stdout_size=1, whole=file)
        expected = [m.group(1) for m in re.compile(pattern, re.MULTILINE).finditer(text)]
        assert extract.find_matches(completed, pattern, most=1000) == expected
    file.write_text("x" * 500)
    with pytest.raises(extract.SearchError, match="no end in sight"):
        extract.find_matches(Completed(0, stdout_size=1, whole=file), "(x+)", most=9)


@pytest.mark.parametrize("lock", ["IMMEDIATE", "EXCLUSIVE"])
def test_a_ledger_that_stays_locked_loses_no_finished_reading(
    small_study: Study, monkeypatch: pytest.MonkeyPatch, lock: str
) -> None:
    waits = "touch begun; until [ -e go ]; do sleep 0.02; done; echo score $GAIN"
    ferocal = small_study(rounds=1, command=waits)
    monkeypatch.setattr(connecting, "_patience", 1.0)
    done: list[Any] = []
    measuring = threading.Thread(target=lambda: done.append(ferocal.attempt("measure")))
    measuring.start()
    wait_until((ferocal.directory / "begun").exists)
    other = sqlite3.connect(ferocal.directory / "ledger.sqlite")
    other.execute(f"BEGIN {lock}")
    (ferocal.directory / "go").touch()
    measuring.join()
    status, _, error = done[0]
    assert status == 1
    assert "locked" in error and "the run in progress is in measure.journal" in error
    other.rollback()
    assert valid_runs(ferocal) == []
    out = ferocal.quick("measure")
    assert "recorded now" in out
    assert len(valid_runs(ferocal)) == 2 == query(ferocal, "SELECT count(*) FROM run")[0][0]
    assert not (ferocal.directory / "measure.journal").exists()
    ferocal.quick("inspect", "--integrity")
    # Of another ledger, or damaged: it is neither taken in nor lost, and stops nothing.
    journal = ferocal.directory / "measure.journal"
    for number, (content, told) in enumerate(odd_journals(), 1):
        journal.write_text(content)
        out = " ".join(ferocal.quick("measure", "--rounds", str(number + 1)).split())
        assert told in out and f"kept as measure.journal.{number}" in out
        assert journal.with_name(f"measure.journal.{number}").read_text() == content
        assert not journal.exists()


def odd_journals() -> Iterator[tuple[str, str]]:
    """Contents, and what is told of them: cut short, of another ledger, with a changed bit."""
    fields: dict[str, Any] = {n: [] for n in ("values", "absences", "traces")}
    document = {"run": "0" * 32, "streams": {}, "outcome": "ok", **fields}
    whole = json.dumps({**document, "digest": journal_digest(document)})
    yield whole[:60], "cannot be read"
    yield whole, "that this ledger does not have"
    yield whole.replace("0000", "0001", 1), "its digest does not fit"
    yield json.dumps({"digest": journal_digest({})}), "cannot be read"
    yield "[" * 100_000, "cannot be read"


def test_a_bench_is_measured_by_one_process_whoever_the_user_is(
    small_study: Study, scratch: Path
) -> None:
    ferocal = small_study(rounds=1, command=HANGS_ONCE)
    place = Path(os.environ["FEROCAL_LOCKS"])
    before = {*place.iterdir()}
    place.chmod(0o1777 if os.geteuid() == 0 else 0o700)
    process = start(ferocal, scratch)
    # Somebody else's directory, with the same bench: the machine, as no other is named.
    shared = Path(tempfile.mkdtemp())
    try:
        shutil.copy(ferocal.directory / "study.toml", shared)
        done = Ferocal(shared)("measure", status=1, HOME=str(shared), XDG_STATE_HOME=str(shared))
        assert f"process {process.pid} of " in done.stderr
        assert str(ferocal.directory) in done.stderr
        (lock,) = [path for path in place.iterdir() if str(process.pid) in path.read_text()]
        assert stat.S_IMODE(lock.stat().st_mode) == (0o644 if os.geteuid() == 0 else 0o600)
        # Whatever others have written there.
        facts = json.loads(lock.read_text())
        for odd in (
            b"", b"\xff", b"[" * 10**6, json.dumps({**facts, "process": 2**40}).encode(),
            b'{"process": Infinity}', json.dumps({**facts, "process": [[]]}).encode(),
            json.dumps({**facts, "user": "x\nferocal: all is well\x1b[2J"}).encode(),
        ):  # fmt: skip
            lock.write_bytes(odd)
            told = Ferocal(shared)("measure", status=1).stderr
            assert "already running on the bench" in told and len(told.splitlines()) == 1, told
        lock.write_text(json.dumps(facts))
        # A holder that is no more is not named.
        lock.write_text(lock.read_text().replace(f": {process.pid},", ": 999999999,"))
        refused = Ferocal(shared)("measure", status=1).stderr
        assert "already running on the bench" in refused and "process" not in refused
        if os.geteuid() == 0:
            check_as_another_user(shared)
    finally:
        shutil.rmtree(shared)
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=PATIENCE)
    assert {*place.iterdir()} == before  # it is removed when it is released


def check_as_another_user(directory: Path) -> None:
    """A child that is nobody is refused as well; what it finds is its exit status."""
    directory.chmod(0o777)
    (directory / "measure.lock").unlink()  # that of the study, which was root's
    study = load_study(directory)
    with warnings.catch_warnings():
        # Later versions of Python warn of other threads, which this child does not need.
        warnings.simplefilter("ignore", DeprecationWarning)
        child = os.fork()
    if child == 0:
        os.setgid(65534)
        os.setuid(65534)
        status = 1
        try:
            with measuring_lock(study):
                pass
        except FerocalError as error:
            status = 0 if "already running on the bench" in str(error) else 2
        except BaseException:
            traceback.print_exc()
        finally:
            os._exit(status)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A directory in which there is a megabyte."""
    place = tmp_path / "small"
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(place)]
    if os.geteuid() or subprocess.run(mount, check=False).returncode:
        pytest.skip("mounting is not allowed here")
    yield place
    subprocess.run(["umount", str(place)], check=True)


FILLS = "head -c 2000000 /dev/zero > {place}/filler"


@pytest.mark.parametrize(
    ("words", "made"),
    [("bundle", "bundle.zip"), ("open given.zip opened", "opened"), ("report -o a.html", "a.html"),
     ("combine . copy -o made --yes", "made"), ("load new.csv --add", "study.toml"),
     ("export all.csv", "all.csv")],
)  # fmt: skip
def test_what_a_killed_command_was_writing_is_cleared_by_the_next(
    small_study: Study, words: str, made: str
) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    ferocal.quick("bundle", "-o", "given.zip")
    shutil.copytree(ferocal.directory, ferocal.directory / "copy")
    new = "configuration,workload,metric,value\nauto,flight,score,7\n"
    (ferocal.directory / "new.csv").write_text(new)
    place = ferocal.directory / made
    start = f".{place.name}-"
    nobody = 2**22 + 1  # no process has this number
    left, other, ours = (place.parent / f"{start}{n}" for n in (f"{nobody}-x", f"{os.getpid()}-x",
                                                               "notes"))  # fmt: skip
    for scratch in (left, other, ours):
        scratch.mkdir()
        (scratch / "half").write_text("half")
    ferocal.quick(*words.split())
    assert not left.exists()
    assert (other / "half").exists() and (ours / "half").exists()
    assert {p.name for p in place.parent.glob(".*")} == {other.name, ours.name}


def test_files_are_written_where_directories_cannot_be_locked(
    small_study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    left = ferocal.directory / f".a.html-{2**22 + 1}-x"
    left.mkdir()
    monkeypatch.setattr("fcntl.flock", _cannot_lock)
    ferocal.quick("report", "-o", "a.html")
    # Whether another machine still writes there cannot be known.
    assert left.exists() and (ferocal.directory / "a.html").exists()


def _cannot_lock(*_: object) -> None:
    raise OSError(errno.EBADF, "Bad file descriptor")


def test_a_level_is_added_with_its_readings_or_not_at_all(
    small_study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    text = (ferocal.directory / "study.toml").read_text()
    new = ferocal.directory / "new.csv"
    new.write_text("configuration,workload,metric,value\nauto,flight,score,7\n")
    with monkeypatch.context() as failing:
        failing.setattr(WritableLedger, "_check_touched", _fail)
        status, _, error = ferocal.attempt("load", "new.csv", "--add")
    assert status == 1 and "disk I/O error" in error
    assert (ferocal.directory / "study.toml").read_text() == text
    ferocal.quick("load", "new.csv", "--add")
    assert "level.auto" in (ferocal.directory / "study.toml").read_text()
    assert len(valid_runs(ferocal)) == 3


def _fail(*_: object) -> None:
    raise sqlite3.OperationalError("disk I/O error")


@pytest.mark.parametrize("where", ["scratch", "study"])
def test_a_disk_that_fills_up_is_told_as_that(
    small_study: Study, small_disk: Path, where: str
) -> None:
    filler = f"{FILLS.format(place=small_disk)}; echo score $GAIN"
    if where == "scratch":
        ferocal = small_study(rounds=1, command=filler)
        done = ferocal("measure", status=1, TMPDIR=str(small_disk))
    else:
        # The check is what fails, since it writes; its configuration may well be active.
        verify = "verify = [{ shell = true, command = 'echo on > probe', equals = '' }]"
        source = small_study(rounds=1, verify=verify).directory / "study.toml"
        ferocal = Ferocal(small_disk)
        ferocal.write(source.read_text())
        # While there is room, the ledger is made.
        ferocal.quick("note", "begun")
        fill(small_disk)
        done = ferocal("measure", status=1)
    assert "full" in done.stderr
    assert "not active" not in done.stderr + done.stdout
    (small_disk / "filler").unlink()
    assert query(ferocal, "SELECT count(*) FROM run WHERE outcome = 'ok'") == [(0,)]


def fill(place: Path) -> None:
    subprocess.run(FILLS.format(place=place), shell=True, check=False, capture_output=True)


def test_new_and_exports_leave_nothing_half(
    small_study: Study, small_disk: Path, tmp_path: Path
) -> None:
    fill(small_disk)
    assert "No space left" in Ferocal(small_disk)("new", ".", status=1).stderr
    ferocal = small_study(rounds=2)
    ferocal.quick("measure")
    for words in (["report", "-o"], ["export"], ["export"]):
        target = small_disk / {"report": "r.html"}.get(words[0], "all.csv")
        assert "No space left" in ferocal(*words, str(target), status=1).stderr
    assert [path.name for path in small_disk.iterdir()] == ["filler"]


def test_a_full_disk_leaves_no_ledger_that_is_none(small_study: Study, small_disk: Path) -> None:
    study = (small_study(rounds=1).directory / "study.toml").read_text()
    ferocal = Ferocal(small_disk)
    ferocal.write(study)
    fill(small_disk)
    # One page after the other is free, until it is made.
    for _ in range(400):
        os.truncate(small_disk / "filler", (small_disk / "filler").stat().st_size - 4096)
        status, _, error = ferocal.attempt("note", "begun")
        assert status in (0, 1) and "fault of Ferocal" not in error
        left = {path.name for path in small_disk.iterdir()} - {"filler", "study.toml"}
        if status == 0:
            break
        assert left <= {"ledger.sqlite"}, left
        if left:
            # It was made whole; only the note had no room.
            assert ferocal.quick("note") == 'no notes yet; add one: ferocal note "no sound"\n'
            (small_disk / "ledger.sqlite").unlink()
    assert status == 0


@pytest.mark.parametrize("other", [False, True])
def test_ledgers_are_created_where_files_cannot_be_linked(
    small_study: Study, monkeypatch: pytest.MonkeyPatch, other: bool
) -> None:
    ferocal = small_study(rounds=1)
    ledger = ferocal.directory / "ledger.sqlite"

    def refuse(path: Path, made: Path) -> None:
        if other and path == ledger:
            shutil.copy(made, path)  # another process was faster, and has written to it
            ferocal("note", "of the other")
        raise OSError(errno.EPERM, "Operation not permitted")

    monkeypatch.setattr(Path, "hardlink_to", refuse)
    with open_ledger(ferocal.directory, create=True):
        pass
    ferocal.quick("note", "ours")
    told = [note["text"] for note in ferocal.json("note")["notes"]]
    assert sorted(told) == (["of the other", "ours"] if other else ["ours"])
    assert stat.S_IMODE(ledger.stat().st_mode) == 0o600 or other


def test_studies_are_combined_on_a_full_disk_or_it_is_told(
    small_study: Study, small_disk: Path
) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    shutil.copytree(ferocal.directory, other := ferocal.directory.with_name("other"))
    words = ["combine", ".", str(other), "-o", str(small_disk / "made"), "--yes"]
    for room in (0, 20, 60, 100, 140):
        fill(small_disk)
        filler = small_disk / "filler"
        os.truncate(filler, filler.stat().st_size - room * 1024)
        status, _, error = ferocal.attempt(*words)
        assert (status == 1 and "full" in error) or "No space" in error, error
        assert [path.name for path in small_disk.iterdir()] == ["filler"]


def test_full_places_of_our_own_keep_nobody_from_working(
    small_study: Study, small_disk: Path
) -> None:
    fill(small_disk)
    names = ("XDG_CACHE_HOME", "XDG_STATE_HOME", "FEROCAL_LOCKS")
    places: dict[str, Any] = dict.fromkeys(names, str(small_disk))
    ferocal = small_study(rounds=2)
    ferocal("measure", **places)
    ferocal("compare", **places)
    assert len(valid_runs(ferocal)) == 4


@pytest.mark.parametrize("command", ["--help", "inspect", "compare", "runs --json"])
def test_an_output_that_takes_nothing_is_told(small_study: Study, command: str) -> None:
    ferocal = small_study(rounds=1)
    ferocal.quick("measure")
    with Path("/dev/full").open("w") as full:
        done = subprocess.run(
            [PROGRAM, *command.split()],
            cwd=ferocal.directory, env=surroundings(), stdout=full, stderr=subprocess.PIPE,
            text=True, check=False,
        )  # fmt: skip
    assert done.returncode in (1, 2), done.stderr
    assert "Traceback" not in done.stderr and done.stderr.startswith("ferocal: ")


def test_a_clock_that_is_set_back_changes_no_order(small_study: Study) -> None:
    # The score falls from visit to visit, which paired rounds do not mind.
    ferocal = small_study(rounds=6, command="echo score $((GAIN * 10 - FEROCAL_VISIT * 9))")
    ferocal.quick("measure")
    order = [run["id"] for run in ferocal.json("runs")["run_list"]]
    expected = ferocal.effect()
    for table in ("visit", "run"):
        half = "visit_id > 6" if table == "run" else "id > 6"
        ferocal.edit(
            f"UPDATE {table} SET started_at = '2001' || substr(started_at, 5) WHERE {half}"
        )
    assert [run["id"] for run in ferocal.json("runs")["run_list"]] == order
    assert ferocal.effect() == expected
    # Where the ledger is merged into another one, there are only the times to go by.
    other = Ferocal(ferocal.directory / "other")
    other.directory.mkdir()
    shutil.copy(ferocal.directory / "study.toml", other.directory)
    other.quick("note", "begun")
    other.quick("merge", "..")
    assert [run["id"] for run in other.json("runs")["run_list"]] == order[6:] + order[:6]


def test_the_age_of_a_trace_is_told_by_the_file_system(ferocal: Ferocal) -> None:
    ferocal.write(
        """
        [study]
        question = "?"
        margin = "5 %"
        rounds = 2
        runs = 1
        [factor.a.level.x]
        [factor.a.level.y]
        [workload.w]
        shell = true
        command = "[ -e t.csv ] || seq 1 100 > t.csv"
        [workload.w.metric.m]
        kind = "frames"
        unit = "ms"
        source = { file = "t.csv" }
        """
    )
    # As if this machine were a day ahead of the server that keeps the files.
    done = subprocess.run(
        [sys.executable, "-c", AHEAD, "measure"],
        cwd=ferocal.directory, env=surroundings(), capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 1, done.stderr
    assert query(ferocal, "SELECT outcome, reason FROM run") == [
        ("ok", None),
        *[("failed", "m: t.csv is from before this run: the workload did not write it")] * 3,
    ]


AHEAD = """
import sys, time
real = time.time_ns
time.time_ns = lambda: real() + 86_400 * 10**9
sys.argv[0] = "ferocal"
from ferocal.__main__ import main
main()
"""
