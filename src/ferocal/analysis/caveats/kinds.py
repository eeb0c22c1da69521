"""What a caveat is, and what a test for one may look at."""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from typing import Any, Literal, NamedTuple, Protocol, get_args

import numpy as np

from ferocal.analysis.caveats.circumstances import BusyBench, Circumstances, Conditions
from ferocal.analysis.data.arms import Arms, sort_into_arms
from ferocal.analysis.data.readings import Readings, VisitSummaries, summarise_visits
from ferocal.analysis.data.resolution import find_steps
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.components import run_variances
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.terms.frozen import dataclass

# All tests of one kind in a study share this chance of a false alarm.
LEVEL = 0.01
# Whether a caveat forbids a conclusion, weakens it, or only informs; the gravest first.
Weight = Literal["forbids", "weakens", "informs"]
WEIGHTS: tuple[Weight, ...] = get_args(Weight)
# By workload and configuration, the number of runs that do not count, by how they were lost.
Losses = Mapping[tuple[str, str], Mapping[str, int]]


@dataclass(frozen=True)
class CaveatKind:
    """A reason not to trust, or not to attribute, a number.

    ``code`` is stable. With ``statistical`` a test on noisy readings decides, which has false
    alarms. What ``bars`` a comparison leaves no verdict, unless the study file accepts it. What
    ``leads`` is told before all others.
    """

    code: str
    find: Callable[[View], Iterable[Finding]]
    weight: Weight = "weakens"
    statistical: bool = False
    bars: bool = False
    leads: bool = False

    @property
    def order(self) -> tuple[bool, int]:
        """Its place among others, the gravest first."""
        return not self.leads, WEIGHTS.index(self.weight)


@dataclass(frozen=True)
class Caveat:
    """A reason for caution: its kind, and what was seen, on which side if on one only.

    ``values`` are what was seen, by names that the kind has for them, and ``amount`` a number that
    may differ between sides. With ``accepted``, the reason for which the study file lets a
    comparison stand, it bars none.
    """

    kind: CaveatKind
    values: Mapping[str, Any] = field(default_factory=dict)
    side: str | None = None
    amount: float | None = None
    accepted: str | None = None

    def __hash__(self) -> int:
        """One for caveats that say the same."""
        return hash((self.kind.code, tuple(self.values.items()), self.side, self.amount))

    @property
    def bars(self) -> bool:
        """Whether it leaves no verdict."""
        return self.kind.bars and self.accepted is None

    @property
    def code(self) -> str:
        """The stable code of the kind."""
        return self.kind.code


@dataclass(frozen=True)
class Finding:
    """What a test has seen, and the effects that it bears on, by their places.

    ``values``, ``side`` (the configuration on which it was seen, where it is not on both) and
    ``amount`` are those of a `Caveat`; values are hashable.
    """

    effects: Sequence[int]
    values: Mapping[str, Any]
    side: str | None = None
    amount: float | None = None


def finding(effects: Sequence[int], side: str | None = None, **values: Any) -> Finding:
    """What a test has seen on some effects."""
    return Finding(effects, values, side)


class Redefined(Protocol):
    """Something that was defined otherwise when it was measured, and on what that bears."""

    @property
    def configuration(self) -> str | None:
        """The configuration whose readings that bears on, None for all."""

    @property
    def workload(self) -> str | None:
        """The workload whose readings that bears on, None for all."""

    @property
    def metric(self) -> str | None:
        """The metric, or the trace, whose readings that bears on, None for all."""


@dataclass(frozen=True)
class Context:
    """What is known of a bench besides its readings.

    ``circumstances`` are by configuration. ``explained`` names, by configuration, the software
    facts that change with a factor in which it differs from the baseline. ``strays`` counts, by
    workload and metric, readings in a unit that is not the study's. ``criteria_changes`` are
    what was changed, by workload and metric. ``unproven`` names, by configuration, levels that
    no check has shown to be active. ``uncomputed`` has, by configuration, workload and derived
    metric, why values could not be computed, and how many.
    """

    circumstances: Mapping[str, Circumstances] = field(default_factory=dict)
    explained: Mapping[str, Collection[str]] = field(default_factory=dict)
    conditions: Conditions | None = None
    losses: Losses = field(default_factory=dict)
    strays: Mapping[tuple[str, str], tuple[int, str]] = field(default_factory=dict)
    criteria_changes: Mapping[tuple[str, str], Sequence[Hashable]] = field(default_factory=dict)
    busy: BusyBench | None = None
    unproven: Mapping[str, Sequence[str]] = field(default_factory=dict)
    definition_changes: Sequence[Redefined] = ()
    uncomputed: Mapping[tuple[str, str, str], Sequence[tuple[str, int]]] = field(
        default_factory=dict
    )


