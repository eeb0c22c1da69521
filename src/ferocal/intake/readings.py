"""Readings of a table checked against a study: named, converted, checked, or refused whole."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.intake.beside import (
    bounds_of,
    ends_of,
    in_unit,
    marks_of,
    notes_of,
    numbers_of,
    samples_of,
    statistics_of,
)
from ferocal.intake.cells import Cells, read_cells
from ferocal.intake.columns import Columns, Labels, combine, repeats
from ferocal.intake.lookup import (
    Problems,
    check_better,
    find_benches,
    find_configurations,
    find_factors,
    find_series,
    of_metrics,
    units_of,
)
from ferocal.terms.bounds import (
    BEYOND,
    BEYOND_YEARS,
    FIRST_YEAR,
    LAST_YEAR,
    MOST_ROUNDS,
    beyond,
)
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import lacks_zone
from ferocal.terms.units import is_time

if TYPE_CHECKING:
    from ferocal.intake.formats import SourceTable
    from ferocal.study.load import Study

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
    there is a ``mark`` there is no reading, for a ``reason`` if one is known. ``note`` and its
    ``source`` are what is remarked, ``version`` that of the workload, ``architecture`` what the
    programs were made for, ``ambient`` the temperature around the bench (°C).
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
    note: Labels
    source: Labels
    version: Labels
    architecture: Labels
    ambient: np.ndarray

    def select(self, rows: np.ndarray) -> Intake:
        """Only these rows, named by a mask."""
        columns: dict[str, Any] = {
            name: Labels(column.codes[rows], column.names)
            if isinstance(column, Labels)
            else column[rows]
            for name, column in vars(self).items()
        }
        return Intake(**columns)


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
    problems = Problems(columns, table)
    configuration_of = find_configurations(columns, study, problems)
    series_of = find_series(columns, study, problems)
    bench_of = find_benches(columns, study, problems)
    factor = find_factors(columns, study, series_of, problems)
    cells = read_cells(columns, units_of(columns, study, series_of), table.form, problems.add)
    value = in_unit(cells.value, factor)
    problems.add(beyond(value) & ~beyond(cells.value), "value", f"{{}} {BEYOND}")
    low, high = ends_of(columns, cells, problems, factor)
    resolution = numbers_of(columns, "resolution", problems, factor)
    mark, reason = marks_of(columns, cells, problems)
    problems.add(~columns.given("value") & ~mark.given, "value", "is empty")
    for name, end in (("low", low), ("high", high)):
        problems.add(mark.given & ~np.isnan(end), name, "{} is given, but there is no value")
    problems.add(low > value, "low", "{} is above the value")
    problems.add(high < value, "high", "{} is below the value")
    problems.add(resolution <= 0, "resolution", "{} is not a step")
    check_better(columns, study, series_of, problems)
    _check_time(study, series_of, value, problems)
    _check_plausible(columns, study, series_of, cells, value, problems)
    intake = Intake(
        series_of=series_of,
        bench_of=bench_of,
        configuration_of=configuration_of,
        value=value,
        low=low,
        high=high,
        samples=samples_of(columns, cells, problems),
        resolution=resolution,
        round=_rounds(columns, problems),
        visit=columns.labels("visit"),
        run=columns.labels("run"),
        started_at=_times(columns, problems),
        excluded=columns.labels("excluded"),
        bound=bounds_of(columns, cells.bound, problems),
        statistic=statistics_of(columns, cells, problems),
        mark=mark,
        reason=reason,
        note=notes_of(cells, columns.labels("note")),
        source=columns.labels("source"),
        version=columns.labels("version"),
        architecture=columns.labels("architecture"),
        ambient=_ambient(columns, problems),
    )
    _check_named_runs(intake, problems)
    _check_named_visits(intake, problems)
    problems.raise_if_any()
    return intake


def _check_named_runs(intake: Intake, problems: Problems) -> None:
    """Check that no named run has two readings of one metric."""
    if not any(intake.run.names):
        return
    # The same metric twice in a run that is named is one reading too many.
    # Without a visit, those of another date are of another one.
    days = Labels.of_texts([text[:10] for text in intake.started_at.names])
    stated = (intake.round > 0) | intake.visit.given
    day = np.where(stated, 0, days.codes[intake.started_at.codes])
    visit = (intake.bench_of, intake.configuration_of, intake.round, intake.visit.codes, day)
    twice = repeats(combine(intake.series_of, *visit, intake.run.codes)) & intake.run.given
    problems.add(twice, "run", "run {} of this visit already has a reading of this metric")


def _check_named_visits(intake: Intake, problems: Problems) -> None:
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
            f"{{}} is in round {int(first[row])} in an earlier row; a visit belongs to one round"
        ),
    )
    times = pd.to_datetime(pd.Series(intake.started_at.at(np.arange(len(given)))), errors="coerce")
    span = (times - times.groupby(visit).transform("min")).dt.total_seconds().to_numpy()
    with np.errstate(invalid="ignore"):
        late = given & (span >= DAY) & ~intake.visit.map(lambda name: bool(ID.fullmatch(name)))
    problems.add(late, "visit", "{} has another date in another row; a visit has one date")


def _ambient(columns: Columns, problems: Problems) -> np.ndarray:
    """Temperatures around the bench in °C, NaN unless stated, with their unit or without."""
    if "ambient" not in columns:
        return np.broadcast_to(np.nan, len(columns))
    texts = columns.labels("ambient")
    bare = Labels(texts.codes, [re.sub(r"\s*°?\s*C$", "", text) for text in texts.names])
    return numbers_of(
        Columns({**columns.by_name, "ambient": bare}, columns.row), "ambient", problems
    )


def _check_plausible(
    columns: Columns,
    study: Study,
    series_of: np.ndarray,
    cells: Cells,
    value: np.ndarray,
    problems: Problems,
) -> None:
    """Check what the study file says can be true; a reading that is to be excluded may be false."""
    ranges = [metric.plausible for _, _, metric in study.read_metrics()]
    if not any(ranges):
        return
    ends = np.array([(-np.inf, np.inf) if r is None else r for r in ranges])[series_of]
    wrong = ((value < ends[:, 0]) | (value > ends[:, 1])) & (series_of >= 0)
    wrong &= ~columns.labels("excluded").given & ~cells.kept
    units = [metric.unit for _, _, metric in study.read_metrics()]
    problems.add(
        wrong,
        "value",
        lambda row: (
            f"{{}} is outside the plausible range ({ends[row, 0]:g} to {ends[row, 1]:g} "
            f"{units[int(series_of[row])]}); append ! to keep it, or give the reason for leaving "
            "it out in a column `excluded`"
        ),
    )


def _rounds(columns: Columns, problems: Problems) -> np.ndarray:
    """The rounds as whole numbers, −1 where they are unknown."""
    rounds: np.ndarray | Labels | None = columns.by_name.get("round")
    if isinstance(rounds, np.ndarray) and rounds.dtype.kind == "i":
        known = np.broadcast_to(np.True_, len(rounds))
    else:
        rounds = numbers_of(columns, "round", problems)
        known = ~np.isnan(rounds)
        problems.add(known & (np.floor(rounds) != rounds), "round", "{} is not a whole number")
    wrong = known & ((rounds < 1) | (rounds > MOST_ROUNDS))
    problems.add(wrong, "round", "{} is not a round; rounds count from 1")
    if known.all() and not wrong.any():
        return rounds.astype(np.int64, copy=False)
    whole: np.ndarray = np.where(known & ~wrong, rounds, -1).astype(np.int64)
    return whole


def _check_time(study: Study, series_of: np.ndarray, value: np.ndarray, problems: Problems) -> None:
    negative = value < 0
    if negative.any():
        units = of_metrics(series_of, [metric.unit for _, _, metric in study.read_metrics()])
        timed = units.map(lambda unit: is_time(unit))
        problems.add(timed & negative, "value", "{} is negative, but a time cannot be")


def _times(columns: Columns, problems: Problems) -> Labels:
    """Times as ISO 8601 text in UTC, "" where nothing is known; see `terms.times`."""
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
    zones = texts.map(lambda text: "-00:00" if lacks_zone(text) else "+00:00")
    years = parsed.dt.year
    beyond_years = ~(years.between(FIRST_YEAR, LAST_YEAR) | parsed.isna()).to_numpy(dtype=bool)
    problems.add(beyond_years[stated.codes], "started_at", f"{{}} {BEYOND_YEARS}")
    parsed = parsed.mask(beyond_years)
    stamps = parsed.dt.strftime("%Y-%m-%dT%H:%M:%S.%f").str[:-3] + zones
    return Labels(stated.codes, stamps.fillna("").tolist())
