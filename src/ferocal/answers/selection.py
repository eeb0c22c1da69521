"""Which effects, readings or runs are wanted."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ferocal.analysis.data.series import Series
from ferocal.answers.metrics import study_series
from ferocal.errors import UsageError
from ferocal.study.load import Study
from ferocal.terms.names import closest


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
        for name in self.configurations:
            study.configuration(name)
        for name in self.workloads:
            study.workload(name)
        for name in self.benches:
            study.on(name)
        if not (self.workloads or self.metrics or self.roles or self.groups):
            return self
        known = study_series(study)
        _check("group", self.groups, [s.group for s in known if s.group])
        _check("metric", self.metrics, [name for s in known for name in _names(s)])
        wanted = {(s.workload, s.metric) for s in known if self._means(s)}
        return replace(self, places=frozenset(wanted))

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
    return [series.metric, *([trace] if slash else []), *([series.label] if series.label else [])]


def _check(kind: str, names: tuple[str, ...], known: list[str]) -> None:
    distinct = list(dict.fromkeys(known))
    for name in names:
        if name not in distinct:
            raise UsageError(f'no {kind} "{name}" in this study; {closest(name, distinct)}')
