"""Readings whose place is stated: typed in one line, or computed of traces."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.errors import UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.magnitudes import OddReading, find_odd
from ferocal.intake.ratios import WrongRatio, find_wrong_ratios
from ferocal.intake.readings import Intake
from ferocal.intake.record import make_batch, record
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.writing.opening import open_ledger
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import called, closest, resolve

if TYPE_CHECKING:
    from ferocal.study.load import Study


@dataclass(frozen=True)
class ReadingPlace:
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


def find_place(study: Study, place: ReadingPlace) -> ReadingPlace:
    """A place with its metric, which need not be named where there is but one.

    Raises
    ------
    UsageError
        When a name is unknown, or the metric has to be named.
    """
    place = replace(
        place,
        configuration=resolve(place.configuration, study.names),
        workload=resolve(place.workload, study.workloads),
    )
    study.configuration(place.configuration)
    study.workload(place.workload)
    known = [name for workload, name, _ in study.read_metrics() if workload == place.workload]
    if not place.metric and len(known) > 1:
        raise UsageError(
            f"{place.workload} has {len(known)} metrics: name one with --metric, or type "
            f"NAME=VALUE; {', '.join(known[:8])}"
        )
    if place.metric:
        titles = {name: [study.workloads[place.workload].metric[name].title] for name in known}
        place = replace(place, metric=called(place.metric, titles))
        check_metric(place, known)
    return replace(place, metric=place.metric or known[0])


def check_metric(place: ReadingPlace, known: Sequence[str]) -> None:
    """Check that the metric of a place is one of those of its workload.

    Raises
    ------
    UsageError
        When it is not; the message has the closest name.
    """
    if place.metric not in known:
        hint = closest(place.metric, list(known))
        raise UsageError(f'{place.workload} has no metric "{place.metric}"; {hint}')


def intake_of(
    study: Study, places: Sequence[ReadingPlace], **columns: np.ndarray | Labels
) -> Intake:
    """Readings with the place of each; what is not among ``columns`` is unknown.

    ``columns`` are of shape (n,), in the units of the study.
    """
    series = {(workload, name): n for n, (workload, name, _) in enumerate(study.read_metrics())}
    configurations = {c.name: n for n, c in enumerate(study.configurations)}
    benches = [study.on(place.bench or study.bench).bench for place in places]
    nothing, silent = np.full(len(places), np.nan), Labels.same("", len(places))
    given: dict[str, Any] = {
        **dict.fromkeys(("low", "high", "samples", "resolution", "ambient"), nothing),
        **dict.fromkeys(
            ("bound", "statistic", "mark", "reason", "note", "source", "version", "architecture"),
            silent,
        ),
        **columns,
    }
    return Intake(
        series_of=np.array([series[place.workload, place.metric] for place in places]),
        bench_of=np.array([study.benches.index(bench) for bench in benches]),
        configuration_of=np.array([configurations[place.configuration] for place in places]),
        round=np.array([-1 if place.round is None else place.round for place in places]),
        visit=Labels.of_texts([place.visit or "" for place in places]),
        run=Labels.of_texts([place.run for place in places]),
        started_at=Labels.of_texts([place.started_at for place in places]),
        excluded=Labels.of_texts([place.excluded for place in places]),
        **given,
    )


@dataclass(frozen=True)
class GivenStatistic:
    """What typed readings are of several values: which statistic, of how many; None if unsaid."""

    name: str | None = None
    samples: int | None = None


def enter_values(
    study: Study,
    place: ReadingPlace,
    texts: Sequence[str],
    statistic: GivenStatistic | None = None,
    *,
    operator: str | None = None,
) -> tuple[dict[str, int], list[OddReading], list[WrongRatio]]:
    """Record readings typed in one line; how many, and those that are doubtful.

    These are of another order of magnitude, or ratios that contradict their parts.

    Several values of one metric are several runs of one visit; several metrics, written
    ``NAME=VALUE``, are read from one run.

    Raises
    ------
    UsageError
        When a name is unknown or a value not understood; nothing is recorded then.
    IntakeError
        When a named visit contradicts what is recorded of it.
    LedgerError
        When the ledger cannot be written.
    """
    from ferocal.intake.typed import TypedError, TypedReading, parse_mark, parse_typed

    statistic = statistic or GivenStatistic()
    metrics = {(w, n): m for w, n, m in study.read_metrics()}
    places, read = [], []
    for where, text in _places(study, place, texts):
        metric = metrics[where.workload, where.metric]
        try:
            found = parse_mark(text) or parse_typed(text, metric.unit, plausible=metric.plausible)
        except TypedError as error:
            name = f"{where.metric}: " if "=" in texts[0] else ""
            raise UsageError(f"{name}{error}; nothing was recorded") from None
        places.append(where)
        read.append(found)
    values = [r if isinstance(r, TypedReading) else TypedReading(math.nan) for r in read]
    steps = [metrics[where.workload, where.metric].step for where in places]
    stated = math.nan if statistic.samples is None else float(statistic.samples)
    seen = [getattr(r, "samples", None) for r in read]
    intake = intake_of(
        study,
        places,
        value=np.array([r.value for r in values]),
        low=np.array([math.nan if r.low is None else r.low for r in values]),
        high=np.array([math.nan if r.high is None else r.high for r in values]),
        resolution=np.array([math.nan if step is None else step for step in steps]),
        samples=np.array([stated if n is None else float(n) for n in seen]),
        bound=Labels.of_texts([r.bound or "" for r in values]),
        statistic=Labels.of_texts([r.statistic or statistic.name or "" for r in values]),
        note=Labels.of_texts([r.remark for r in values]),
        version=Labels.same(place.version or "", len(values)),
        mark=Labels.of_texts([getattr(r, "mark", "") for r in read]),
        reason=Labels.of_texts([getattr(r, "reason", "") for r in read]),
    )
    batch = make_batch(intake, study)
    with open_ledger(study.directory, create=True, mask=study.mask) as ledger, ledger.together():
        counts = record(ledger, study, batch, kind="enter", source="typed", operator=operator)
    kept = np.array([not getattr(r, "kept", False) for r in read], dtype=bool)
    # It was checked when it was opened to be written, and what was added as it was.
    with read_ledger(study.directory, checked=False) as recorded:
        odd = find_odd(study, recorded, intake.select(kept))
    return counts, odd, find_wrong_ratios(study, intake)


def _places(
    study: Study, place: ReadingPlace, texts: Sequence[str]
) -> list[tuple[ReadingPlace, str]]:
    """The place of every typed value; of values with a name, all are of one run."""
    named = [text.partition("=") for text in texts if "=" in text]
    if not named:
        where = find_place(study, place)
        return [(where, text) for text in texts]
    if len(named) < len(texts):
        raise UsageError("write NAME=VALUE for all values or for none; nothing was recorded")
    if place.metric:
        raise UsageError("use either --metric or NAME=VALUE")
    names = [name.strip() for name, _, _ in named]
    twice = [name for name in dict.fromkeys(names) if names.count(name) > 1]
    if twice:
        raise UsageError(f"{twice[0]} has two values, and one run has one; nothing was recorded")
    # One run of the names: the parts of an unnamed visit belong together too.
    return [
        (find_place(study, replace(place, metric=name, run=place.run or "1")), value)
        for name, (_, _, value) in zip(names, named, strict=True)
    ]
