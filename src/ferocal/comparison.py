"""Comparisons: the evidence of a study held against one of its configurations."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ferocal.analysis.doubts import Context, add_doubts
from ferocal.analysis.effects import Effect, Setting
from ferocal.analysis.estimation import estimate_effects
from ferocal.analysis.verdicts import CONFIDENCE
from ferocal.errors import UsageError
from ferocal.evidence import Evidence
from ferocal.study.configurations import CONTROL, closest
from ferocal.study.load import Study


@dataclass(frozen=True)
class Comparison:
    """Effects of a study against one of its configurations."""

    study: Study
    baseline: str
    confidence: float
    effects: tuple[Effect, ...]
    evidence: Evidence


def compare(study: Study, evidence: Evidence, *, against: str | None = None) -> Comparison:
    """Every configuration against the study's baseline, or against another one.

    Raises
    ------
    UsageError
        When there is no configuration of the name ``against``.
    """
    base = study.configuration(against or study.baseline)
    differing = {c.name: c.differs_in(base) for c in study.configurations}
    interleaved = study.head.schedule == "rounds"
    setting = Setting(
        differing=differing,
        interleaved=interleaved,
        looks=evidence.looks,
        # Against another baseline, the control arm is an arm like any other.
        control=CONTROL if study.head.control and base.name == study.baseline else None,
        floors=evidence.floors,
        floor_arm=floor_arm(study) if interleaved else None,
        planned_rounds=evidence.planned_rounds,
    )
    context = Context(
        circumstances=evidence.circumstances,
        explained={
            name: {fact for factor in own for fact in study.file.factor[factor].explains}
            for name, own in differing.items()
        },
        conditions=evidence.conditions,
        losses=evidence.losses,
        strays=evidence.strays,
        interleaved=interleaved,
    )
    effects = estimate_effects(evidence.readings, base.name, setting)
    return Comparison(
        study,
        base.name,
        evidence.looks.confidence if evidence.looks else CONFIDENCE,
        add_doubts(effects, evidence.readings, context),
        evidence,
    )


def floor_arm(study: Study) -> str:
    """The configuration with the most visits to tell how much visits vary."""
    return CONTROL if study.head.control else study.baseline


@dataclass(frozen=True)
class Selection:
    """Which effects or readings are wanted; nothing named means all."""

    configurations: tuple[str, ...] = ()
    workloads: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()

    def check(self, study: Study) -> None:
        """Check the names.

        Raises
        ------
        UsageError
            When a name is not known; the closest one is told.
        """
        for name in self.configurations:
            study.configuration(name)
        for name in self.workloads:
            study.workload(name)
        known = [name for _, name, _ in study.metrics()]
        for name in self.metrics:
            if name not in known:
                raise UsageError(f'no metric "{name}" in this study; {closest(name, known)}')

    def wants(self, configuration: str, workload: str, metric: str) -> bool:
        """Whether an effect or a reading of these is wanted."""
        pairs = (
            (self.configurations, configuration),
            (self.workloads, workload),
            (self.metrics, metric),
        )
        return all(not wanted or name in wanted for wanted, name in pairs)

    def apply(self, comparison: Comparison) -> Comparison:
        """The comparison with only the wanted effects.

        They are judged as before: how many comparisons were made does not depend on how
        many are looked at.

        Raises
        ------
        UsageError
            When a name is not known.
        """
        self.check(comparison.study)
        return replace(
            comparison,
            effects=tuple(
                e
                for e in comparison.effects
                if self.wants(e.configuration, e.series.workload, e.series.metric)
            ),
        )
