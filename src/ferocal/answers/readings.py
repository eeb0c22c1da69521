"""Every reading as a dot in the order of time, with the run that it is of."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import Series
from ferocal.terms.conditions import CONDITIONS, TEMPERATURE
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.ledger.reading.runs import RunRow
    from ferocal.study.derived import MetricKey
    from ferocal.study.load import Study

# By condition and configuration, the lowest, the median and the highest.
ConditionSummary = Mapping[str, Mapping[str, tuple[float, float, float]]]


@dataclass(frozen=True)
class Dot:
    """A reading with its run: where it is in the order of time, and why it does not count.

    ``condition`` is what was read of that before the run, None where nothing was.
    """

    run: str
    at: str
    place: int
    configuration: str
    round: int | None
    value: float
    bound: str | None
    excuse: str
    condition: float | None


@dataclass(frozen=True)
class RunDots:
    """All readings of one metric on a bench, in the order of time.

    Where none of them has a time, their order is that in which they were recorded, and not
    ``in_time``. ``condition`` names what is drawn beneath, "" for nothing. What is computed has no
    dots but the metrics that it is ``computed_from``. ``other_units`` counts readings in a unit
    that is not that of the study any more.
    """

    bench: str
    series: Series
    configurations: tuple[str, ...]
    dots: tuple[Dot, ...]
    in_time: bool
    condition: str
    computed_from: tuple[MetricKey, ...] = ()
    other_units: int = 0


@dataclass(frozen=True)
class DotsChart:
    """Readings of several metrics of a bench."""

    question: str
    bench: str
    panels: tuple[RunDots, ...]


def list_dots(
    study: Study, series: Sequence[Series], runs: Iterable[RunRow]
) -> tuple[RunDots, ...]:
    """The readings of metrics, bench by bench; those without any are left out."""
    by_place: dict[tuple[str, str], list[RunRow]] = {}
    for run in runs:
        by_place.setdefault((run.bench, run.workload), []).append(run)
    found = (
        _dots_of(study, bench, metric, by_place.get((bench, metric.workload), []))
        for bench in study.benches
        for metric in series
    )
    return tuple(dots for dots in found if dots.dots or dots.computed_from)


def _dots_of(study: Study, bench: str, series: Series, runs: Sequence[RunRow]) -> RunDots:
    read = [run for run in runs if series.metric in run.values]
    same = [run for run in read if run.values[series.metric].unit == series.unit]
    condition = _condition_of(same)
    names = {run.configuration for run in same}
    return RunDots(
        bench=bench,
        series=series,
        configurations=tuple(c.name for c in study.configurations if c.name in names),
        dots=tuple(_dots(series.metric, same, condition)),
        in_time=all(run.started_at for run in same),
        condition=condition,
        computed_from=() if read else _parts_of(study, series),
        other_units=len(read) - len(same),
    )


def _parts_of(study: Study, series: Series) -> tuple[MetricKey, ...]:
    """From which metrics one is computed; none where it is read."""
    formula = study.formulas.get((series.workload, series.metric))
    terms = () if formula is None else formula.readings
    return tuple(dict.fromkeys((term.workload, term.metric) for term in terms))


def _dots(metric: str, runs: Sequence[RunRow], condition: str) -> Iterator[Dot]:
    for place, run in enumerate(runs):
        reading = run.values[metric]
        yield Dot(
            run.id, run.started_at, place, run.configuration, run.round, reading.value,
            reading.bound, run.excuse, _before(run).get(condition),
        )  # fmt: skip


def _condition_of(runs: Iterable[RunRow]) -> str:
    """The temperature, else the first condition that the study file reads; "" for none."""
    known = dict.fromkeys(name for run in runs for name in _before(run))
    own = [name for name in known if name not in CONDITIONS]
    return next((name for name in (TEMPERATURE, *own) if name in known), "")


def summarise_conditions(runs: Iterable[RunRow]) -> dict[tuple[str, str], ConditionSummary]:
    """The conditions before the runs that count, by bench and workload."""
    found: dict[tuple[str, str], dict[str, dict[str, list[float]]]] = {}
    for run in runs:
        if run.excuse:
            continue
        known = found.setdefault((run.bench, run.workload), {})
        for name, value in _before(run).items():
            known.setdefault(name, {}).setdefault(run.configuration, []).append(value)
    return {
        place: {
            name: {n: (min(v), statistics.median(v), max(v)) for n, v in of_name.items()}
            for name, of_name in known.items()
        }
        for place, known in found.items()
    }


def _before(run: RunRow) -> Mapping[str, float]:
    """The conditions that are numbers, as they were before a run."""
    read = (run.conditions or {}).get("before") or {}
    return {n: float(v) for n, v in read.items() if isinstance(v, (int, float)) and v is not True}
