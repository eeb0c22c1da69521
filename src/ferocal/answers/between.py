"""Between: whether a change is as large with one thing as with another."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Mapping

from ferocal.analysis.data.index import deciding_places
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.between import (
    Difference,
    Pair,
    Side,
    compare_effects,
    compare_independent,
)
from ferocal.analysis.inference.crossing import Crossing, find_crossing
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.answers.compare import setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.errors import UsageError
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest

# What differences can be asked for besides the factors of a study.
KINDS = ("workload", "size", "bench", "study")


@dataclass(frozen=True)
class SizeCrossing:
    """Where the curves of a configuration and the baseline over the size of a problem cross."""

    bench: str
    configuration: str
    baseline: str
    sized_workload: str
    metric: str
    parameter: str
    crossing: Crossing


@dataclass(frozen=True)
class BetweenAnswer:
    """Changes in one place against the same in another.

    ``kind`` is "workload", "size", "bench", "study" or a factor; ``labels`` say what each
    configuration is called beside that. ``skipped`` are sentences on what could not be compared.
    """

    question: str
    kind: str
    baseline: str
    differences: tuple[Difference, ...]
    crossings: tuple[SizeCrossing, ...]
    skipped: tuple[str, ...]
    several_benches: bool
    labels: Mapping[str, str]


def compare_between(
    study: Study,
    evidence: Evidence,
    kind: str,
    *,
    other: tuple[Study, Evidence] | None = None,
    against: str | None = None,
    selection: Selection | None = None,
) -> BetweenAnswer:
    """Whether the changes against the baseline differ between levels of something.

    ``kind`` is a factor, or one of `KINDS`; with "study" the ``other`` is compared with this one.

    Raises
    ------
    UsageError
        When a name is unknown, or there is nothing of that kind to compare.
    """
    selection = (selection or Selection()).resolve(study)
    baseline = study.configuration(against or study.baseline).name
    known = _Known(study, evidence, baseline, selection)
    makers: dict[str, Callable[[], list[Pair]]] = {
        "workload": known.between_workloads,
        "size": known.between_sizes,
        "bench": known.between_benches,
    }
    if kind == "study":
        assert other is not None
        differences = _between_studies(known, other, against)
    else:
        if kind not in makers and kind not in study.file.factor:
            names = [*study.file.factor, *KINDS]
            raise UsageError(f'nothing is called "{kind}" here; {closest(kind, names)}')
        pairs = makers[kind]() if kind in makers else known.between_levels(kind)
        setting = setting_of(study, evidence, baseline)
        differences = compare_effects(evidence.readings, pairs, setting)
    if not differences:
        raise UsageError(f"nothing to compare between {_plural(kind)}: {known.why(kind)}")
    return BetweenAnswer(
        question=study.head.question,
        kind=kind,
        baseline=baseline,
        differences=differences,
        crossings=tuple(known.crossings()) if kind == "size" else (),
        skipped=tuple(known.skipped),
        several_benches=len({d.first.bench for d in differences}) > 1,
        labels={d.first.configuration: known.label(d, kind) for d in differences},
    )


def _plural(kind: str) -> str:
    words = {"workload": "workloads", "size": "sizes", "bench": "benches", "study": "studies"}
    return words.get(kind, f"levels of {kind}")


@dataclass
class _Known:
    """What pairs of effects are made of."""

    study: Study
    evidence: Evidence
    baseline: str
    selection: Selection

    def __post_init__(self) -> None:
        self.skipped: list[str] = []

    @property
    def readings(self) -> Readings:
        return self.evidence.readings

    def series(self) -> list[int]:
        """The metrics that are wanted: those named, else those that decide."""
        places, series = self.selection.places, self.readings.series
        if places is None:
            return deciding_places(series, range(len(series)))
        return [n for n, s in enumerate(series) if (s.workload, s.metric) in places]

    def others(self) -> list[int]:
        """The configurations that are compared with the baseline."""
        wanted = self.selection.configurations
        return [
            n
            for n, name in enumerate(self.readings.configurations)
            if name not in (self.baseline, CONTROL) and (not wanted or name in wanted)
        ]

    def benches(self) -> list[int]:
        wanted = self.selection.benches
        return [n for n, b in enumerate(self.readings.benches) if not wanted or b in wanted]

    def _place(self, name: str) -> int:
        return self.readings.configurations.index(name)

    def why(self, kind: str) -> str:
        """What is missing for a kind."""
        return {
            "workload": "measure two workloads with the same configurations",
            "size": "no workload with `sizes` has been measured",
            "bench": "measure one configuration and the baseline on two benches",
            "study": "both studies need a configuration, workload, metric and unit in common",
        }.get(kind, "measure a change, and the baseline, at two of its levels")

    def label(self, difference: Difference, kind: str) -> str:
        """A configuration by the levels that it changes, where the others are what is compared."""
        name = difference.first.configuration
        if kind not in self.study.file.factor:
            return name
        base = self.study.configuration(self.baseline)
        configuration = self.study.configuration(name)
        return "+".join(configuration.levels[f] for f in configuration.differs_in(base))

    def between_workloads(self) -> list[Pair]:
        """Every metric against the first."""
        first, *rest = self.series() or [0]
        names = self.readings.series
        return [
            Pair(
                Side(first, b, c, self._place(self.baseline)),
                Side(s, b, c, self._place(self.baseline)),
                names[first].title,
                names[s].title,
            )
            for b in self.benches()
            for c in self.others()
            for s in rest
        ]

    def between_sizes(self) -> list[Pair]:
        """Every size of a workload against the smallest."""
        names = self.readings.series
        base = self._place(self.baseline)
        return [
            Pair(
                Side(first, b, c, base),
                Side(s, b, c, base),
                _size(names[first]),
                _size(names[s]),
            )
            for b in self.benches()
            for c in self.others()
            for first, *rest in self._families()
            for s in rest
        ]

    def _families(self) -> list[list[int]]:
        """The series of each workload with sizes and each metric, the smallest first."""
        found: dict[tuple[str, str], list[int]] = {}
        for n in self.series():
            series = self.readings.series[n]
            if series.size is not None:
                found.setdefault((series.sized_workload, series.metric), []).append(n)
        return [
            sorted(m, key=lambda n: self.readings.series[n].size or 0.0) for m in found.values()
        ]

    def between_benches(self) -> list[Pair]:
        """Every bench against the first."""
        first, *rest = self.benches()
        base = self._place(self.baseline)
        return [
            Pair(
                Side(s, first, c, base),
                Side(s, b, c, base),
                self.readings.benches[first],
                self.readings.benches[b],
            )
            for s in self.series()
            for c in self.others()
            for b in rest
        ]

    def between_levels(self, factor: str) -> list[Pair]:
        """Every change at the baseline's level of a factor against the same at others."""
        base = self.study.configuration(self.baseline)
        by_levels = {
            tuple(sorted(c.levels.items())): c.name
            for c in reversed(self.study.configurations)
            if c.name != CONTROL
        }

        def moved(name: str, level: str) -> str | None:
            levels = {**self.study.configuration(name).levels, factor: level}
            return by_levels.get(tuple(sorted(levels.items())))

        levels = [v for v in self.study.file.factor[factor].level if v != base.levels[factor]]
        pairs = []
        names = self.readings.configurations
        for c in self.others():
            if self.study.configuration(names[c]).levels[factor] != base.levels[factor]:
                continue
            for level in levels:
                there, home = moved(names[c], level), moved(self.baseline, level)
                if there is None or home is None:
                    missing = (there is None and names[c]) or self.baseline
                    self.skipped.append(f"{missing} was not planned with {factor}={level}")
                    continue
                pairs += [
                    Pair(
                        Side(s, b, c, self._place(self.baseline)),
                        Side(s, b, self._place(there), self._place(home)),
                        base.levels[factor],
                        level,
                    )
                    for b in self.benches()
                    for s in self.series()
                ]
        return pairs

    def crossings(self) -> Iterator[SizeCrossing]:
        """Where a configuration stops being better than the baseline, or begins to be."""
        base = self._place(self.baseline)
        for b, c, members in itertools.product(self.benches(), self.others(), self._families()):
            crossing = find_crossing(
                self.readings,
                b,
                (c, base),
                members,
                interleaved=self.study.head.schedule == "rounds",
            )
            if crossing is None:
                continue
            series = self.readings.series[members[0]]
            workload = self.study.workloads[series.workload]
            assert workload.size is not None
            yield SizeCrossing(
                self.readings.benches[b],
                self.readings.configurations[c],
                self.baseline,
                series.sized_workload,
                series.label or series.metric,
                workload.size.parameter,
                crossing,
            )


