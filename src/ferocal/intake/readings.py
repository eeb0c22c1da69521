"""Readings of a table held against a study: named, converted, checked, or refused whole."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.tables import IntakeError
from ferocal.intake.typed import TIME_UNITS, TypedError, convert
from ferocal.study.configurations import closest

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.study.load import Study

_MOST_TOLD = 8


@dataclass(frozen=True)
class Intake:
    """Checked readings as columns of shape (n,), in the units of the study.

    ``series_of`` and ``configuration_of`` index the metrics and the configurations of the
    study; the texts are "" and the numbers NaN where nothing is known.
    """

    series_of: np.ndarray
    configuration_of: np.ndarray
    value: np.ndarray
    low: np.ndarray
    high: np.ndarray
    samples: np.ndarray
    resolution: np.ndarray
    round: np.ndarray
    visit: np.ndarray
    run: np.ndarray
    started_at: np.ndarray
    excluded: np.ndarray


class _Problems:
    """Collects what is wrong, row by row, to tell it all at once."""

    def __init__(self, path: Path, word: str) -> None:
        self._path, self._word = path, word
        self._told: list[str] = []
        self._count = 0

    def add(self, frame: pd.DataFrame, wrong: np.ndarray, column: str, text: str) -> None:
        """Rows in which a column is wrong; ``{}`` in the text stands for what is there."""
        rows = np.flatnonzero(wrong)
        self._count += len(rows)
        for row in rows[: max(0, _MOST_TOLD - len(self._told))]:
            shown = text.replace("{}", f'"{frame[column].iloc[row]}"')
            self._told.append(f"  {self._word} {frame['line'].iloc[row]}, {column}: {shown}")

    def raise_if_any(self) -> None:
        if self._told:
            more = self._count - len(self._told)
            rest = [f"  and {more:,} more"] if more > 0 else []
            raise IntakeError(
                "\n".join([f"{self._path}: nothing was recorded", *self._told, *rest])
            )


def check_readings(frame: pd.DataFrame, study: Study, path: Path, word: str) -> Intake:
    """Readings of one long table.

    Parameters
    ----------
    frame
        A reading per row, all text, as from `shapes.to_long`.
    study
        What configurations, workloads, metrics and units there are.
    path, word
        The file, and what its rows are called ("line", "row"), for messages.

    Raises
    ------
    IntakeError
        When any row is wrong; the first few are told with line and column.
    """
    problems = _Problems(path, word)
    names = [c.name for c in study.configurations]
    configuration_of = _look_up(frame, "configuration", names, problems)
    series_of = _series(frame, study, problems)
    _check_fixed(frame, "bench", study.bench, problems)
    value, low, high, samples, resolution = (
        _numbers(frame, column, problems)
        for column in ("value", "low", "high", "samples", "resolution")
    )
    if "value" in frame:
        problems.add(frame, _blank(frame, "value"), "value", "is empty")
    factor = _factors(frame, study, series_of, problems)
    _check_better(frame, study, series_of, problems)
    _check_time(frame, study, series_of, value, problems)
    rounds = _numbers(frame, "round", problems)
    problems.add(frame, (rounds < 1) | (rounds % 1 != 0) & ~np.isnan(rounds), "round",
                 "{} is no round; they count from 1")  # fmt: skip
    intake = Intake(
        series_of=series_of,
        configuration_of=configuration_of,
        value=value * factor,
        low=low * factor,
        high=high * factor,
        samples=samples,
        resolution=resolution * factor,
        round=rounds,
        visit=_texts(frame, "visit"),
        run=_texts(frame, "run"),
        started_at=_times(frame, problems),
        excluded=_texts(frame, "excluded"),
    )
    _check_duplicates(frame, intake, problems)
    problems.raise_if_any()
    return intake


def _texts(frame: pd.DataFrame, column: str) -> np.ndarray:
    if column not in frame:
        return np.full(len(frame), "", dtype=object)
    texts: np.ndarray = frame[column].astype(str).str.strip().to_numpy(dtype=object)
    return texts


def _blank(frame: pd.DataFrame, column: str) -> np.ndarray:
    blank: np.ndarray = np.equal(_texts(frame, column), "").astype(bool)
    return blank


def _by_value(texts: np.ndarray, make: Callable[[str], int]) -> np.ndarray:
    """A number for every text, made once for each distinct one."""
    import pandas as pd

    codes, distinct = pd.factorize(texts)
    made: np.ndarray = np.array([make(text) for text in distinct], dtype=np.int64)[codes]
    return made


def _look_up(frame: pd.DataFrame, column: str, known: list[str], problems: _Problems) -> np.ndarray:
    places = {name: n for n, name in enumerate(known)}
    texts = _texts(frame, column)
    found = _by_value(texts, lambda text: places.get(text, -1))
    for text in dict.fromkeys(texts[found < 0].tolist()):
        hint = closest(text, known)
        problems.add(frame, np.equal(texts, text).astype(bool), column, f"no {column} {{}}; {hint}")
    return found


def _series(frame: pd.DataFrame, study: Study, problems: _Problems) -> np.ndarray:
    """The metric of every row; a workload with a single one need not be named with it."""
    metrics = study.metrics()
    places = {(workload, name): n for n, (workload, name, _) in enumerate(metrics)}
    workloads = _texts(frame, "workload")
    if "workload" not in frame and len(study.workloads) == 1:
        workloads = np.full(len(frame), next(iter(study.workloads)), dtype=object)
    names = _texts(frame, "metric")
    only = {w: [name for own, name, _ in metrics if own == w] for w in study.workloads}

    def place(key: str) -> int:
        workload, name = key.split("\0")
        own = only.get(workload, [])
        return places.get((workload, own[0] if not name and len(own) == 1 else name), -1)

    keys = np.array([f"{w}\0{m}" for w, m in zip(workloads, names, strict=True)], dtype=object)
    found = _by_value(keys, place)
    for key in dict.fromkeys(keys[found < 0].tolist()):
        workload, name = key.split("\0")
        wrong = np.equal(keys, key).astype(bool)
        if workload not in study.workloads:
            hint = closest(workload, list(study.workloads))
            text = f'no workload "{workload}"; {hint}'
            problems.add(frame, wrong, "workload" if "workload" in frame else "line", text)
        else:
            text = f'{workload} has no metric "{name}"; {closest(name, only[workload])}'
            problems.add(frame, wrong, "metric" if "metric" in frame else "workload", text)
    return found


def _check_fixed(frame: pd.DataFrame, column: str, wanted: str, problems: _Problems) -> None:
    texts = _texts(frame, column)
    wrong = ~np.equal(texts, "").astype(bool) & ~np.equal(texts, wanted).astype(bool)
    problems.add(frame, wrong, column, f'{{}} is not the bench of this study, "{wanted}"')


def _numbers(frame: pd.DataFrame, column: str, problems: _Problems) -> np.ndarray:
    """A column as numbers, NaN where there is nothing; a decimal comma is one."""
    import pandas as pd

    if column not in frame:
        return np.full(len(frame), np.nan)
    texts = pd.Series(_texts(frame, column))
    numbers = pd.to_numeric(texts, errors="coerce").to_numpy(dtype=float).copy()
    empty = texts.eq("").to_numpy()
    open_ = np.flatnonzero(np.isnan(numbers) & ~empty)
    if len(open_):
        rest = texts.iloc[open_]
        thousands = rest.str.fullmatch(r"[-+]?[1-9]\d{0,2}([,.' ]\d{3})+([.,]\d+)?").to_numpy()
        comma = rest.str.fullmatch(r"[-+]?\d+,\d+").to_numpy() & ~thousands
        numbers[open_[comma]] = rest[comma].str.replace(",", ".").astype(float).to_numpy()
        mask = np.zeros(len(texts), dtype=bool)
        mask[open_[thousands]] = True
        problems.add(frame, mask, column, "{} has a thousands separator; write it without")
        mask = np.zeros(len(texts), dtype=bool)
        mask[open_[~thousands & ~comma]] = True
        problems.add(frame, mask, column, "{} is not a number")
    problems.add(frame, np.isinf(numbers), column, "{} is not finite")
    return numbers


def _factors(
    frame: pd.DataFrame, study: Study, series_of: np.ndarray, problems: _Problems
) -> np.ndarray:
    """By what each value is multiplied to be in the unit of its metric."""
    factor = np.ones(len(frame))
    if "unit" not in frame:
        return factor
    units = _texts(frame, "unit")
    for n, (_, name, metric) in enumerate(study.metrics()):
        for unit in dict.fromkeys(units[series_of == n].tolist()):
            rows = (series_of == n) & np.equal(units, unit).astype(bool)
            try:
                factor[rows] = convert(1.0, unit or metric.unit, metric.unit)
            except TypedError as error:
                problems.add(frame, rows, "unit", f"{error}, in which {name} is measured")
    return factor


def _check_better(
    frame: pd.DataFrame, study: Study, series_of: np.ndarray, problems: _Problems
) -> None:
    if "better" not in frame:
        return
    texts = _texts(frame, "better")
    wanted = np.array([metric.better for _, _, metric in study.metrics()], dtype=object)
    known = series_of >= 0
    wrong = known & ~np.equal(texts, "").astype(bool)
    wrong &= ~np.equal(texts, wanted[np.where(known, series_of, 0)]).astype(bool)
    problems.add(frame, wrong, "better", "{} contradicts the study file")


def _check_time(
    frame: pd.DataFrame,
    study: Study,
    series_of: np.ndarray,
    value: np.ndarray,
    problems: _Problems,
) -> None:
    timed = np.array([metric.unit in TIME_UNITS for _, _, metric in study.metrics()])
    wrong = (series_of >= 0) & timed[np.where(series_of >= 0, series_of, 0)] & (value < 0)
    problems.add(frame, wrong, "value", "{} is negative, and is a time")


def _times(frame: pd.DataFrame, problems: _Problems) -> np.ndarray:
    """Times as ISO 8601 text in UTC, "" where nothing is known."""
    import pandas as pd

    texts = _texts(frame, "started_at")
    given = ~np.equal(texts, "").astype(bool)
    if not given.any():
        return texts
    parsed = pd.to_datetime(pd.Series(texts[given]), utc=True, errors="coerce", format="ISO8601")
    wrong = np.zeros(len(frame), dtype=bool)
    wrong[np.flatnonzero(given)[parsed.isna().to_numpy()]] = True
    problems.add(frame, wrong, "started_at", "{} is no time in ISO 8601, like 2026-05-01T14:30")
    result = texts.copy()
    stamps = parsed.dt.strftime("%Y-%m-%dT%H:%M:%S.%f").str[:-3] + "+00:00"
    result[given] = stamps.fillna("").to_numpy(dtype=object)
    return result


def _check_duplicates(frame: pd.DataFrame, intake: Intake, problems: _Problems) -> None:
    """The same metric twice in a run that is named is one reading too many."""
    import pandas as pd

    named = ~np.equal(intake.run, "").astype(bool)
    key = pd.DataFrame(
        {
            "series": intake.series_of,
            "configuration": intake.configuration_of,
            "round": intake.round,
            "visit": intake.visit,
            "run": intake.run,
        }
    )
    twice = key.duplicated().to_numpy() & named
    problems.add(frame, twice, "run", "run {} of this visit has a reading of this metric already")
