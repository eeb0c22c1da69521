"""Which effects, readings or runs are wanted."""

from __future__ import annotations

from dataclasses import dataclass

from ferocal.errors import UsageError
from ferocal.study.load import Study
from ferocal.terms.names import closest


@dataclass(frozen=True)
class Selection:
    """What is wanted, by name; nothing named means all."""

    configurations: tuple[str, ...] = ()
    workloads: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()
    benches: tuple[str, ...] = ()

    def check(self, study: Study) -> None:
        """Check the names.

        Raises
        ------
        UsageError
            When a name is not known; the message has the closest one.
        """
        for name in self.configurations:
            study.configuration(name)
        for name in self.workloads:
            study.workload(name)
        for name in self.benches:
            study.on(name)
        known = [name for _, name, _ in study.metrics()]
        for name in self.metrics:
            if name not in known:
                raise UsageError(f'no metric "{name}" in this study; {closest(name, known)}')

    def includes(self, bench: str, configuration: str) -> bool:
        """Whether anything of a configuration on a bench is wanted."""
        pairs = ((self.benches, bench), (self.configurations, configuration))
        return all(not wanted or name in wanted for wanted, name in pairs)

    def wants(self, bench: str, configuration: str, workload: str, metric: str) -> bool:
        """Whether an effect or a reading of these is wanted."""
        pairs = (
            (self.benches, bench),
            (self.configurations, configuration),
            (self.workloads, workload),
            (self.metrics, metric),
        )
        return all(not wanted or name in wanted for wanted, name in pairs)
