"""Comparison: which configuration changes the scores, and by how much."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ferocal.analysis.caveats.table import add_caveats
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.verdicts import CONFIDENCE
from ferocal.answers.criteria import CriteriaChange
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study


@dataclass(frozen=True)
class Comparison:
    """Effects of a study against one of its configurations, bench by bench.

    ``benches`` are those of the study. ``excluded`` counts runs that are marked as not to be
    used, ``left_out`` readings that the study file no longer knows.
    """

    question: str
    baseline: str
    margin: float
    confidence: float
    benches: tuple[str, ...]
    effects: tuple[Effect, ...]
    criteria_changes: tuple[CriteriaChange, ...]
    excluded: int
    left_out: int

    def on_bench(self, bench: str) -> Comparison:
        """Only the effects on one bench."""
        chosen = tuple(effect for effect in self.effects if effect.bench == bench)
        return replace(self, benches=(bench,), effects=chosen)


def compare(
    study: Study,
    evidence: Evidence,
    *,
    against: str | None = None,
    selection: Selection | None = None,
) -> Comparison:
    """Every configuration against the study's baseline, or against another one.

    With a selection only some of the effects are in the result. They are judged as before: how
    many comparisons were made does not depend on how many are looked at.

    Raises
    ------
    UsageError
        When a name is not known.
    """
    selection = selection or Selection()
    selection.check(study)
    base = study.configuration(against or study.baseline).name
    setting = _setting(study, evidence, base)
    effects = estimate_effects(evidence.readings, base, setting)
    contexts = {
        bench: replace(context, explained=_explained(study, setting))
        for bench, context in evidence.contexts.items()
    }
    effects = add_caveats(effects, evidence.readings, setting, contexts)
    return Comparison(
        question=study.head.question,
        baseline=base,
        margin=study.head.margin,
        confidence=evidence.looks.confidence if evidence.looks else CONFIDENCE,
        benches=study.benches,
        effects=tuple(
            e
            for e in effects
            if selection.wants(e.bench, e.configuration, e.series.workload, e.series.metric)
        ),
        criteria_changes=evidence.criteria_changes,
        excluded=evidence.excluded,
        left_out=evidence.left_out,
    )


def _setting(study: Study, evidence: Evidence, baseline: str) -> Setting:
    base = study.configuration(baseline)
    interleaved = study.head.schedule == "rounds"
    return Setting(
        interleaved=interleaved,
        looks=evidence.looks,
        # Against another baseline, the control arm is an arm like any other.
        control=CONTROL if study.head.control and baseline == study.baseline else None,
        noise_floors=evidence.noise_floors,
        floor_arm=floor_arm(study) if interleaved else None,
        differing={c.name: c.differs_in(base) for c in study.configurations},
        planned_rounds=evidence.planned_rounds,
    )


def _explained(study: Study, setting: Setting) -> dict[str, set[str]]:
    """By configuration, the software facts that change with a factor in which it differs."""
    return {
        name: {fact for factor in factors for fact in study.file.factor[factor].explains}
        for name, factors in setting.differing.items()
    }


def floor_arm(study: Study) -> str:
    """The configuration whose visits show best how much visits vary."""
    return CONTROL if study.head.control else study.baseline
