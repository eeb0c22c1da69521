"""Two arms held against each other, round by round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ferocal.analysis.paired import PairedResult, paired_t
from ferocal.analysis.readings import VisitSummaries

Side = dict[int, tuple[float, int]]


@dataclass(frozen=True)
class Pairing:
    """Differences of the rounds in which both sides have readings."""

    shift: PairedResult
    runs: int
    unpaired: int


def split_sides(summaries: VisitSummaries, series: int) -> dict[int, Side]:
    """Centre and number of runs by configuration and round, for one series."""
    begin, end = np.searchsorted(summaries.series_of, [series, series + 1])
    sides: dict[int, Side] = {}
    columns = (summaries.configuration_of, summaries.round_of, summaries.centre, summaries.runs)
    for c, r, centre, runs in zip(*(column[begin:end].tolist() for column in columns), strict=True):
        sides.setdefault(c, {})[r] = (centre, runs)
    return sides


def pair(side: Side, base: Side, confidence: float, interleaved: bool) -> Pairing | None:
    """The differences of two arms in their common rounds; None when there are none."""
    if not interleaved:
        return _contrast(side, base)
    common = sorted(side.keys() & base.keys())
    if not common:
        return None
    differences = np.array([side[r][0] - base[r][0] for r in common])
    return Pairing(
        shift=paired_t(differences, confidence=confidence),
        runs=sum(side[r][1] + base[r][1] for r in common),
        unpaired=len(side.keys() ^ base.keys()),
    )


def _contrast(side: Side, base: Side) -> Pairing:
    """The change between arms that were not interleaved: no interval can be had from it."""
    nan = float("nan")
    means = [float(np.mean([centre for centre, _ in arm.values()])) for arm in (side, base)]
    runs = sum(runs for arm in (side, base) for _, runs in arm.values())
    shift = PairedResult(means[0] - means[1], nan, nan, nan, nan, 0)
    return Pairing(shift, runs, 0)
