"""What the texts of a table name: configurations, benches, metrics, units, directions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.columns import Columns, Labels
from ferocal.intake.delimited import MOST_NAMED, refusal
from ferocal.terms.names import closest, resolve
from ferocal.terms.units import UnitError, convert
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.intake.formats import SourceTable
    from ferocal.study.load import Study

_FEW_PAIRS = 10_000
_ADD = " (if it is new: --add)"


def find_configurations(columns: Columns, study: Study, problems: Problems) -> np.ndarray:
    """The configuration of every row, −1 where it names none of the study's."""
    names = [c.name for c in study.configurations]
    places = {name: n for n, name in enumerate(names)}
    labels = columns.labels("configuration")
    found = labels.map(lambda text: places.get(resolve(text, names), -1))
    problems.add(
        found < 0,
        "configuration",
        lambda row: f"no configuration {{}}; {closest(labels[row], names)}{_ADD}",
    )
    return found


def find_benches(columns: Columns, study: Study, problems: Problems) -> np.ndarray:
    """The bench of every row; where none is stated, the one that was chosen."""
    known, labels = list(study.benches), columns.labels("bench")
    default = -1 if labels.given.all() else known.index(study.bench)

    def find(text: str) -> int:
        name = resolve(text, known)
        return default if not text else known.index(name) if name in known else -1

    found = labels.map(find)
    problems.add(found < 0, "bench", f"{{}} is not a bench of this study; {listed(known)}")
    return found


def find_series(columns: Columns, study: Study, problems: Problems) -> np.ndarray:
    """The metric of every row.

    A workload with a single one need not be named with it, nor a metric that only one workload has
    with its workload.
    """
    workloads, names = columns.labels("workload"), columns.labels("metric")
    if "workload" not in columns and len(study.workloads) == 1:
        workloads = Labels.same(next(iter(study.workloads)), len(columns))
    known = list(study.workloads)
    metrics: dict[str, dict[str, int]] = {workload: {} for workload in known}
    places: dict[str, list[int]] = {}  # by metric, whatever the workload
    for place, (workload, name, _) in enumerate(study.read_metrics()):
        metrics[workload][name] = place
        places.setdefault(name, []).append(place)

    def find(workload: str, name: str) -> int:
        if not workload:
            only = places.get(resolve(name, places), [])
            return only[0] if len(only) == 1 else -1
        candidates = metrics.get(resolve(workload, known), {})
        if not name and len(candidates) == 1:
            return next(iter(candidates.values()))
        return candidates.get(resolve(name, candidates), -1)

    found = _by_pair(workloads, names, find)
    if found.min() >= 0:
        return found
    strange = (found < 0) & ~workloads.map(lambda text: resolve(text, known) in metrics)
    problems.add(strange, "workload", lambda row: _missing_workload(workloads[row], known))
    problems.add(
        (found < 0) & ~strange,
        "metric",
        lambda row: (
            f'{workloads[row]} has no metric "{names[row]}"; '
            + closest(names[row], list(metrics[resolve(workloads[row], known)]))
        ),
    )
    return found


def _missing_workload(text: str, known: Sequence[str]) -> str:
    if text:
        return f'no workload "{text}"; {closest(text, known)}'
    return f"missing, and the metric alone is ambiguous; known: {', '.join(known)}"


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


def of_metrics(series_of: np.ndarray, texts: list[str]) -> Labels:
    """A text of the metric of every row, "" where that is unknown."""
    return Labels(series_of % (len(texts) + 1), [*texts, ""])


def units_of(columns: Columns, study: Study, series_of: np.ndarray) -> Labels:
    """The unit of every number: that which the table states, else that of its metric."""
    wanted = of_metrics(series_of, [metric.unit for _, _, metric in study.read_metrics()])
    if "unit" not in columns:
        return wanted
    stated = columns.labels("unit")
    names = [own or other for own in stated.names for other in wanted.names]
    return Labels(stated.codes * len(wanted.names) + wanted.codes, names)


def find_factors(
    columns: Columns, study: Study, series_of: np.ndarray, problems: Problems
) -> np.ndarray | None:
    """By what each value is multiplied to be in the unit of its metric, if by anything."""
    if "unit" not in columns:
        return None
    metrics = study.read_metrics()
    wanted = of_metrics(series_of, [metric.unit for _, _, metric in metrics])

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
            f'{{}} cannot be converted to "{wanted[row]}", the unit of '
            f"{metrics[int(series_of[row])][1]}"
        ),
    )
    return factors


def check_better(columns: Columns, study: Study, series_of: np.ndarray, problems: Problems) -> None:
    """Check that directions that the table states are those of the study."""
    if "better" not in columns:
        return
    better = columns.labels("better")
    wanted = of_metrics(series_of, [metric.better for _, _, metric in study.read_metrics()])
    wrong = _by_pair(
        better, wanted, lambda stated, declared: bool(stated and declared and stated != declared)
    )
    problems.add(wrong, "better", "{} contradicts the study file")


class Problems:
    """Collects the problems, row by row, to report them together."""

    def __init__(self, columns: Columns, table: SourceTable) -> None:
        self._columns, self._table = columns, table
        self.form = table.form
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
        """Refuse the table if there was any problem."""
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
