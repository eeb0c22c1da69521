"""A plan held against what is known so far: durations and spread."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ferocal.analysis.components import Components, components_of, estimate_components
from ferocal.evidence import gather
from ferocal.ledger.extract import Durations, read_durations
from ferocal.ledger.opening import LEDGER_FILE, open_ledger
from ferocal.plan.advice import (
    Cost,
    Outlook,
    estimate_cost,
    find_answers,
    find_limits,
    find_short_margins,
    foresee,
)
from ferocal.plan.order import PlannedVisit, plan_study
from ferocal.study.load import Study, load_study

Spread = dict[tuple[str, str], Components]


@dataclass(frozen=True)
class Foresight:
    """A plan, what it costs, and what it can be expected to answer.

    ``detect`` is the change that is asked for, as a share, None for the margin.
    """

    study: Study
    visits: list[PlannedVisit]
    cost: Cost
    answers: list[str]
    limits: list[str]
    spread_from: str | None
    detect: float | None
    outlooks: list[Outlook]


def foresee_directory(
    directory: Path,
    *,
    rounds: int | None = None,
    detect: float | None = None,
    stated_sd: float | None = None,
    like: Path | None = None,
) -> Foresight:
    """What the plan of a study can be expected to give.

    The spread is that of the study's own rounds so far, else of noise floors that were
    brought in, else of the study ``like``, else ``stated_sd`` (on the log scale) for every
    metric.

    Raises
    ------
    UsageError
        When there is no study, or it has no rounds and rounds are asked for.
    """
    study = load_study(directory)
    visits = plan_study(study, rounds)
    durations, spread, source = _known(study)
    if not spread and like is not None:
        _, spread, source = _known(load_study(like))
        source = None if source is None else str(like)
    if not spread and stated_sd is not None:
        components = Components(stated_sd, 0, float("nan"), float("nan"))
        spread = {(workload, name): components for workload, name, _ in study.metrics()}
        source = "what was stated"
    cost = estimate_cost(study, visits, durations.runs, durations.switching)
    count = max(visit.round for visit in visits)
    outlooks = (
        foresee(study, count, cost, detect, spread) if study.head.schedule == "rounds" else []
    )
    return Foresight(
        study=study,
        visits=visits,
        cost=cost,
        answers=find_answers(study, count),
        limits=find_limits(study, count) + find_short_margins(outlooks, count),
        spread_from=source,
        detect=detect,
        outlooks=outlooks,
    )


def _known(study: Study) -> tuple[Durations, Spread, str | None]:
    """Durations and spread that the ledger of a study holds, and where the spread is from."""
    if not (study.directory / LEDGER_FILE).exists() or study.head.schedule != "rounds":
        return Durations({}, None), {}, None
    with open_ledger(study.directory) as ledger:
        evidence = gather(study, ledger)
        durations = read_durations(ledger)
    components = estimate_components(evidence.readings, study.baseline)
    found = {
        (series.workload, series.metric): own
        for series, own in zip(evidence.readings.series, components, strict=True)
        if own is not None
    }
    if found:
        return durations, found, "this study so far"
    floors = {
        (series.workload, series.metric): components_of(floor)
        for series, floor in evidence.floors.items()
    }
    return durations, floors, "noise floors" if floors else None
