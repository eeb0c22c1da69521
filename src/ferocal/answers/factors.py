"""Factors: which of the things that were varied a change is due to."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from ferocal.analysis.data.gaps import GapMark
from ferocal.analysis.data.readings import NO_ROUND
from ferocal.analysis.data.series import Series
from ferocal.analysis.factors.confounding import find_blind_pairs, find_confounding
from ferocal.analysis.factors.decomposition import decompose
from ferocal.analysis.factors.design import FactorDesign, Levels, Term
from ferocal.analysis.factors.fitting import Attribution, FactorSetting
from ferocal.analysis.factors.questions import (
    find_effects,
    find_index_parts,
    find_interactions,
    find_lack_of_fit,
    find_unlike,
)
from ferocal.analysis.factors.results import (
    Decomposition,
    FactorEffect,
    IndexPart,
    Interaction,
    LackOfFit,
    Scaling,
    UnlikeEffects,
)
from ferocal.analysis.factors.scaling import find_scaling
from ferocal.answers.answer import Answer, basis_of
from ferocal.answers.compare import doubts_of, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.gaps import find_gaps
from ferocal.answers.selection import Selection
from ferocal.errors import UsageError
from ferocal.study.configurations import CONTROL, is_possible, name_of
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Inseparable:
    """Effects that cannot be told apart; ``separate`` names the configuration that would.

    ``levels`` are those of that configuration, None where nothing possible would separate them.
    ``effects`` are those that always came together; else ``moved`` are the values of software that
    changed with a level. With neither, nothing shows whether two factors act on each other.
    """

    terms: tuple[str, ...]
    separate: str | None
    levels: Levels | None = None
    effects: tuple[Term, ...] = ()
    moved: str | None = None


@dataclass(frozen=True)
class BenchFactors:
    """What is known of factors on one bench.

    ``unlike`` are levels that do not act alike on all metrics, ``blind`` pairs of factors of which
    nothing shows whether they act on each other.
    ``left_out`` are levels and configurations without readings, with the reason,
    ``not_in_index`` metrics that cannot enter the index, and ``bounds`` counts readings that are
    bounds, which enter no mean. ``in_rounds`` says whether visits were made in common rounds,
    ``visits_known`` whether it is known which readings belong to one visit.
    """

    bench: str
    factors: Mapping[str, tuple[str, ...]]
    effects: tuple[FactorEffect, ...]
    unlike: tuple[UnlikeEffects, ...]
    interactions: tuple[Interaction, ...]
    lack_of_fit: tuple[LackOfFit, ...]
    confounded: tuple[Inseparable, ...]
    blind: tuple[Inseparable, ...]
    decomposition: tuple[Decomposition, ...]
    scaling: tuple[Scaling, ...]
    index_parts: Mapping[tuple[str, str], tuple[IndexPart, ...]]
    left_out: tuple[tuple[str, str], ...]
    not_in_index: tuple[Series, ...]
    bounds: int
    in_rounds: bool
    visits_known: bool


@dataclass(frozen=True)
class FactorsAnswer(Answer):
    """What every factor does, bench by bench."""

    baseline: str
    benches: tuple[BenchFactors, ...]


def attribute(
    study: Study,
    evidence: Evidence,
    *,
    start: str | None = None,
    end: str | None = None,
    selection: Selection | None = None,
    parts: bool = True,
) -> FactorsAnswer:
    """What each factor does, what cannot be told apart, and the parts of a whole change.

    The whole change is that from ``start``, the baseline unless named, to ``end``, by default
    the configuration that differs from it in most factors. A selection limits what is in the
    result, not how it is judged. Without ``parts`` it is not told which workload carries the index.

    Raises
    ------
    UsageError
        When a name is unknown, or nothing was measured.
    """
    selection = (selection or Selection()).resolve(study)
    start = study.configuration(start or study.baseline).name
    end = None if end is None else study.configuration(end).name
    if end is not None and not study.configuration(end).differs_in(study.configuration(start)):
        raise UsageError(f"{start} and {end} have the same levels: no change to split")
    found = tuple(
        _on_bench(study, evidence, bench, start, end, selection, parts=parts)
        for number, bench in enumerate(study.benches)
        if selection.includes(bench, start) and (evidence.readings.bench_of == number).any()
    )
    if not found:
        raise UsageError("nothing has been measured yet")
    series = {e.series for bench in found for e in bench.effects}
    benches = {bench.bench for bench in found}
    return FactorsAnswer(
        **basis_of(study, evidence, doubts_of(study, evidence, series, benches)),
        baseline=study.baseline,
        benches=found,
    )


def _factor_setting(
    study: Study,
    evidence: Evidence,
    bench: str,
    asked: frozenset[tuple[str, str]],
    *,
    parts: bool,
) -> FactorSetting:
    """What attribution has to know of a study besides its readings."""
    return FactorSetting(
        levels=[study.configuration(name).levels for name in evidence.readings.configurations],
        reference=study.configuration(study.baseline).levels,
        margin=study.head.margin,
        judging=setting_of(study, evidence, study.baseline),
        parts=parts,
        asked=asked,
        amounts={
            factor: {
                name: level.quantity
                for name, level in table.level.items()
                if level.quantity is not None
            }
            for factor, table in study.file.factor.items()
        },
        seen=_unexplained_facts(study, evidence, bench),
    )


def _on_bench(
    study: Study,
    evidence: Evidence,
    bench: str,
    start: str,
    end: str | None,
    selection: Selection,
    *,
    parts: bool,
) -> BenchFactors:
    place = evidence.readings.benches.index(bench)
    asked = selection.places or frozenset()
    setting = _factor_setting(study, evidence, bench, asked, parts=parts)
    study_of = Attribution(evidence.readings, place, setting)
    design = study_of.design
    here = evidence.readings.on_bench(place)

    def wanted(series: Series) -> bool:
        pair = (series.workload, series.metric)
        return not series.workload or selection.places is None or pair in selection.places

    effects = find_effects(study_of)
    end = end or _farthest(study, study_of, start)
    names = evidence.readings.configurations
    shares = () if end is None else decompose(study_of, names.index(start), names.index(end))
    return BenchFactors(
        bench=bench,
        factors=design.factors,
        effects=tuple(e for e in effects if wanted(e.series)),
        unlike=tuple(find_unlike([e for e in effects if wanted(e.series)])),
        interactions=tuple(i for i in find_interactions(study_of) if wanted(i.series)),
        lack_of_fit=tuple(x for x in find_lack_of_fit(study_of) if wanted(x.series)),
        confounded=tuple(_confounded(study, design, effects)),
        blind=tuple(_blind(study, design)),
        decomposition=tuple(d for d in shares if wanted(d.series)),
        scaling=tuple(s for s in find_scaling(study_of) if wanted(s.series)),
        index_parts={
            (e.factor, e.level): tuple(find_index_parts(study_of, e.factor, e.level))
            for e in effects
            if not e.series.workload and e.estimable and not e.is_between
        },
        left_out=tuple(_left_out(study, evidence, bench, design)),
        not_in_index=study_of.left_out,
        bounds=int(np.sum(here.bound != 0)),
        in_rounds=study.head.schedule == "rounds" and bool((here.round_of != NO_ROUND).any()),
        visits_known=not here.unknown_arms.intersection(here.arm_of.tolist()),
    )


def _farthest(study: Study, known: Attribution, start: str) -> str | None:
    """The configuration that differs from the start in most factors, two at least."""
    base = study.configuration(start)
    read = known.readings.on_bench(known.bench).numbers.configuration_of.tolist()
    measured = {known.readings.configurations[c] for c in read}
    others = [c for c in study.configurations if c.name in measured and c.name != CONTROL]
    best = max(others, key=lambda c: len(c.differs_in(base)), default=None)
    return best.name if best is not None and len(best.differs_in(base)) > 1 else None


def _confounded(
    study: Study, design: FactorDesign, effects: Sequence[FactorEffect]
) -> Iterator[Inseparable]:
    """What always came together: levels of factors, and software that moved with one."""
    grid = {f: tuple(study.file.factor[f].level) for f in design.factors}
    for found in find_confounding(design, lambda c: is_possible(study.file, dict(c)), grid):
        name = None if found.separate is None else _name(study, found.separate)
        terms = tuple(term.text for term in found.terms)
        yield Inseparable(terms, name, found.separate, found.terms)
    told = set()
    for effect in effects:
        for fact in effect.together:
            level = f"{effect.factor}={effect.level}"
            if "=" in fact or (level, fact) in told:
                continue
            told.add((level, fact))
            name, _, values = fact.partition(": ")
            remedy = f"{level} with the {name} of {effect.factor}={effect.against}"
            yield Inseparable((level, name), remedy, moved=values)


def _blind(study: Study, design: FactorDesign) -> Iterator[Inseparable]:
    for pair, levels in find_blind_pairs(design, lambda c: is_possible(study.file, dict(c))):
        name = None if levels is None else _name(study, levels)
        yield Inseparable(pair, name, levels)


def _name(study: Study, levels: Levels) -> str:
    return name_of(study.design, study.file, dict(levels))


def _unexplained_facts(
    study: Study, evidence: Evidence, bench: str
) -> dict[str, tuple[str | None, ...]]:
    """Software that was not the same everywhere and that no factor explains, by configuration."""
    explained = {name for factor in study.file.factor.values() for name in factor.explains}
    context = evidence.contexts.get(bench)
    known = {} if context is None else context.circumstances
    values: dict[str, dict[str, str]] = {}
    for name, side in known.items():
        facts = dict(side.software)
        for workload, subject in side.subjects.items():
            if workload not in explained:
                facts |= {f"{what} of {workload}": seen for what, seen in subject.items()}
        for what, seen in facts.items():
            if what not in explained:
                values.setdefault(what, {})[name] = ", ".join(sorted(seen))
    names = evidence.readings.configurations
    return {
        what: tuple(by_name.get(name) for name in names)
        for what, by_name in values.items()
        if len(set(by_name.values())) > 1
    }


def _left_out(
    study: Study, evidence: Evidence, bench: str, design: FactorDesign
) -> Iterator[tuple[str, str]]:
    """Levels that nothing was read with, then configurations, each with the reason."""
    rows = [dict(row) for row in design.rows]
    reasons: dict[str, str] = dict.fromkeys(study.design.impossible, "impossible")
    for gap in find_gaps(study, evidence):
        if gap.bench == bench and gap.mark is not GapMark.IMPOSSIBLE:
            text = f"{gap.mark}: {gap.reason}" if gap.reason else str(gap.mark)
            reasons.setdefault(gap.configuration, text)
    for factor, table in study.file.factor.items():
        for level in table.level:
            if all(row[factor] != level for row in rows):
                named = [c for c in study.configurations if c.levels[factor] == level]
                reason = reasons.get(named[0].name, "not measured") if named else "impossible"
                yield f"{factor}={level}", reason
    for configuration in study.configurations:
        if configuration.levels not in rows and configuration.name != CONTROL:
            yield configuration.name, reasons.get(configuration.name, "not measured")
    yield from ((name, "impossible") for name in study.design.impossible)
