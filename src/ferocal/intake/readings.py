"""Readings of a table held against a study: named, converted, checked, or refused whole."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.intake.cells import MARKS, Cells, parse_numbers, read_cells, what_is_wrong
from ferocal.intake.columns import Columns, Labels, combine, repeats
from ferocal.intake.delimited import MOST_NAMED, refusal
from ferocal.study.metrics import STATISTICS
from ferocal.terms.names import closest, resolve
from ferocal.terms.units import UnitError, convert, is_time
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.intake.formats import SourceTable
    from ferocal.study.load import Study

_FEW_PAIRS = 10_000
# What is more is a time or a size by mistake.
_MOST_ROUNDS = 1_000_000
# Times of one visit this far apart (s) are of two.
DAY = 86_400.0
# Names that Ferocal itself gives.
ID = re.compile("[0-9a-f]{32}")


@dataclass(frozen=True)
class Intake:
    """Checked readings as columns of shape (n,), in the units of the study.

    ``series_of``, ``bench_of`` and ``configuration_of`` index the metrics, the benches and the
    configurations of the study; the texts are "", the numbers NaN and the rounds −1 where
    nothing is known. With a ``bound`` ("<" or ">") the true value is below or above. Where
    there is a ``mark`` there is no reading, for a ``reason`` if one is known.
    """

    series_of: np.ndarray
    bench_of: np.ndarray
    configuration_of: np.ndarray
    value: np.ndarray
    low: np.ndarray
    high: np.ndarray
    samples: np.ndarray
    resolution: np.ndarray
    round: np.ndarray
    visit: Labels
    run: Labels
    started_at: Labels
    excluded: Labels
    bound: Labels
    statistic: Labels
    mark: Labels
    reason: Labels

    def select(self, rows: np.ndarray) -> Intake:
        """Only these rows, named by a mask."""
        columns: dict[str, Any] = {
            name: Labels(column.codes[rows], column.names)
            if isinstance(column, Labels)
            else column[rows]
            for name, column in vars(self).items()
        }
        return Intake(**columns)


class _Problems:
    """Collects the problems, row by row, to report them together."""

    def __init__(self, columns: Columns, table: SourceTable) -> None:
        self._columns, self._table = columns, table
        self._shown: list[tuple[int, str]] = []
        self._count = 0

    def add(self, wrong: np.ndarray, column: str, message: str | Callable[[int], str]) -> None:
        """Rows in which a column is wrong; ``{}`` in a text stands for what is there."""
        rows = np.flatnonzero(wrong)
        self._count += len(rows)
        for row in rows[: max(0, MOST_NAMED - len(self._shown))].tolist():
            text = message if isinstance(message, str) else message(row)
            if "{}" in text:
                text = text.replace("{}", f'"{self._columns.labels(column)[row]}"')
            self._shown.append((int(self._columns.row[row]), f"{column}: {text}"))

    def raise_if_any(self) -> None:
        if not self._shown:
            return
        table = self._table
        self._shown.sort()
        numbers = table.numbers([row for row, _ in self._shown])
        lines = [
            f"  {table.word} {number}, {text}"
            for number, (_, text) in zip(numbers, self._shown, strict=True)
        ]
        raise refusal(table.path, lines, self._count)


def check_readings(columns: Columns, study: Study, table: SourceTable) -> Intake:
    """Readings of one long table.

    Parameters
    ----------
    columns
        A reading per row, as from `shapes.to_long`.
    study
        What configurations, workloads, metrics and units there are.
    table
        Where the readings are from, for messages.

    Raises
    ------
    IntakeError
        When any row is wrong; the first few are named with line and column.
    """
    problems = _Problems(columns, table)
    configuration_of = _configurations(columns, study, problems)
    series_of = _series(columns, study, problems)
    bench_of = _benches(columns, study, problems)
    factor = _factors(columns, study, series_of, problems)
    cells = read_cells(columns, problems.add)
    value = cells.value if factor is None else cells.value * factor
    low, high, resolution = (
        _numbers(columns, column, problems, factor) for column in ("low", "high", "resolution")
    )
    if cells.ranges:
        scaled = [end if factor is None else end * factor for end in (cells.low, cells.high)]
        low, high = (np.where(np.isnan(s), e, s) for s, e in zip(scaled, (low, high), strict=True))
    mark, reason = _marks(columns, cells, problems)
    problems.add(~columns.given("value") & ~mark.given, "value", "is empty")
    problems.add(low > value, "low", "{} is above the value")
    problems.add(high < value, "high", "{} is below the value")
    problems.add(resolution <= 0, "resolution", "{} is not a step")
    _check_better(columns, study, series_of, problems)
    _check_time(study, series_of, value, problems)
    _check_plausible(columns, study, series_of, cells, value, problems)
    intake = Intake(
        series_of=series_of,
        bench_of=bench_of,
        configuration_of=configuration_of,
        value=value,
        low=low,
        high=high,
        samples=_numbers(columns, "samples", problems),
        resolution=resolution,
        round=_rounds(columns, problems),
        visit=columns.labels("visit"),
        run=columns.labels("run"),
        started_at=_times(columns, problems),
        excluded=columns.labels("excluded"),
        bound=_bounds(columns, cells.bound, problems),
        statistic=_statistics(columns, problems),
        mark=mark,
        reason=reason,
    )
    _check_named_runs(intake, problems)
    _check_named_visits(intake, problems)
    problems.raise_if_any()
    return intake


def _check_named_runs(intake: Intake, problems: _Problems) -> None:
    """Check that no named run has two readings of one metric."""
    if not any(intake.run.names):
        return
    # The same metric twice in a run that is named is one reading too many.
    visit = (intake.bench_of, intake.configuration_of, intake.round, intake.visit.codes)
    twice = repeats(combine(intake.series_of, *visit, intake.run.codes)) & intake.run.given
    problems.add(twice, "run", "run {} of this visit has a reading of this metric already")


def _check_named_visits(intake: Intake, problems: _Problems) -> None:
    """Check that a named visit is one: of one round, and not of two days."""
    import pandas as pd

    given = intake.visit.given
    if not given.any():
        return
    visit = combine(intake.bench_of, intake.configuration_of, intake.visit.codes)
    rounds = pd.Series(np.where(intake.round > 0, intake.round, np.nan))
    first = rounds.groupby(visit).transform("first").to_numpy()
    other = given & ~np.isnan(rounds.to_numpy()) & (rounds.to_numpy() != first)
    problems.add(
        other,
        "visit",
        lambda row: (
            f"{{}} is of round {int(first[row])} in an earlier row, and one visit is of one round"
        ),
    )
    times = pd.to_datetime(pd.Series(intake.started_at.at(np.arange(len(given)))), errors="coerce")
    span = (times - times.groupby(visit).transform("min")).dt.total_seconds().to_numpy()
    with np.errstate(invalid="ignore"):
        late = given & (span >= DAY) & ~intake.visit.map(lambda name: bool(ID.fullmatch(name)))
    problems.add(late, "visit", "{} is of another date in another row, and one visit has one date")


def _bounds(columns: Columns, seen: Labels, problems: _Problems) -> Labels:
    """The bounds in the cells, or in a column of their own as exported files have it."""
    if "bound" not in columns:
        return seen
    stated = columns.labels("bound")
    problems.add(
        stated.map(lambda text: text not in ("", "<", ">")), "bound", '{} is neither "<" nor ">"'
    )
    both = [own or other for own, other in zip(*_texts(seen, stated), strict=True)]
    return Labels.of_texts(both)


def _marks(columns: Columns, cells: Cells, problems: _Problems) -> tuple[Labels, Labels]:
    """Why there are no readings: in the cells, or in columns of their own."""
    stated = columns.labels("mark")
    problems.add(
        stated.map(lambda text: text not in ("", *MARKS)),
        "mark",
        f"{{}} is none of {listed(MARKS)}",
    )
    if "mark" not in columns:
        return cells.mark, cells.reason
    pairs = ((cells.mark, stated), (cells.reason, columns.labels("reason")))
    mark, reason = (
        Labels.of_texts([own or other for own, other in zip(*_texts(*pair), strict=True)])
        for pair in pairs
    )
    return mark, reason


def _texts(*labels: Labels) -> list[list[str]]:
    return [column.at(np.arange(len(column.codes))) for column in labels]


def _statistics(columns: Columns, problems: _Problems) -> Labels:
    """What each reading is of several values, "" where that is not stated."""
    stated = columns.labels("statistic")
    problems.add(
        stated.map(lambda text: text not in ("", *STATISTICS)),
        "statistic",
        f"{{}} is none of {', '.join(STATISTICS)}",
    )
    return stated


def _check_plausible(
    columns: Columns,
    study: Study,
    series_of: np.ndarray,
    cells: Cells,
    value: np.ndarray,
    problems: _Problems,
) -> None:
    """Check what the study file says can be true; a reading that is to be excluded may be false."""
    ranges = [metric.plausible for _, _, metric in study.metrics()]
    if not any(ranges):
        return
    ends = np.array([(-np.inf, np.inf) if r is None else r for r in ranges])[series_of]
    wrong = ((value < ends[:, 0]) | (value > ends[:, 1])) & (series_of >= 0)
    wrong &= ~columns.labels("excluded").given & ~cells.kept
    units = [metric.unit for _, _, metric in study.metrics()]
    problems.add(
        wrong,
        "value",
        lambda row: (
            f"{{}} is outside of {ends[row, 0]:g} to {ends[row, 1]:g} "
            f"{units[int(series_of[row])]}; put ! behind it to keep it, or say "
            "in a column `excluded` why it does not count"
        ),
    )


def _configurations(columns: Columns, study: Study, problems: _Problems) -> np.ndarray:
    names = [c.name for c in study.configurations]
    places = {name: n for n, name in enumerate(names)}
    labels = columns.labels("configuration")
    found = labels.map(lambda text: places.get(resolve(text, names), -1))
    problems.add(
        found < 0,
        "configuration",
        lambda row: f"no configuration {{}}; {closest(labels[row], names)}",
    )
    return found


def _benches(columns: Columns, study: Study, problems: _Problems) -> np.ndarray:
    """The bench of every row; where none is stated, the one that was chosen."""
    known, labels = list(study.benches), columns.labels("bench")
    default = -1 if labels.given.all() else known.index(study.bench)

    def find(text: str) -> int:
        name = resolve(text, known)
        return default if not text else known.index(name) if name in known else -1

    found = labels.map(find)
    problems.add(found < 0, "bench", f"{{}} is not a bench of this study; {listed(known)}")
    return found


def _series(columns: Columns, study: Study, problems: _Problems) -> np.ndarray:
    """The metric of every row; a workload with a single one need not be named with it."""
    workloads, names = columns.labels("workload"), columns.labels("metric")
    if "workload" not in columns and len(study.workloads) == 1:
        workloads = Labels.same(next(iter(study.workloads)), len(columns))
    known = list(study.workloads)
    metrics: dict[str, dict[str, int]] = {workload: {} for workload in known}
    for place, (workload, name, _) in enumerate(study.metrics()):
        metrics[workload][name] = place

    def find(workload: str, name: str) -> int:
        candidates = metrics.get(resolve(workload, known), {})
        if not name and len(candidates) == 1:
            return next(iter(candidates.values()))
        return candidates.get(resolve(name, candidates), -1)

    found = _by_pair(workloads, names, find)
    if found.min() >= 0:
        return found
    strange = ~workloads.map(lambda text: resolve(text, known) in metrics)
    problems.add(
        strange,
        "workload",
        lambda row: f'no workload "{workloads[row]}"; {closest(workloads[row], known)}',
    )
    problems.add(
        (found < 0) & ~strange,
        "metric",
        lambda row: (
            f'{workloads[row]} has no metric "{names[row]}"; '
            + closest(names[row], list(metrics[resolve(workloads[row], known)]))
        ),
    )
    return found


def _by_pair(first: Labels, second: Labels, make: Callable[[str, str], float]) -> np.ndarray:
    """What a function makes of two texts, made once for each pair."""
    import pandas as pd

    size = len(second.names)
    pairs: Sequence[int] = range(len(first.names) * size)
    codes: np.ndarray
    if len(pairs) <= _FEW_PAIRS:
        codes = first.codes * size + second.codes
    else:
        codes, distinct = pd.factorize(first.codes.astype(np.int64) * size + second.codes)
        pairs = distinct.tolist()
    made: np.ndarray = np.array(
        [make(first.names[pair // size], second.names[pair % size]) for pair in pairs]
    ).take(codes)
    return made


def _numbers(
    columns: Columns, column: str, problems: _Problems, factor: np.ndarray | None = None
) -> np.ndarray:
    """A column as numbers, NaN where there is nothing; a decimal comma is one."""
    if column not in columns:
        return np.broadcast_to(np.nan, len(columns))
    labels = columns.by_name[column]
    if isinstance(labels, np.ndarray):
        numbers = labels
    else:
        texts = labels
        numbers = parse_numbers(texts.names).take(texts.codes)
        unread = np.isnan(numbers) & texts.given
        problems.add(unread, column, lambda row: what_is_wrong(texts[row]))
    problems.add(np.isinf(numbers), column, "{} is not finite")
    return numbers.astype(float, copy=False) if factor is None else numbers * factor


def _rounds(columns: Columns, problems: _Problems) -> np.ndarray:
    """The rounds as whole numbers, −1 where they are not known."""
    rounds: np.ndarray | Labels | None = columns.by_name.get("round")
    if isinstance(rounds, np.ndarray) and rounds.dtype.kind == "i":
        known = np.broadcast_to(np.True_, len(rounds))
    else:
        rounds = _numbers(columns, "round", problems)
        known = ~np.isnan(rounds)
        problems.add(known & (np.floor(rounds) != rounds), "round", "{} is not a whole number")
    wrong = known & ((rounds < 1) | (rounds > _MOST_ROUNDS))
    problems.add(wrong, "round", "{} is not a round; they count from 1")
    if known.all() and not wrong.any():
        return rounds.astype(np.int64, copy=False)
    whole: np.ndarray = np.where(known & ~wrong, rounds, -1).astype(np.int64)
    return whole


def _of_metrics(series_of: np.ndarray, texts: list[str]) -> Labels:
    """A text of the metric of every row, "" where that is not known."""
    return Labels(series_of % (len(texts) + 1), [*texts, ""])


def _factors(
    columns: Columns, study: Study, series_of: np.ndarray, problems: _Problems
) -> np.ndarray | None:
    """By what each value is multiplied to be in the unit of its metric, if by anything."""
    if "unit" not in columns:
        return None
    metrics = study.metrics()
    wanted = _of_metrics(series_of, [metric.unit for _, _, metric in metrics])

    def factor(unit: str, wanted_unit: str) -> float:
        try:
            return convert(1.0, unit or wanted_unit, wanted_unit) if wanted_unit else 1.0
        except UnitError:
            return np.nan

    factors = _by_pair(columns.labels("unit"), wanted, factor)
    problems.add(
        np.isnan(factors),
        "unit",
        lambda row: (
            f'{{}} cannot be turned into "{wanted[row]}", in which '
            f"{metrics[int(series_of[row])][1]} is measured"
        ),
    )
    return factors


def _check_better(
    columns: Columns, study: Study, series_of: np.ndarray, problems: _Problems
) -> None:
    if "better" not in columns:
        return
    better = columns.labels("better")
    wanted = _of_metrics(series_of, [metric.better for _, _, metric in study.metrics()])
    wrong = _by_pair(
        better, wanted, lambda stated, declared: bool(stated and declared and stated != declared)
    )
    problems.add(wrong, "better", "{} contradicts the study file")


def _check_time(
    study: Study, series_of: np.ndarray, value: np.ndarray, problems: _Problems
) -> None:
    negative = value < 0
    if negative.any():
        units = _of_metrics(series_of, [metric.unit for _, _, metric in study.metrics()])
        timed = units.map(lambda unit: is_time(unit))
        problems.add(timed & negative, "value", "{} is negative, and is a time")


def _times(columns: Columns, problems: _Problems) -> Labels:
    """Times as ISO 8601 text in UTC, "" where nothing is known."""
    import pandas as pd

    stated = columns.labels("started_at")
    if "started_at" not in columns:
        return stated
    texts = pd.Series(stated.names, dtype=object)
    given = texts != ""
    parsed = pd.to_datetime(texts.where(given), utc=True, errors="coerce", format="ISO8601")
    wrong = (given & parsed.isna()).to_numpy()
    problems.add(
        wrong[stated.codes], "started_at", "{} is not a time in ISO 8601, like 2026-05-01T14:30"
    )
    stamps = parsed.dt.strftime("%Y-%m-%dT%H:%M:%S.%f").str[:-3] + "+00:00"
    return Labels(stated.codes, stamps.fillna("").tolist())
