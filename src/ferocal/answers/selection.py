"""Which effects, readings or runs are wanted."""

from __future__ import annotations

from dataclasses import replace

from ferocal.analysis.data.series import Series
from ferocal.answers.metrics import study_series
from ferocal.errors import UsageError
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import called, closest, resolve


@dataclass(frozen=True)
class Selection:
    """What is wanted, by name; nothing named means all.

    A metric is named as in the study file, a trace by its name or by that of one of its parts,
    or as it is called in tables. ``places`` are the workloads and metrics that all these names
    mean in a study, once they have been looked up (`resolve`); None means all.
    """

    configurations: tuple[str, ...] = ()
    workloads: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()
    benches: tuple[str, ...] = ()
    roles: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    places: frozenset[tuple[str, str]] | None = None

    def resolve(self, study: Study) -> Selection:
        """The selection with the places that are meant.

        Raises
        ------
        UsageError
            When a name is unknown; the message has the closest one.
        """
        meant = self._as_named(study)
        for name in meant.configurations:
            study.configuration(name)
        for name in meant.workloads:
            study.workload(name)
        for name in meant.benches:
            study.on(name)
        if not (meant.workloads or meant.metrics or meant.roles or meant.groups):
            return meant
        known = study_series(study)
        _check("group", meant.groups, [s.group for s in known if s.group])
        _check("metric", meant.metrics, [name for s in known for name in _names(s)])
        wanted = {(s.workload, s.metric) for s in known if meant._means(s)}
        return replace(meant, places=frozenset(wanted))

    def _as_named(self, study: Study) -> Selection:
        """The selection with the names of the study, however they were written."""
        if not (self.configurations or self.workloads or self.metrics or self.groups):
            return self
        titles: dict[str, list[str]] = {}
        for series in study_series(study):
            titles.setdefault(series.metric, []).extend(_names(series))
        groups = [entry.section for entry in study.workloads.values() if entry.section]
        return replace(
            self,
            configurations=tuple(resolve(n, study.names) for n in self.configurations),
            workloads=tuple(resolve(n, study.workloads) for n in self.workloads),
            metrics=tuple(
                name if any(name in own for own in titles.values()) else called(name, titles)
                for name in self.metrics
            ),
            groups=tuple(resolve(n, dict.fromkeys(groups)) for n in self.groups),
        )

    def _means(self, series: Series) -> bool:
        pairs = (
            (self.workloads, {series.workload}),
            (self.metrics, set(_names(series))),
            (self.roles, {series.role}),
            (self.groups, {series.group}),
        )
        return all(not wanted or names & set(wanted) for wanted, names in pairs)

    def includes(self, bench: str, configuration: str) -> bool:
        """Whether anything of a configuration on a bench is wanted."""
        pairs = ((self.benches, bench), (self.configurations, configuration))
        return all(not wanted or name in wanted for wanted, name in pairs)

    def wants(self, bench: str, configuration: str, workload: str, metric: str) -> bool:
        """Whether an effect or a reading of these is wanted."""
        named = self.places is None or (workload, metric) in self.places
        return named and self.includes(bench, configuration)

    def wants_run(self, bench: str, configuration: str, workload: str) -> bool:
        """Whether a run of these is wanted that yielded nothing."""
        named = self.places is None or any(place[0] == workload for place in self.places)
        return named and self.includes(bench, configuration)


def _names(series: Series) -> list[str]:
    """The names of a metric: its own, that of its trace, and what it is called."""
    trace, slash, _ = series.metric.partition("/")
    names = [series.metric, *([trace] if slash else []), *([series.label] if series.label else [])]
    return [*names, *(f"{series.workload} {name}" for name in names)]


def _check(kind: str, names: tuple[str, ...], known: list[str]) -> None:
    distinct = list(dict.fromkeys(known))
    for name in names:
        if name not in distinct:
            raise UsageError(f'no {kind} "{name}" in this study; {closest(name, distinct)}')
