"""Comparison: which configuration changes the scores, and by how much."""

from __future__ import annotations

import itertools
import statistics
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime

from ferocal.analysis.caveats.kinds import Caveat, Context
from ferocal.analysis.caveats.table import BARS, add_caveats
from ferocal.analysis.data.cells import Cell, tabulate
from ferocal.analysis.data.gaps import Gap
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import (
    Accepted,
    Effect,
    Replicates,
    Setting,
    barring_caveat,
    control_failures,
    counting_effects,
    has_evidence,
)
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.analysis.inference.families import find_references
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.answers.answer import Answer, Doubts, basis_of
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.gaps import find_gaps
from ferocal.answers.release_line import PREVIOUS
from ferocal.answers.selection import Selection
from ferocal.answers.summaries import SummaryEffect, summarise
from ferocal.errors import UsageError
from ferocal.ledger.records import Note
from ferocal.ledger.store import Ledger
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.dimensions import ONE
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Prospect:
    """How more evidence can be had on a bench.

    ``replicates`` says by what, ``kinds`` how readings came so far ("measure", "enter", "load"),
    ``round_seconds`` how long a round takes as seen so far, None where that is unknown,
    ``last_round`` the last one that was begun. `measure` would take ``open`` runs, and with --retry
    ``lost`` ones too, which failed or are excluded.
    """

    replicates: Replicates
    kinds: frozenset[str]
    round_seconds: float | None
    last_round: int = 0
    open: int = 0
    lost: int = 0


@dataclass(frozen=True)
class Comparison(Answer):
    """Effects of a study against one of its configurations, bench by bench.

    ``benches`` are those of the study that are wanted, ``levels`` are by configuration, the
    baseline first, and ``series`` all that are wanted. ``gaps`` are the cells without a
    reading, for which there is no effect. ``alarm`` are the effects of the control arm that are
    not nil, whatever was selected. ``unmeasured`` names configurations, by bench, without any
    effect that an interval stands behind. ``base_cells`` is what was read of the baseline, or of
    what stands for it, by bench, workload and metric. ``prospects`` say by bench how more evidence
    can be had. ``summaries`` are changes of groups of metrics as one. ``asked`` says whether some
    metrics were asked for by name, ``only_baseline`` whether no configuration was but the baseline.
    """

    baseline: str
    benches: tuple[str, ...]
    levels: Mapping[str, Mapping[str, str]]
    series: tuple[Series, ...]
    effects: tuple[Effect, ...]
    base_cells: Mapping[tuple[str, str, str], Cell]
    gaps: tuple[Gap, ...]
    notes: tuple[Note, ...]
    alarm: tuple[Effect, ...]
    unmeasured: tuple[tuple[str, str], ...]
    prospects: Mapping[str, Prospect]
    summaries: tuple[SummaryEffect, ...] = ()
    asked: bool = False
    only_baseline: bool = False

    def on_bench(self, bench: str) -> Comparison:
        """Only the effects on one bench."""
        return replace(
            self,
            benches=(bench,),
            effects=tuple(effect for effect in self.effects if effect.bench == bench),
            gaps=tuple(gap for gap in self.gaps if gap.bench == bench),
            alarm=tuple(effect for effect in self.alarm if effect.bench == bench),
            summaries=tuple(effect for effect in self.summaries if effect.bench == bench),
            unmeasured=tuple(place for place in self.unmeasured if place[0] == bench),
        )


def compare(
    study: Study,
    evidence: Evidence,
    *,
    against: str | None = None,
    selection: Selection | None = None,
) -> Comparison:
    """Every configuration against the study's baseline, or against another one.

    Against `PREVIOUS` it is the newest release against the one measured before it, alone.
    With a selection only some of the effects are in the result. They are judged as before: how
    many comparisons were made does not depend on how many are looked at.

    Raises
    ------
    UsageError
        When a name is unknown.
    """
    selection = (selection or Selection()).resolve(study)
    newest = None
    if against == PREVIOUS and PREVIOUS not in study.names:
        against, newest = _last_two(evidence)
    base = study.configuration(against or study.baseline).name
    setting = setting_of(study, evidence, base)
    effects = _effects(study, evidence, base, setting, newest)
    wanted = tuple(
        e
        for e in effects
        if selection.wants(e.bench, e.configuration, e.series.workload, e.series.metric)
    )
    return Comparison(
        **basis_of(study, evidence),
        baseline=base,
        benches=tuple(b for b in study.benches if not selection.benches or b in selection.benches),
        levels=levels_of(study, base),
        series=tuple(
            s
            for s in evidence.readings.series
            if selection.places is None or (s.workload, s.metric) in selection.places
        ),
        effects=wanted,
        base_cells=_base_cells(evidence, base, setting),
        gaps=tuple(
            gap
            for gap in find_gaps(study, evidence)
            if gap.configuration == base
            or selection.wants(gap.bench, gap.configuration, gap.workload, gap.metric)
        ),
        notes=evidence.notes,
        alarm=tuple(control_failures(effects)),
        unmeasured=tuple(_unmeasured(study, wanted, selection, base)) if newest is None else (),
        prospects={bench: prospect_of(study, evidence, bench) for bench in study.benches},
        summaries=_summaries(study, evidence, base, setting, selection, newest),
        asked=selection.places is not None,
        only_baseline=set(selection.configurations) == {base},
    )


