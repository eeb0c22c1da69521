"""The demo study, and what is true beside what was found."""

from __future__ import annotations

import math
import subprocess
import sys
from collections.abc import Sequence
from importlib.resources import as_file, files
from pathlib import Path

from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.results import FactorEffect, Judged
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.rank.standings import Ranking, Standing
from ferocal.analysis.series.shifts import SeriesShift
from ferocal.answers.series import SeriesAnswer
from ferocal.demo.bench import true_change
from ferocal.demo.lobby import HOSTS as LOBBY_HOSTS
from ferocal.demo.lobby import TRUE_STEPS
from ferocal.errors import FerocalError, UsageError
from ferocal.intake.references import load_references
from ferocal.ledger.reading.additions import read_references
from ferocal.ledger.writing.additions import add_references
from ferocal.ledger.writing.opening import open_ledger
from ferocal.study.load import STUDY_FILE, Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Truth:
    """An effect that was found, and the true change."""

    effect: Effect
    true_change: float

    @property
    def covered(self) -> bool:
        """Whether the interval holds the true change."""
        return self.effect.low <= self.true_change <= self.effect.high


@dataclass(frozen=True)
class FactorTruth:
    """What a level was found to do, with all that always came with it, and what is true."""

    effect: FactorEffect
    judged: Judged
    true_change: float

    @property
    def covered(self) -> bool:
        """Whether the interval holds the true change."""
        return self.judged.low <= self.true_change <= self.judged.high


@dataclass(frozen=True)
class StepTruth:
    """A true change over releases, and the step or creep that was found of it, if any."""

    bench: str
    series: Series
    kind: str
    last: str
    first: str
    true_change: float
    found: SeriesShift | None
    place_holds: bool

    @property
    def covered(self) -> bool:
        """Whether the interval holds the true change."""
        return self.found is not None and self.found.low <= self.true_change <= self.found.high


@dataclass(frozen=True)
class RankTruth:
    """A host with its index as found, and the true one."""

    standing: Standing
    true_index: float

    @property
    def covered(self) -> bool:
        """Whether the interval holds the true index."""
        return self.standing.low <= self.true_index <= self.standing.high


# The other studies, each in a separate directory beside the first.
FIRMWARE, KIOSK, HOSTS = "firmware", "kiosk", "hosts"
# By directory, the study and the program that stands in for its bench.
_FILES = {
    "": (STUDY_FILE, "bench.py"),
    FIRMWARE: (f"{FIRMWARE}.toml", "bench.py"),
    KIOSK: (f"{KIOSK}.toml", "lobby.py"),
    HOSTS: (f"{HOSTS}.toml", "lobby.py"),
}


def write_demo(directory: Path) -> Path:
    """Write the demo studies; existing ones are used as they are.

    Raises
    ------
    UsageError
        When a directory holds another study.
    FerocalError
        When a file cannot be written.
    """
    for chapter, (study, program) in _FILES.items():
        _write(directory / chapter, study, STUDY_FILE)
        _write(directory / chapter, program, program)
    return directory / STUDY_FILE


def _write(directory: Path, source: str, name: str) -> None:
    path = directory / name
    text = files("ferocal.demo").joinpath(source).read_text(encoding="utf-8")
    try:
        if path.exists() and path.read_text(encoding="utf-8") != text:
            raise UsageError(f"{path} is a different study and was not changed; choose another DIR")
        directory.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None


def carry(directory: Path, device: str) -> None:
    """Put another kiosk on the table of the simulated bench.

    Raises
    ------
    FerocalError
        When the simulated bench does not answer.
    """
    words = [sys.executable, "-IS", "lobby.py", "carry", device]
    done = subprocess.run(words, cwd=directory, capture_output=True, text=True, check=False)
    if done.returncode:
        raise FerocalError(f"the simulated bench does not answer: {done.stderr.strip()}")


def keep_references(study: Study) -> None:
    """Keep the results from elsewhere that go with a study, unless there are some."""
    with as_file(files("ferocal.demo").joinpath("references.csv")) as path:
        found = load_references(study, path)
    with open_ledger(study.directory) as ledger:
        if not read_references(ledger):
            add_references(ledger, found)


def steps_beside_truth(answer: SeriesAnswer) -> list[StepTruth]:
    """The true changes over the releases of the kiosks, each with what was found of it."""
    names = [release.name for release in answer.releases]
    series = {(v.bench, v.series.workload, v.series.metric): v.series for v in answer.values}
    found = []
    for place, workload, metric, kind, last, first, change in TRUE_STEPS:
        for (bench, *known), own in series.items():
            if known != [workload, metric] or place not in ("", bench):
                continue
            step = next((s for s in answer.steps if (s.bench, s.series) == (bench, own)), None)
            holds = step is not None and (
                kind == step.kind == "step"
                and names.index(first) in range(step.earliest + 1, step.latest + 1)
            )
            found.append(StepTruth(bench, own, kind, last, first, math.expm1(change), step, holds))
    return found


def ranks_beside_truth(ranking: Ranking) -> list[RankTruth]:
    """The rented hosts with their index over all workloads, and the true one."""
    assert ranking.against is not None
    base = LOBBY_HOSTS[ranking.standings[ranking.against].configuration]
    found = []
    for standing in ranking.standings:
        own = LOBBY_HOSTS[standing.configuration]
        logs = [
            (1 if name != "show-export" else -1) * math.log(own[name] / base[name]) for name in own
        ]
        found.append(RankTruth(standing, math.exp(sum(logs) / len(logs))))
    return found


def watch(directory: Path, workload: str) -> float:
    """What the simulated operator reads off the stopwatch, in the unit of the metric.

    Raises
    ------
    FerocalError
        When the simulated bench does not answer.
    """
    words = [sys.executable, "-IS", "bench.py", "watch", workload]
    done = subprocess.run(words, cwd=directory, capture_output=True, text=True, check=False)
    if done.returncode:
        raise FerocalError(f"the simulated bench does not answer: {done.stderr.strip()}")
    return float(done.stdout)


def beside_truth(study: Study, effects: Sequence[Effect]) -> list[Truth]:
    """Each effect of the demo study with the true change."""
    baseline = study.configuration(study.baseline).levels
    return [
        Truth(
            e, true_change(e.series.workload, study.configuration(e.configuration).levels, baseline)
        )
        for e in effects
        # Of lows, which rare hitches decide, the truth is known to the bench only.
        if e.series.role == "primary" and e.series.metric != "frame-time/1%-low"
    ]


def factors_beside_truth(study: Study, effects: Sequence[FactorEffect]) -> list[FactorTruth]:
    """What levels of the study on the update do, each with the true change."""
    baseline = study.configuration(study.baseline).levels
    found = []
    for e in effects:
        if e.series.workload and e.judged is not None and not e.is_between:
            moved = dict(text.split("=", 1) for text in e.together if "=" in text)
            levels = {**baseline, e.factor: e.level, **moved}
            found.append(FactorTruth(e, e.judged, true_change(e.series.workload, levels, baseline)))
    return found