def _size(series: Series) -> str:
    return f"{series.size:g}" if series.size is not None else series.title


def _between_studies(
    known: _Known, other: tuple[Study, Evidence], against: str | None
) -> tuple[Difference, ...]:
    """The same changes in another study, matched by name and unit."""
    study, evidence = other
    base = study.configuration(against or study.baseline).name
    theirs = estimate_effects(evidence.readings, base, setting_of(study, evidence, base))
    found = {
        (e.configuration, e.series.workload, e.series.metric, e.series.unit): e
        for e in theirs
        if not e.control
    }
    setting = setting_of(known.study, known.evidence, known.baseline)
    wanted = {known.readings.series[n] for n in known.series()}
    names = {known.readings.configurations[c] for c in known.others()}
    pairs: list[tuple[Effect, Effect]] = []
    for e in estimate_effects(known.readings, known.baseline, setting):
        key = (e.configuration, e.series.workload, e.series.metric, e.series.unit)
        if e.series in wanted and e.configuration in names:
            if key in found:
                pairs.append((e, found[key]))
            else:
                known.skipped.append(
                    f"{e.configuration} {e.series.title} is not in {study.directory}"
                )
    places = ("this study", str(study.directory))
    levels = (known.evidence.confidence, evidence.confidence)
    return compare_independent(pairs, places, levels)