def _summaries(
    study: Study,
    evidence: Evidence,
    baseline: str,
    setting: Setting,
    selection: Selection,
    newest: str | None,
) -> tuple[SummaryEffect, ...]:
    """Groups of metrics as one, unless only some metrics are wanted."""
    if selection.places is not None or not len(evidence.readings.value):
        return ()
    return tuple(
        e
        for e in summarise(evidence.readings, baseline, setting, study.head.margin)
        if selection.includes(e.bench, e.configuration) and newest in (None, e.configuration)
    )


def _last_two(evidence: Evidence) -> tuple[str | None, str | None]:
    """The release before the newest, and the newest, of those measured; the only one, and None."""
    measured = [] if evidence.releases is None else evidence.releases.measured()
    if evidence.releases is None:
        raise UsageError(
            f'"{PREVIOUS}" is the level before the newest of a factor that has an `order`, and no '
            "factor has one"
        )
    if len(measured) < 2:
        return next(iter(measured), None), None
    return measured[-2], measured[-1]


def _effects(
    study: Study, evidence: Evidence, baseline: str, setting: Setting, only: str | None = None
) -> tuple[Effect, ...]:
    """All effects against a baseline, or that of one configuration, with their caveats."""
    effects = estimate_effects(evidence.readings, baseline, setting, only)
    contexts = _contexts(study, evidence, setting)
    return add_caveats(effects, evidence.readings, setting, contexts)


def _contexts(study: Study, evidence: Evidence, setting: Setting) -> dict[str, Context]:
    """What is known of every bench, with what the factors explain against a baseline."""
    return {
        bench: replace(context, explained=_explained(study, setting))
        for bench, context in evidence.contexts.items()
    }


def doubts_of(
    study: Study,
    evidence: Evidence,
    series: Collection[Series],
    benches: Collection[str],
    configurations: Collection[str] | None = None,
    baseline: str | None = None,
) -> Doubts:
    """The comparisons of some metrics with the baseline on some benches, for their caveats."""
    base = baseline or study.baseline
    setting = setting_of(study, evidence, base)
    effects = tuple(
        e
        for e in _effects(study, evidence, base, setting)
        if e.series in series
        and e.bench in benches
        and not e.control
        and (configurations is None or e.configuration in configurations)
    )
    return Doubts(effects, levels_of(study, base))


def find_barred(
    study: Study, evidence: Evidence, baseline: str, setting: Setting
) -> dict[tuple[str, Series, str], Caveat]:
    """What is not comparable with a baseline, by bench, metric and configuration, and why."""
    effects = estimate_effects(evidence.readings, baseline, setting)
    contexts = _contexts(study, evidence, setting)
    return {
        (e.bench, e.series, e.configuration): barring_caveat(e)
        for e in add_caveats(effects, evidence.readings, setting, contexts, BARS)
        if e.verdict is Verdict.NOT_COMPARABLE
    }


def levels_of(study: Study, baseline: str) -> dict[str, Mapping[str, str]]:
    """The levels of every configuration, those of the baseline first."""
    ordered = sorted(study.configurations, key=lambda c: c.name != baseline)
    return {c.name: c.levels for c in ordered}


def _base_cells(
    evidence: Evidence, baseline: str, setting: Setting
) -> dict[tuple[str, str, str], Cell]:
    """What was read of the baseline, or of what stands for it, by bench, workload and metric."""
    readings = evidence.readings
    instead, place = find_references(readings, baseline, setting), readings.configurations.index
    base = place(baseline)
    wanted = {base, *instead.values()}
    tables = {
        (b, c): tabulate(readings, b, c) for b in range(len(readings.benches)) for c in wanted
    }
    found = {}
    for b, bench in enumerate(readings.benches):
        for s, series in enumerate(readings.series):
            c = instead.get((b, s), base)
            cell = tables[b, c][s][c]
            if cell is not None:
                found[bench, series.workload, series.metric] = cell
    return found


