"""What is disturbed: commands that write, the folders they work in, and what is there afterwards.

Whatever happens to a command, its folder is as it was before or as it is after an undisturbed one,
with nothing left beside; called again, it ends as an undisturbed one does.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import sqlite3
import subprocess
import time
import zipfile
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd
from material import LEDGER, PROGRAM, ROWS, STUDY

CACHE, SCRATCH = "cache", "scratch"
# What is known of a folder that is not in it.
_ASIDE = (CACHE, SCRATCH, "locks")
_ROWS = """
SELECT v.configuration, v.round, r.workload, r.number, r.warmup, r.outcome, m.name, d.value
FROM run r JOIN visit v ON v.id = r.visit_id LEFT JOIN reading d ON d.run_id = r.id
LEFT JOIN metric m ON m.id = d.metric_id WHERE r.outcome <> 'interrupted'
"""
_CORRECTED = "SELECT value, reason FROM correction"
_MARKED = "SELECT excluded, reason FROM mark"
_TRACED = "SELECT t.metric, t.number, t.length, r.number FROM trace t JOIN run r ON r.id = t.run_id"


@dataclass(frozen=True)
class Job:
    """A command that writes; ``RUN`` in it is the id of a run. ``measures`` real programs.

    What a call ``adds`` is there twice after two calls, as it should be. One file may ``lead``:
    when a call is killed, it may be as after while all else is as before.
    """

    name: str
    words: tuple[str, ...]
    measures: bool = False
    adds: bool = False
    lead: str = ""


JOBS = (
    Job("study", ("measure",), measures=True),
    Job("import", ("load", "rows.csv")),
    Job("import that adds a level", ("load", "new.csv", "--add"), lead="study.toml"),
    Job(
        "correction",
        ("correct", "RUN", "score", "99", "--reason", "a digit was missing"),
        adds=True,
    ),
    Job("merge", ("merge", "copy")),
    Job("combine", ("combine", "copy", "other", "-o", "made", "--yes")),
    Job("bundle", ("bundle", "-o", "bundle.zip")),
    Job("open", ("open", "given.zip", "opened")),
    Job("exclusion", ("exclude", "RUN", "--reason", "dark"), adds=True),
    Job("page", ("report", "-o", "page.html")),
)


def make_studies(folder: Path) -> None:
    """A measured study with a copy, another study, a bundle, and files to import beside it."""
    (folder / "study.toml").write_text(STUDY)
    rows = pd.DataFrame(ROWS)
    rows.to_csv(folder / "rows.csv", index=False)
    new = rows[rows["configuration"] == "on"].assign(configuration="auto")
    new.to_csv(folder / "new.csv", index=False)
    for name in ("copy", "other"):
        (folder / name).mkdir()
        (folder / name / "study.toml").write_text(STUDY)
    for study, words in (
        (".", ("measure",)),
        (".", ("bundle", "-o", "given.zip")),
        ("copy", ("measure", "--rounds", "5")),
        ("other", ("load", "../rows.csv")),
    ):
        call(folder / study, words, folder).check_returncode()
    for name in _ASIDE:
        shutil.rmtree(folder / name, ignore_errors=True)


def surroundings(folder: Path) -> dict[str, str]:
    """The environment of a command: what it keeps elsewhere is below the folder too."""
    places = {"XDG_CACHE_HOME": CACHE, "FEROCAL_LOCKS": "locks", "TMPDIR": SCRATCH}
    for name in places.values():
        (folder / name).mkdir(exist_ok=True)
    return {**os.environ, **{name: str(folder / place) for name, place in places.items()}}


def call(study: Path, words: tuple[str, ...], folder: Path) -> subprocess.CompletedProcess[str]:
    """Run a command to its end."""
    return subprocess.run(
        [PROGRAM, *words], cwd=study, env=surroundings(folder), capture_output=True, text=True,
        check=False,
    )  # fmt: skip


def copied(job: Job, good: Path, folder: Path) -> tuple[str, ...]:
    """A folder for one attempt, and the words of the call there."""
    shutil.copytree(good, folder)
    if job.measures:
        (folder / LEDGER).unlink()
        return job.words
    with contextlib.closing(sqlite3.connect(folder / LEDGER)) as driver:
        (uid,) = driver.execute(
            "SELECT uid FROM run WHERE workload = 'flight' AND outcome = 'ok' ORDER BY id"
        ).fetchone()
    return tuple(uid[:12] if word == "RUN" else word for word in job.words)


def state_of(folder: Path) -> dict[str, Any]:
    """What is in a folder, by name: the content of ledgers, whether other files are whole."""
    found: dict[str, Any] = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        beside = name.partition("/")[0] in _ASIDE or name.endswith(("-wal", "-shm", "-journal"))
        if not beside and not path.is_dir():
            found[name] = "being written" if name.startswith(".") else _content(path)
    return found


def left_in(folder: Path) -> list[str]:
    """What a command left in the place for scratch files."""
    return sorted(path.name for path in (folder / SCRATCH).glob("*"))


def _content(path: Path) -> Any:
    if path.name == LEDGER:
        return content_of_ledger(path)
    if path.suffix == ".zip":
        with zipfile.ZipFile(path) as archive:
            return (sorted(archive.namelist()), archive.testzip())
    if path.suffix == ".html":
        return path.read_text().rstrip().endswith("</html>")
    return path.read_bytes()


def content_of_ledger(path: Path) -> tuple[Counter[Any], list[Any]]:
    """What a ledger says, row by row with how often, and what is broken in it."""
    from ferocal.ledger.integrity.check import find_broken

    with contextlib.closing(sqlite3.connect(path)) as driver:
        rows: Counter[Any] = Counter()
        for query in (_ROWS, _CORRECTED, _MARKED, _TRACED):
            rows.update(driver.execute(query).fetchall())
        return rows, [tuple(broken) for broken in find_broken(driver)]


@dataclass(frozen=True)
class Course:
    """A job, the folder for it, and what is there before and after an undisturbed call."""

    job: Job
    good: Path
    before: dict[str, Any]
    after: dict[str, Any]
    seconds: float

    def wrong_with(self, folder: Path, *, ended: bool = False) -> str:
        """What is not as it must be after a disturbed call, or after the one that ``ended``."""
        try:
            state = state_of(folder)
            if not ended:
                # What a killed process was writing is gone when the next one has ended.
                state = {name: found for name, found in state.items() if not name.startswith(".")}
        except (sqlite3.Error, OSError, zipfile.BadZipFile) as error:
            return f"unreadable: {error}"
        if state == self.after or (state == self.before and not ended):
            return ""
        lead = self.job.lead
        if lead in state and not ended and state == {**self.before, lead: self.after[lead]}:
            return ""
        if self.job.measures and not ended:
            return self._wrong_runs(state)
        changed = [
            name for name in {*state, *self.after} if state.get(name) != self.after.get(name)
        ]
        return f"neither as before nor as after: {', '.join(sorted(changed))}"

    def wrong_when_called_again(self, folder: Path, words: tuple[str, ...]) -> Iterator[str]:
        """What is wrong after one more call, which is not made where it would add a second time."""
        if self.job.adds and not self.wrong_with(folder, ended=True):
            return
        again = call(folder, words, folder)
        if "Traceback" in again.stderr or again.returncode not in (0, 1, 2, 4):
            yield f"called again: {again.returncode} {again.stderr[-300:]}"
        if wrong := self.wrong_with(folder, ended=True):
            yield f"called again ({again.returncode}): {wrong} {again.stderr[-300:]}"
        if left := left_in(folder):
            yield f"left behind: {', '.join(left)}"

    def _wrong_runs(self, state: dict[str, Any]) -> str:
        rows, broken = state.get(LEDGER, (Counter(), []))
        if broken:
            return f"damaged: {broken[0]}"
        known = self.after[LEDGER][0]
        running = Counter({row: n for row, n in rows.items() if "running" in row})
        too_many = rows - running - known
        beside = {*state} - {*self.after} - {"measure.journal"}
        return f"{too_many}, {beside}" if too_many or beside else ""


def courses(good: Path, scratch: Path, names: Sequence[str] = ()) -> list[Course]:
    """Every job, or those of these names, with what it does undisturbed."""
    found = []
    for job in JOBS:
        if names and job.name not in names:
            continue
        folder = scratch / "undisturbed"
        words = copied(job, good, folder)
        before, start = state_of(folder), time.perf_counter()
        done = call(folder, words, folder)
        seconds = time.perf_counter() - start
        assert done.returncode == 0, f"{job.name}: {done.stderr}"
        after = state_of(folder)
        assert after != before and not left_in(folder), job.name
        found.append(Course(job, good, before, after, seconds))
        shutil.rmtree(folder)
    return found
