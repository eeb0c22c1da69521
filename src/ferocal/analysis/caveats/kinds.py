"""What a caveat is, and what a test for one may look at."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple, Protocol, get_args

import numpy as np

from ferocal.analysis.caveats.circumstances import BusyBench, Circumstances, Conditions
from ferocal.analysis.data.arms import Arms, sort_into_arms
from ferocal.analysis.data.readings import Readings, VisitSummaries, summarise_visits
from ferocal.analysis.data.resolution import find_steps
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Scale, Series, share_of
from ferocal.analysis.inference.components import run_variances
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.terms.numbers import grouped, signed_significant

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

    ``code`` is stable; ``meaning`` says when it appears and ``advice`` what to do. ``look`` is
    the command that looks closer, in which {workload}, {metric} and {configuration} stand for
    options that limit it. With ``statistical`` a test on noisy readings decides, which has false
    alarms. What ``bars`` a comparison leaves no verdict, unless the study file accepts it.
    """

    code: str
    meaning: str
    advice: str
    find: Callable[[View], Iterable[Finding]]
    weight: Weight = "weakens"
    look: str = "ferocal runs {workload} {metric} {configuration}"
    statistical: bool = False
    bars: bool = False


@dataclass(frozen=True)
class Caveat:
    """A reason for caution: its kind, and what was seen, on which side if on one only.

    In ``what``, "{}" stands for an ``amount`` that may differ between sides. With ``accepted``,
    the reason for which the study file lets a comparison stand, it bars none.
    """

    kind: CaveatKind
    what: str
    side: str | None = None
    amount: float | None = None
    accepted: str | None = None

    @property
    def bars(self) -> bool:
        """Whether it leaves no verdict."""
        return self.kind.bars and self.accepted is None

    @property
    def code(self) -> str:
        """The stable code of the kind."""
        return self.kind.code

    @property
    def advice(self) -> str:
        """What to do about it."""
        return self.kind.advice

    @property
    def seen(self) -> str:
        """What was seen, with the side on which."""
        what = self.what if self.amount is None else self.what.format(grouped(self.amount))
        return what if self.side is None else f"with {self.side}, {what}"

    @property
    def text(self) -> str:
        """What was seen and what to do, as a sentence."""
        return f"{self.seen[0].upper()}{self.seen[1:]}: {self.advice}."


class Finding(NamedTuple):
    """What a test has seen, and the effects that it bears on, by their places.

    ``side`` is the configuration on which it was seen, where it is not on both; ``amount`` is
    that of a `Caveat`.
    """

    what: str
    effects: Sequence[int]
    side: str | None = None
    amount: float | None = None


class Redefined(Protocol):
    """Something that was defined otherwise when it was measured, and on what that bears."""

    @property
    def text(self) -> str:
        """What is otherwise, in words."""

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
    facts that change with a factor in which it differs from the baseline. ``strays`` counts,
    by workload and metric, readings in a unit that is not the study's. ``criteria_changes``
    are sentences, by workload and metric. ``unproven`` names, by configuration, levels that no
    check has shown to be active. ``uncomputed`` has, by configuration, workload and derived
    metric, why values could not be computed, and how many.
    """

    circumstances: Mapping[str, Circumstances] = field(default_factory=dict)
    explained: Mapping[str, Collection[str]] = field(default_factory=dict)
    conditions: Conditions | None = None
    losses: Losses = field(default_factory=dict)
    strays: Mapping[tuple[str, str], tuple[int, str]] = field(default_factory=dict)
    criteria_changes: Mapping[tuple[str, str], Sequence[str]] = field(default_factory=dict)
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

    def on_series(self, series: int, what: str) -> Finding:
        """A finding that bears on all effects of a series."""
        names = self.readings.configurations
        members = {n for name in names for n in self._by_place.get((series, name), ())}
        return Finding(what, sorted(members))

    def on_arm(self, arms: Arms, arm: int, what: str, amount: float | None = None) -> Finding:
        """A finding on an arm, which bears on the effects that it is a side of."""
        return self.on_side(int(arms.series_of[arm]), arms.name(arm), what, amount)

    def on_side(
        self, series: int, configuration: str, what: str, amount: float | None = None
    ) -> Finding:
        """A finding on a series under a configuration, on the effects that this is a side of."""
        members = self._by_place.get((series, configuration), [])
        return Finding(what, members, configuration, amount)

    def on_everything(self, what: str) -> Finding:
        """A finding that bears on all effects but those of the control arm."""
        return Finding(what, [n for n, effect in enumerate(self.effects) if not effect.control])

    def sized(self, series: int, shift: float) -> str:
        """A difference of a series on the scale of the analysis, for a sentence."""
        return sized(shift, self.scales[series], self.readings.series[series].unit)


def of_arms(
    find: Callable[[View, Arms], Iterator[Finding]],
) -> Callable[[View], Iterator[Finding]]:
    """A test of the sharp arms of a view, which finds nothing where there are none."""

    def test(view: View) -> Iterator[Finding]:
        if len(view.sharp.value):
            yield from find(view, view.sharp)

    return test


def percentage(share: float) -> str:
    """A share as a signed percentage of two significant digits."""
    value = 100 * share
    # Of large ones all digits before the point.
    digits = 2 if abs(value) < 10 else math.floor(math.log10(abs(value))) + 1
    return f"{signed_significant(value, digits)} %"


def sized(shift: float, scale: Scale, unit: str) -> str:
    """A difference on the scale of the analysis, such as "+3.4 %" or "−2 W"."""
    if scale == "ratio":
        return percentage(share_of(shift))
    return f"{signed_significant(shift)} {'points' if unit == '%' else unit}"
