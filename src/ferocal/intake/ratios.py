"""Ratios that a program printed beside their parts, checked against these."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.record import runs_of_rows
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.intake.readings import Intake
    from ferocal.study.load import Study

_NAMED = re.compile(r"(?:^|[^a-z])(?:ratio|scaling|speed-?up|factor)(?:$|[^a-z])", re.IGNORECASE)
# A ratio is printed with so few digits (on the scale of logarithms).
_CLOSE = 0.02


@dataclass(frozen=True)
class WrongRatio:
    """A ratio that is not that of its parts: where it was read, and what it should be."""

    configuration: str
    workload: str
    metric: str
    value: float
    parts: tuple[str, ...]
    expected: float


def find_wrong_ratios(study: Study, intake: Intake) -> list[WrongRatio]:
    """Ratios that contradict their parts in the same run.

    A metric that is named like one is the ratio of the two others of its workload that fit in most
    runs, or in none but for a power of ten.
    """
    found = []
    metrics = study.read_metrics()
    for workload in study.workloads:
        places = [n for n, (w, _, _) in enumerate(metrics) if w == workload]
        named = [n for n in places if _NAMED.search(metrics[n][1])]
        if not named or len(places) < 3:
            continue
        # Most studies have no such metric, and grouping a million rows takes its time.
        runs, table = _by_run(intake, runs_of_rows(intake, study), places)
        for own in named:
            parts = _parts_of(table, own, [n for n in places if n not in named])
            for row, expected in _contradicting(table, own, parts):
                arm = study.configurations[int(intake.configuration_of[runs[row]])].name
                names = tuple(metrics[n][1] for n in parts or ())
                value = float(table[own][row])
                found.append(WrongRatio(arm, workload, metrics[own][1], value, names, expected))
    return found


def _by_run(
    intake: Intake, run_of: np.ndarray, places: list[int]
) -> tuple[np.ndarray, dict[int, np.ndarray]]:
    """The first row of every run, and by metric its value in each, NaN where there is none."""
    rows = np.flatnonzero(np.isin(intake.series_of, places) & ~intake.bound.given)
    _, first, run = np.unique(run_of[rows], return_index=True, return_inverse=True)
    table = {place: np.full(len(first), np.nan) for place in places}
    for place in places:
        own = intake.series_of[rows] == place
        table[place][run[own]] = intake.value[rows[own]]
    return rows[first], table


def _parts_of(table: dict[int, np.ndarray], own: int, others: list[int]) -> tuple[int, int] | None:
    """Of which two metrics one is the ratio, None where no two fit."""
    fits = {}
    for pair in itertools.permutations(others, 2):
        off = _off(table, own, pair)
        known = ~np.isnan(off)
        close = int((np.abs(off[known]) < _CLOSE).sum())
        powers = off[known] / np.log(10)
        shifted = known.any() and np.all(np.abs(powers - np.round(powers)) < _CLOSE / np.log(10))
        if close and 2 * close >= known.sum():
            fits[pair] = 1 + close
        elif shifted and np.abs(np.round(powers)).max() <= 3:
            fits[pair] = 1
    return max(fits, key=lambda pair: fits[pair]) if fits else None


def _off(table: dict[int, np.ndarray], own: int, pair: tuple[int, int]) -> np.ndarray:
    with np.errstate(all="ignore"):
        found: np.ndarray = np.log(table[own] * table[pair[1]] / table[pair[0]])
    return np.where(np.isfinite(found), found, np.nan)


def _contradicting(
    table: dict[int, np.ndarray], own: int, pair: tuple[int, int] | None
) -> Iterator[tuple[int, float]]:
    """Runs whose ratio is not that of its parts, with what it should be."""
    if pair is None:
        return
    off = _off(table, own, pair)
    for row in np.flatnonzero(np.abs(off) >= _CLOSE).tolist():
        yield row, float(table[pair[0]][row] / table[pair[1]][row])