@dataclass(frozen=True)
class View:
    """The effects of one bench, with everything that a test may look at.

    ``readings`` are those of the bench that are numbers, on the given ``scales``, ``bounds``
    the others; ``level`` is the chance of a false alarm that all tests of one kind share here.
    """

    effects: Sequence[Effect]
    readings: Readings
    bounds: Readings
    scales: tuple[Scale, ...]
    setting: Setting
    context: Context
    level: float = LEVEL

    @property
    def baseline(self) -> str:
        """The configuration that the others are compared with."""
        return self.effects[0].baseline

    @functools.cached_property
    def summaries(self) -> VisitSummaries:
        """The visits of all arms."""
        return summarise_visits(self.readings, self.scales)

    @functools.cached_property
    def sharp(self) -> Arms:
        """The arms without readings off moving displays, whose midpoints were never read."""
        return sort_into_arms(self.readings.select(self.readings.width == 0), self.scales)

    @functools.cached_property
    def places(self) -> dict[Series, int]:
        """The places of the series among those of the readings."""
        return {series: n for n, series in enumerate(self.readings.series)}

    @functools.cached_property
    def steps(self) -> FloatArray:
        """The step of readings by series, 0 where there is none."""
        return find_steps(self.readings)

    @functools.cached_property
    def times_known(self) -> np.ndarray:
        """By series, whether it is known of every visit when it was: order in a file is no time."""
        known = np.ones(len(self.readings.series), dtype=bool)
        known[self.readings.series_of[np.isnan(self.readings.time)]] = False
        return known

    @functools.cached_property
    def run_sd(self) -> FloatArray:
        """Standard deviation of runs within a visit by series, NaN where unknown."""
        variances = run_variances(self.readings, self.scales)
        by_bench = variances.reshape(len(self.readings.series), len(self.readings.benches))
        present = ~np.isnan(by_bench)
        pooled = np.where(present, by_bench, 0.0).sum(axis=1)
        return np.sqrt(np.where(present.any(axis=1), pooled, np.nan))

    @functools.cached_property
    def _by_place(self) -> dict[tuple[int, str], list[int]]:
        """Effects by series and configuration, their own and that of their baseline."""
        found: dict[tuple[int, str], list[int]] = {}
        for n, effect in enumerate(self.effects):
            for name in (effect.configuration, effect.baseline):
                found.setdefault((self.places[effect.series], name), []).append(n)
        return found

    def on_series(self, series: int, **values: Any) -> Finding:
        """A finding that bears on all effects of a series."""
        names = self.readings.configurations
        members = {n for name in names for n in self._by_place.get((series, name), ())}
        return Finding(sorted(members), values)

    def on_arm(self, arms: Arms, arm: int, amount: float | None = None, **values: Any) -> Finding:
        """A finding on an arm, which bears on the effects that it is a side of."""
        return self.on_side(int(arms.series_of[arm]), arms.name(arm), amount, **values)

    def on_side(
        self, series: int, configuration: str, amount: float | None = None, **values: Any
    ) -> Finding:
        """A finding on a series under a configuration, on the effects that this is a side of."""
        members = self._by_place.get((series, configuration), [])
        return Finding(members, values, configuration, amount)

    def on_everything(self, **values: Any) -> Finding:
        """A finding that bears on all effects but those of the control arm."""
        return Finding([n for n, effect in enumerate(self.effects) if not effect.control], values)

    def size(self, series: int, shift: float) -> SizedShift:
        """A difference of a series on the scale of the analysis."""
        return SizedShift(shift, self.scales[series], self.readings.series[series].unit)


class SizedShift(NamedTuple):
    """A difference on the scale of the analysis, and the unit it is in unless that is "ratio"."""

    shift: float
    scale: Scale
    unit: str


def size_of(effect: Effect) -> SizedShift:
    """The difference that an effect is."""
    return SizedShift(effect.shift.mean, effect.scale, effect.series.unit)


def of_arms(
    find: Callable[[View, Arms], Iterator[Finding]],
) -> Callable[[View], Iterator[Finding]]:
    """A test of the sharp arms of a view, which finds nothing where there are none."""

    def test(view: View) -> Iterator[Finding]:
        if len(view.sharp.value):
            yield from find(view, view.sharp)

    return test
