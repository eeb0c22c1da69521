"""Sessions within soaks: which configuration is better for a session of which length."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.data.readings import NO_ROUND, Readings
from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.crossing import Crossing, cross_in_time
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.answers.compare import Comparison, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.traces.curves import SoakCurve
from ferocal.traces.kinds import session_lengths, session_part

# Running means are compared at so many lengths.
_LENGTHS = 48


@dataclass(frozen=True)
class Session:
    """A length of session (s), None for the whole soak, and the change of its level."""

    seconds: float | None
    effect: Effect


@dataclass(frozen=True)
class SessionChoice:
    """For sessions of which lengths a configuration is better than the baseline.

    ``sessions`` are those asked for, the short one first, with the effects of the comparison;
    ``whole`` is how long the shortest soak of both takes (s). ``crossing`` is the length (s) at
    which the running means cross, None where they are not shown to.
    """

    bench: str
    workload: str
    metric: str
    configuration: str
    baseline: str
    sessions: tuple[Session, ...]
    whole: float
    crossing: Crossing | None


@dataclass(frozen=True)
class Course:
    """The soaks of one configuration, with the place in time of the visit of each."""

    curve: SoakCurve
    visits: tuple[int, ...]


def choose_sessions(
    study: Study,
    evidence: Evidence,
    comparison: Comparison,
    place: tuple[str, str, str],
    courses: Sequence[Course],
) -> Iterator[SessionChoice]:
    """What to say of sessions on a ``place`` (bench, workload, metric), by configuration."""
    bench, workload, name = place
    metric = study.workload(workload).metric[name]
    effects = {
        (e.series.metric.partition("/")[2], e.configuration): e
        for e in comparison.effects
        if not e.control and (e.bench, e.series.workload) == (bench, workload)
        and e.series.metric.partition("/")[0] == name
    }  # fmt: skip
    asked = session_lengths(metric.trace_spec)
    lengths: list[float | None] = [*asked] if metric.long is not None else [*asked, None]
    parts = {seconds: "mean" if seconds is None else session_part(seconds) for seconds in lengths}
    crossings = _Crossings(study, evidence, comparison, bench, courses)
    for configuration in dict.fromkeys(name for _, name in effects):
        known = [
            Session(seconds, effects[part, configuration])
            for seconds, part in parts.items()
            if (part, configuration) in effects
        ]
        if known:
            baseline = known[-1].effect.baseline
            whole, crossing = crossings.of(known[-1].effect)
            yield SessionChoice(
                bench, workload, name, configuration, baseline, tuple(known), whole, crossing
            )


class _Crossings:
    """Where running means cross, from the soaks of all configurations on a bench."""

    def __init__(
        self, study: Study, evidence: Evidence, comparison: Comparison, bench: str,
        courses: Sequence[Course],
    ) -> None:  # fmt: skip
        self._known, self._bench = evidence.readings, bench
        places = (self._known.visit_of.tolist(), self._known.round_of.tolist())
        self._rounds = dict(zip(*places, strict=True))
        self._courses = {course.curve.configuration: course for course in courses}
        # Noise floors are of readings; what is read off curves has none.
        setting = setting_of(study, evidence, comparison.baseline)
        self._setting = replace(setting, noise_floors={}, release_floor=None)

    def of(self, effect: Effect) -> tuple[float, Crossing | None]:
        """How long the shortest soak of both sides of an effect is (s), and where they cross."""
        names = (effect.baseline, effect.configuration)
        sides = [self._courses[name] for name in names if name in self._courses]
        if len(sides) < len(names):
            return 0.0, None
        times = [time for side in sides for time, _ in side.curve.courses]
        # The last value has an interval, too.
        whole = min(float(time[-1] + np.median(np.diff(time))) for time in times)
        lengths = np.linspace(0, min(float(time[-1]) for time in times), _LENGTHS + 1)[1:]
        readings = self._as_readings(effect.series, sides, lengths)
        found = estimate_effects(readings, effect.baseline, self._setting)
        if len(found) < _LENGTHS or any(e.baseline != effect.baseline for e in found):
            return whole, None
        return whole, cross_in_time(found, lengths, effect.series.better)

    def _as_readings(
        self, series: Series, courses: Sequence[Course], lengths: FloatArray
    ) -> Readings:
        """The levels of sessions of every length as readings of a separate series each."""
        known = self._known
        levels = np.concatenate([course.curve.session_levels(lengths) for course in courses])
        visits = np.array([visit for course in courses for visit in course.visits])
        names = [course.curve.configuration for course in courses for _ in course.visits]
        codes = np.array([known.configurations.index(name) for name in names])
        runs, count = levels.shape
        rows = np.repeat(np.arange(runs), count)
        rounds = np.array([self._rounds.get(visit, NO_ROUND) for visit in visits.tolist()])
        nothing = np.zeros(runs * count)
        return Readings(
            benches=known.benches,
            series=tuple(
                replace(series, metric=f"{series.metric}-{length:g}") for length in lengths
            ),
            configurations=known.configurations,
            series_of=np.tile(np.arange(count), runs),
            bench_of=np.full(runs * count, known.benches.index(self._bench)),
            configuration_of=codes[rows],
            round_of=rounds[rows],
            visit_of=visits[rows],
            run_of=rows,
            value=levels.ravel(),
            samples=np.full(runs * count, np.nan),
            width=nothing,
            bound=nothing.astype(np.int64),
            time=np.full(runs * count, np.nan),
        )
