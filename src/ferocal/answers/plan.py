"""Foresight: what will be done, how long it takes, and what it can answer."""

from __future__ import annotations

import math
from pathlib import Path

from ferocal.analysis.data.readings import choose_scales
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.components import (
    Components,
    components_of,
    estimate_components,
)
from ferocal.analysis.inference.judging import find_floor
from ferocal.answers.compare import Prospect, prospect_of, setting_of
from ferocal.answers.criteria import CriteriaChange
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.metrics import study_series
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.sessions import Durations, read_durations
from ferocal.plan.advice import (
    Advice,
    Cost,
    Outlook,
    estimate_cost,
    expect_equivalence,
    find_answers,
    find_shortcomings,
    foresee,
)
from ferocal.plan.order import PlannedVisit, plan_study
from ferocal.study.load import Study, load_study
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import counted

Spread = dict[tuple[str, str], Components]


@dataclass(frozen=True)
class Foresight:
    """A plan for one bench, its cost, and what it can be expected to answer.

    ``answers`` and ``shortcomings`` are what the plan can tell and cannot, ``planned`` is the
    number of rounds or visits in words, and ``series`` are all metrics in their order.
    ``detect`` is the change that is asked for, as a share, None for the margin. ``rounds`` is
    their number if it was asked for, and ``prospect`` says what is left to be measured, None
    where nothing is recorded.
    """

    question: str
    schedule: str
    bench: str | None
    impossible: tuple[str, ...]
    visits: list[PlannedVisit]
    cost: Cost
    answers: list[Advice]
    shortcomings: list[Advice]
    planned: str
    series: tuple[Series, ...]
    spread_from: str | None
    detect: float | None
    outlooks: list[Outlook]
    criteria_changes: tuple[CriteriaChange, ...]
    rounds: int | None
    prospect: Prospect | None


@dataclass(frozen=True)
class _Known:
    """Durations and spread that a ledger holds, and where the spread is from."""

    durations: Durations
    spread: Spread
    source: str | None
    criteria_changes: tuple[CriteriaChange, ...] = ()
    prospect: Prospect | None = None


def foresee_study(
    study: Study,
    *,
    rounds: int | None = None,
    detect: float | None = None,
    stated_sd: float | None = None,
    like: Path | None = None,
) -> Foresight:
    """What the plan of a study can be expected to give on its bench, the first of several.

    The spread is that of the study's own rounds so far, else of noise floors that were
    imported, else of the study ``like``, else ``stated_sd`` (on the log scale) for every
    metric whose margin is a share, else the noise that the study file states.

    Raises
    ------
    UsageError
        When it has no rounds and rounds are asked for.
    """
    study = study.on(study.chosen_bench or study.benches[0])
    visits = plan_study(study, rounds)
    known = _look_up(study)
    spread, source = known.spread, known.source
    if not spread and like is not None:
        earlier = load_study(like)
        spread = _look_up(earlier.on(earlier.benches[0])).spread
        source = str(like) if spread else None
    if not spread and stated_sd is not None:
        components = Components(stated_sd, 0, float("nan"), float("nan"))
        spread = {(w, name): components for w, name, m in study.metrics() if m.unit_margin is None}
        source = "--sd"
    if not spread:
        spread = _stated(study)
        source = "the noise stated in the study file" if spread else None
    cost = estimate_cost(study, visits, known.durations.runs, known.durations.switching)
    in_rounds = study.head.schedule == "rounds"
    count = max(visit.round for visit in visits) if in_rounds else study.head.visits
    planned = counted(count, "round" if in_rounds else "visit")
    outlooks = foresee(study, count, cost, detect, spread)
    series = study_series(study)
    shown = expect_equivalence(outlooks, {(s.workload, s.metric): s.role for s in series})
    return Foresight(
        question=study.head.question,
        schedule=study.head.schedule,
        bench=study.bench if len(study.benches) > 1 else None,
        impossible=study.design.impossible,
        visits=visits,
        cost=cost,
        answers=[*find_answers(study, count), *([shown] if shown else [])],
        shortcomings=find_shortcomings(study, count),
        planned=planned,
        series=series,
        spread_from=source,
        detect=detect,
        outlooks=outlooks,
        criteria_changes=known.criteria_changes,
        rounds=rounds,
        prospect=known.prospect,
    )


def _look_up(study: Study) -> _Known:
    """What the ledger of a study holds on its bench."""
    if not (study.directory / LEDGER_FILE).exists():
        return _Known(Durations({}, None), {}, None)
    with read_ledger(study.directory) as ledger:
        evidence = gather(study, ledger)
        durations = read_durations(ledger, study.bench)
    place = evidence.readings.benches.index(study.bench)
    components: list[Components | None] = [None] * len(evidence.readings.series)
    if study.head.schedule == "rounds":
        components = estimate_components(evidence.readings, study.baseline, place)
    pairs = zip(evidence.readings.series, components, strict=True)
    spread = {(s.workload, s.metric): known for s, known in pairs if known is not None}
    source = "this study so far"
    if not spread:
        spread = {
            (series.workload, series.metric): components_of(floor)
            for (bench, series), floor in evidence.noise_floors.items()
            if bench == study.bench
        }
        source = "noise floors"
    if not spread:
        spread = _own_floors(study, evidence, place)
        source = "visits of this study so far"
    prospect = prospect_of(study, evidence, study.bench)
    source = source if spread else ""
    return _Known(durations, spread, source or None, evidence.criteria_changes, prospect)


def _own_floors(study: Study, evidence: Evidence, bench: int) -> Spread:
    """The spread that visits to one configuration show, where there are no rounds."""
    readings = evidence.readings.numbers
    scales = choose_scales(evidence.readings)
    setting = setting_of(study, evidence, study.baseline)
    floors = {
        (series.workload, series.metric): find_floor(readings, s, bench, scales, setting)
        for s, series in enumerate(readings.series)
    }
    return {place: components_of(floor) for place, floor in floors.items() if floor is not None}


def _stated(study: Study) -> Spread:
    """The spread as the study file states it: a round has two visits."""
    spread: Spread = {}
    for series in study_series(study):
        in_unit = series.unit_margin is not None
        noise = series.unit_noise if in_unit else series.noise
        if noise is not None:
            place = (series.workload, series.metric)
            scale: Scale = "difference" if in_unit else "ratio"
            spread[place] = Components(math.sqrt(2) * noise, 0, math.nan, math.nan, scale)
    return spread
