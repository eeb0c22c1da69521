"""Readings whose place is stated: typed in one line, or computed of traces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.errors import UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.readings import Intake
from ferocal.intake.record import make_batch, record
from ferocal.ledger.opening import open_ledger
from ferocal.terms.names import closest

if TYPE_CHECKING:
    from ferocal.study.load import Study


@dataclass(frozen=True)
class Place:
    """Where a reading belongs; None and "" where unknown."""

    configuration: str
    workload: str
    metric: str
    round: int | None = None
    visit: str | None = None
    started_at: str = ""
    version: str | None = None
    run: str = ""
    excluded: str = ""
    bench: str = ""


def find_place(study: Study, place: Place) -> Place:
    """A place with its metric, which need not be named where there is but one.

    Raises
    ------
    UsageError
        When a name is not known, or the metric has to be named.
    """
    study.configuration(place.configuration)
    study.workload(place.workload)
    known = [name for workload, name, _ in study.metrics() if workload == place.workload]
    if not place.metric and len(known) > 1:
        raise UsageError(f"{place.workload} has {len(known)} metrics; name one with --metric")
    if place.metric:
        check_metric(place, known)
    return replace(place, metric=place.metric or known[0])


def check_metric(place: Place, known: Sequence[str]) -> None:
    """Check that the metric of a place is one of those of its workload.

    Raises
    ------
    UsageError
        When it is not; the message has the closest name.
    """
    if place.metric not in known:
        hint = closest(place.metric, list(known))
        raise UsageError(f'{place.workload} has no metric "{place.metric}"; {hint}')


def intake_of(study: Study, places: Sequence[Place], **columns: np.ndarray) -> Intake:
    """Readings with the place of each; numbers that are not among ``columns`` are unknown.

    ``columns`` are of shape (n,), in the units of the study.
    """
    series = {(workload, name): n for n, (workload, name, _) in enumerate(study.metrics())}
    configurations = {c.name: n for n, c in enumerate(study.configurations)}
    benches = [study.on(place.bench or study.bench).bench for place in places]
    nothing = np.full(len(places), np.nan)
    numbers: dict[str, Any] = dict.fromkeys(("low", "high", "samples", "resolution"), nothing)
    return Intake(
        series_of=np.array([series[place.workload, place.metric] for place in places]),
        bench_of=np.array([study.benches.index(bench) for bench in benches]),
        configuration_of=np.array([configurations[place.configuration] for place in places]),
        round=np.array([-1 if place.round is None else place.round for place in places]),
        visit=Labels.of_texts([place.visit or "" for place in places]),
        run=Labels.of_texts([place.run for place in places]),
        started_at=Labels.of_texts([place.started_at for place in places]),
        excluded=Labels.of_texts([place.excluded for place in places]),
        **(numbers | columns),
    )


def enter_values(study: Study, place: Place, texts: Sequence[str]) -> dict[str, int]:
    """Record readings typed in one line; several are several runs of one visit.

    Raises
    ------
    UsageError
        When a name is not known or a value not understood; nothing is recorded then.
    LedgerError
        When the ledger cannot be written.
    """
    from ferocal.intake.typed import TypedError, parse_typed

    place = find_place(study, place)
    metric = next(m for w, n, m in study.metrics() if (w, n) == (place.workload, place.metric))
    try:
        read = [parse_typed(t, metric.unit, plausible=metric.plausible) for t in texts]
    except TypedError as error:
        raise UsageError(f"{error}; nothing was recorded") from None
    intake = intake_of(
        study,
        [place] * len(read),
        value=np.array([r.value for r in read]),
        low=np.array([np.nan if r.low is None else r.low for r in read]),
        high=np.array([np.nan if r.high is None else r.high for r in read]),
        resolution=np.full(len(read), np.nan if metric.step is None else metric.step),
    )
    batch = make_batch(intake, study)
    if place.version is not None:
        batch = replace(batch, subjects={place.workload: version_subject(place.version)})
    with open_ledger(study.directory, create=True) as ledger:
        return record(ledger, study, batch, kind="enter", source="typed")


def version_subject(version: str) -> dict[str, object]:
    """What is known of a workload of which only the version is stated."""
    return {"arguments": [], "version": version, "files": {}, "statistics": {}}