def prospect_of(study: Study, evidence: Evidence, bench: str) -> Prospect:
    """How more evidence can be had on a bench."""
    kinds = evidence.kinds.get(bench, frozenset())
    replicates = _replicates(study, evidence, bench)
    seconds = _round_seconds(study, evidence, bench) if replicates == "rounds" else None
    progress = evidence.progress[bench]
    losses = evidence.contexts[bench].losses.values()
    lost = sum(count for of_place in losses for count in of_place.values())
    return Prospect(replicates, kinds, seconds, progress.last_round, progress.open, lost)


def _round_seconds(study: Study, evidence: Evidence, bench: str) -> float | None:
    """How long a round takes, from the times at which visits have begun.

    The median of the gaps between them, so that pauses between sessions do not count.
    """
    times = sorted(
        datetime.fromisoformat(v.started_at)
        for v in evidence.visits
        if v.bench == bench and v.started_at and v.state == "active"
    )
    gaps = [(later - earlier).total_seconds() for earlier, later in itertools.pairwise(times)]
    if not gaps or not any(gaps):
        return None
    return statistics.median(gaps) * len(study.configurations)


def _unmeasured(
    study: Study, effects: Sequence[Effect], selection: Selection, baseline: str
) -> Iterator[tuple[str, str]]:
    """Bench and configuration of those that were asked for and have no evidence."""
    known = {(e.bench, e.configuration) for e in effects if has_evidence(e)}
    for bench in study.benches:
        for configuration in study.configurations:
            name = configuration.name
            asked = selection.includes(bench, name) and name not in (baseline, CONTROL)
            if asked and (bench, name) not in known:
                yield bench, name


def setting_of(study: Study, evidence: Evidence, baseline: str) -> Setting:
    """What the analysis has to know of a study besides its readings."""
    base = study.configuration(baseline)
    interleaved = study.head.schedule == "rounds"
    return Setting(
        interleaved=interleaved,
        looks=evidence.looks,
        looks_taken=evidence.looks_taken if evidence.looks else None,
        replicates={bench: _replicates(study, evidence, bench) for bench in study.benches},
        # Against another baseline, the control arm is an arm like any other.
        control=CONTROL if study.head.control and baseline == study.baseline else None,
        baselines={
            name: workload.baseline
            for name, workload in study.workloads.items()
            if workload.baseline and baseline == study.baseline
        },
        noise_floors=evidence.noise_floors,
        floor_arm=CONTROL if study.head.control else None,
        release_floor=None if evidence.releases is None else evidence.releases.floor,
        differing={c.name: c.differs_in(base) for c in study.configurations},
        amounts={
            c.name: {name: amount for name, (amount, unit) in c.quantities.items() if unit == ONE}
            for c in study.configurations
        },
        planned_rounds=evidence.planned_rounds,
        accepted=tuple(_accepted(study)),
    )


def _accepted(study: Study) -> Iterator[Accepted]:
    for name, workload in study.workloads.items():
        yield from (Accepted(c, workload.accept_because, workload=name) for c in workload.accept)
    for name, factor in study.file.factor.items():
        yield from (Accepted(c, factor.accept_because, factor=name) for c in factor.accept)


def _replicates(study: Study, evidence: Evidence, bench: str) -> Replicates:
    """By what more evidence can be had on a bench."""
    if study.head.schedule == "once":
        return "none"
    measured = "measure" in evidence.kinds.get(bench, ("measure",))
    return "rounds" if measured and study.head.schedule == "rounds" else "visits"


def _explained(study: Study, setting: Setting) -> dict[str, set[str]]:
    """By configuration, the software facts that change with a factor in which it differs."""
    return {
        name: {fact for factor in factors for fact in study.file.factor[factor].explains}
        for name, factors in setting.differing.items()
    }


def name_undecided(study: Study, ledger: Ledger) -> list[str]:
    """The effects on the bench at hand that count and are not decided yet, by name.

    Effects of primary metrics count, or all of them where none is primary.
    """
    effects = compare(study, gather(study, ledger)).effects
    here = [effect for effect in effects if effect.bench == study.bench]
    return [
        f"{e.configuration} on {e.series.workload} {e.series.metric}"
        for e in counting_effects(here)
        if e.verdict is Verdict.INCONCLUSIVE
    ]
