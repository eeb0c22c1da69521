"""The demo study, and what is true beside what was found."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from ferocal.analysis.attribution.results import FactorEffect, Judged
from ferocal.analysis.inference.effects import Effect
from ferocal.demo.bench import true_change
from ferocal.errors import FerocalError, UsageError
from ferocal.study.load import STUDY_FILE, Study


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


# The second study, in a directory of its own beside the first.
FIRMWARE = "firmware"


def write_demo(directory: Path) -> Path:
    """Write the demo study, and the one on the update; what is there already is used as it is.

    Raises
    ------
    UsageError
        When a directory holds another study.
    FerocalError
        When a file cannot be written.
    """
    path = _write(directory, STUDY_FILE)
    _write(directory / FIRMWARE, f"{FIRMWARE}.toml")
    return path


def _write(directory: Path, source: str) -> Path:
    path = directory / STUDY_FILE
    text = files("ferocal.demo").joinpath(source).read_text(encoding="utf-8")
    try:
        if path.exists() and path.read_text(encoding="utf-8") != text:
            raise UsageError(f"{path} is another study and is left as it is; choose another DIR")
        directory.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None
    return path


def watch(directory: Path, workload: str) -> float:
    """What the simulated operator reads off the stopwatch, in the unit of the metric.

    Raises
    ------
    FerocalError
        When the simulated bench does not answer.
    """
    words = [sys.executable, "-m", "ferocal.demo.bench", "watch", workload]
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
        if e.series.workload and e.judged is not None:
            moved = dict(text.split("=", 1) for text in e.together if "=" in text)
            levels = {**baseline, e.factor: e.level, **moved}
            found.append(FactorTruth(e, e.judged, true_change(e.series.workload, levels, baseline)))
    return found
