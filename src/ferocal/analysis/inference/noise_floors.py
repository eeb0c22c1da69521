"""The noise floor: how much visits to one configuration vary, known from other visits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import MEDIAN_FROM_RUNS, Readings, summarise_visits, to_scale
from ferocal.analysis.data.segments import find_segments
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.power import rounds_to_detect
from ferocal.analysis.inference.weights import Arm
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import listed

# A visit SD that has grown by half since takes the coverage of a 95 % interval to 86 %.
STALE_DAYS = 30.0
# Of fewer visits there is no noise floor.
_FEWEST_VISITS = 3


@dataclass(frozen=True)
class NoiseFloor:
    """Variation between visits to one configuration, on the scale of the analysis.

    ``variance`` is that of visit summaries of ``runs`` runs each (the mean square between
    visits over the runs per visit), with ``degrees`` of freedom; ``run_variance`` that of
    single runs within a visit, NaN with one run per visit. ``age`` is in days, from the
    last visit behind the floor to the last visit of the study that uses it, NaN where one of
    them has no date; ``source`` says where the floor is from.
    """

    scale: Scale
    variance: float
    degrees: int
    runs: float
    run_variance: float
    run_degrees: int
    source: str
    age: float = 0.0


# An error that is known, and not estimated, has as many degrees of freedom as that.
KNOWN_DEGREES = 1_000_000


def stated_sd(series: Series, scale: Scale, value: float) -> float | None:
    """The SD of visits as it is stated, on the scale of the analysis; None where none is.

    ``value`` is what was read, in the unit: by it an SD in the unit is made a share.
    """
    if scale != "ratio":
        return series.unit_noise
    return series.noise if series.unit_noise is None else series.unit_noise / value


def stated_floor(series: Series, scale: Scale, value: float) -> NoiseFloor | None:
    """The noise that is stated, as a noise floor of visits of any number of runs."""
    sd = stated_sd(series, scale, value)
    if sd is None:
        return None
    return NoiseFloor(scale, sd**2, KNOWN_DEGREES, 1.0, math.nan, 0, "as stated", math.nan)


def estimate_floor(readings: Readings, arm: Arm, scales: tuple[Scale, ...]) -> NoiseFloor | None:
    """The noise floor from the visits to one arm; None below three visits.

    Drift and other slow variation between the visits are part of it, as they are part of
    the difference between two visits that were not made near each other.
    """
    visited = arm.select(readings)
    if not len(visited.value):
        return None
    summaries = summarise_visits(visited, scales)
    if len(summaries.centre) < _FEWEST_VISITS:
        return None
    order = np.argsort(visited.visit_of, kind="stable")
    visits = find_segments([visited.visit_of[order]])
    value = to_scale(visited, scales)[order]
    run_degrees = len(value) - len(visits.counts)
    squares = float(np.sum((value - visits.mean(value)[visits.label]) ** 2))
    name = readings.configurations[arm.configuration]
    return NoiseFloor(
        scale=scales[arm.series],
        variance=float(np.var(summaries.centre, ddof=1)),
        degrees=len(summaries.centre) - 1,
        runs=float(np.mean(summaries.runs)),
        run_variance=squares / run_degrees if run_degrees else math.nan,
        run_degrees=run_degrees,
        source=f"{len(summaries.centre)} visits to {name}",
        age=float(readings.time[readings.bench_of == arm.bench].max() - visited.time.max()),
    )


def often_visited(readings: Readings, series: int, bench: int) -> list[int]:
    """The configurations of which a series may have a noise floor, by their place.

    Those of at least three visits, before visits in one round are taken together.
    """
    here = (readings.series_of == series) & (readings.bench_of == bench)
    pairs = np.unique(np.stack([readings.configuration_of[here], readings.visit_of[here]]), axis=1)[
        0
    ]
    visits = np.bincount(pairs, minlength=len(readings.configurations))
    return [int(c) for c in np.flatnonzero(visits >= _FEWEST_VISITS)]


def pool_floors(
    readings: Readings, series: int, bench: int, scales: tuple[Scale, ...]
) -> NoiseFloor | None:
    """The noise floor from the visits to all configurations of three visits or more, if any.

    Variation within each configuration, pooled: the configurations themselves may differ, but
    are taken to vary alike.
    """
    found = [
        (readings.configurations[c], floor)
        for c in often_visited(readings, series, bench)
        if (floor := estimate_floor(readings, Arm(series, bench, c), scales)) is not None
    ]
    if len(found) < 2:
        return found[0][1] if found else None
    floors = [floor for _, floor in found]
    degrees = sum(floor.degrees for floor in floors)
    run_degrees = sum(floor.run_degrees for floor in floors)
    squares = sum(f.run_variance * f.run_degrees for f in floors if f.run_degrees)
    visits = sum(floor.degrees + 1 for floor in floors)
    names = listed([name for name, _ in found])
    return NoiseFloor(
        scale=floors[0].scale,
        variance=sum(f.variance * f.degrees for f in floors) / degrees,
        degrees=degrees,
        runs=sum(f.runs * (f.degrees + 1) for f in floors) / visits,
        run_variance=squares / run_degrees if run_degrees else math.nan,
        run_degrees=run_degrees,
        source=f"{visits} visits to {names}",
        age=min(floor.age for floor in floors),
    )


def find_own_floor(
    readings: Readings,
    series: int,
    bench: int,
    scales: tuple[Scale, ...],
    control: str | None,
) -> NoiseFloor | None:
    """The noise floor of a study's own visits: to the control arm, or else to all configurations.

    ``control`` is the name of the control arm, None where there is none.
    """
    floor = None
    if control is not None:
        arm = Arm(series, bench, readings.configurations.index(control))
        floor = estimate_floor(readings, arm, scales)
    return floor or pool_floors(readings, series, bench, scales)


def share_of_runs(runs: float) -> float:
    """Variance of a visit summary over that of a run, if visits did not vary.

    Exact for means. For medians the large-sample variance, corrected for small numbers;
    within 5 % of the variances of normal order statistics tabulated by Teichroew (1956),
    Annals of Mathematical Statistics 27, 410-426.
    """
    if runs < MEDIAN_FROM_RUNS:
        return 1 / runs
    even = float(runs).is_integer() and int(runs) % 2 == 0
    return math.pi / (2 * runs + (math.pi if even else math.pi - 2))


def summary_variance(floor: NoiseFloor, runs: float) -> tuple[float, float]:
    """Variance of the summary of a visit of so many runs, and its degrees of freedom.

    With the floor's own number of runs it is as it was seen. Otherwise the variance of
    runs is added or taken off; the degrees are then the smaller of Satterthwaite's (1946,
    Biometrics Bulletin 2, 110-114) and the floor's.
    """
    more = share_of_runs(runs) - share_of_runs(floor.runs)
    if abs(runs - floor.runs) < 1e-9 or math.isnan(floor.run_variance):
        return floor.variance, float(floor.degrees)
    change = more * floor.run_variance
    variance = max(floor.variance + change, share_of_runs(runs) * floor.run_variance)
    spread = floor.variance**2 / floor.degrees + change**2 / floor.run_degrees
    degrees = (floor.variance + change) ** 2 / spread if spread else float(floor.degrees)
    return variance, max(1.0, min(degrees, float(floor.degrees)))


class SideOfFloor(NamedTuple):
    """A side of a contrast: its noise floor, weight, visits, and runs per visit."""

    floor: NoiseFloor
    weight: float
    visits: int
    runs: float


def floor_error(sides: Sequence[SideOfFloor]) -> tuple[float, float]:
    """Standard error of a contrast whose sides have noise floors, and its degrees of freedom.

    With two sides of a visit each and the floor's number of runs, the error is that of twice
    the variance of a visit. The degrees are the fewest of the sides'.
    """
    parts = [summary_variance(side.floor, side.runs) for side in sides]
    variance = sum(
        side.weight**2 * v / side.visits for (v, _), side in zip(parts, sides, strict=True)
    )
    return math.sqrt(variance), min(degrees for _, degrees in parts)


def floor_sd(sides: Sequence[SideOfFloor]) -> float:
    """The standard deviation of a contrast of single visits, by the noise floors of its sides."""
    return math.sqrt(sum(side.weight**2 * side.floor.variance for side in sides))


@dataclass(frozen=True)
class BenchNoise:
    """Spread on the scale of natural logarithms.

    ``run_sd`` is that of single runs within a stretch, ``stretch_sd`` what stretches add to it.
    """

    run_sd: float
    stretch_sd: float

    def rounds_for(self, change: float, runs: int) -> int | None:
        """How many rounds of so many runs find a change, a share, with 80 % power.

        Stretches stand for visits. None where more than a hundred would be needed.
        """
        variance = 2 * (self.stretch_sd**2 + share_of_runs(runs) * self.run_sd**2)
        return rounds_to_detect(math.log1p(change), math.sqrt(variance))


def estimate_noise(stretches: Sequence[Sequence[float]]) -> BenchNoise:
    """The spread within and between stretches of positive times.

    Between is what the variance of medians leaves after the share of the runs in it (a one-way
    analysis of variance, with medians for means).
    """
    logs = [np.log(np.array(walls)) for walls in stretches]
    squares = sum(float(np.sum((x - x.mean()) ** 2)) for x in logs)
    degrees = sum(len(x) - 1 for x in logs)
    within = squares / degrees if degrees else 0.0
    medians = np.array([np.median(x) for x in logs])
    runs = float(np.mean([len(x) for x in logs]))
    between = float(np.var(medians, ddof=1)) - share_of_runs(runs) * within
    return BenchNoise(math.sqrt(within), math.sqrt(max(0.0, between)))
