"""Results from elsewhere, typed or from a file: checked, and kept all or none."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

import numpy as np

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.delimited import MOST_NAMED, refusal
from ferocal.intake.formats import SourceTable, read_table
from ferocal.intake.typed import TypedError, parse_typed
from ferocal.ledger.records import Reference
from ferocal.study.load import Study
from ferocal.terms.bounds import is_time
from ferocal.terms.names import called, closest, resolve
from ferocal.terms.units import UnitError, convert
from ferocal.terms.wording import listed

REQUIRED = ("device", "metric", "value", "source")
OPTIONAL = ("workload", "unit", "date", "retrieved")


class BadReferenceError(UsageError):
    """What is said of a reference cannot be; ``key`` is what is wrong."""

    def __init__(self, key: str, message: str) -> None:
        self.key = key
        super().__init__(f"{key}: {message}")


def make_reference(study: Study, given: Mapping[str, str]) -> Reference:
    """A reference from what is stated of it.

    ``given`` has texts by key: those of `REQUIRED`, and any of `OPTIONAL`. A value may be a range
    or a bound; a unit other than that of the metric is converted where both measure the same.

    Raises
    ------
    BadReferenceError
        When something is missing or makes no sense; the message says what would be right.
    """
    for key in REQUIRED:
        if not given.get(key, "").strip():
            raise BadReferenceError(key, "is missing")
    name = f"{given.get('workload', '')} {given['metric']}".strip()
    try:
        metric = find_metric(study, name)
    except UsageError as error:
        raise BadReferenceError("metric", str(error)) from None
    unit = given.get("unit", "").strip() or metric.unit
    text = given["value"].strip()
    try:
        convert(1.0, unit, metric.unit)
        typed = parse_typed(text if _has_unit(text) else f"{text} {unit}", metric.unit)
    except (UnitError, TypedError) as error:
        raise BadReferenceError("value", str(error)) from None
    return Reference(
        device=given["device"].strip(),
        workload=metric.workload,
        metric=metric.metric,
        unit=metric.unit,
        value=typed.value,
        low=typed.low,
        high=typed.high,
        bound=typed.bound,
        source=given["source"].strip(),
        date=_date("date", given.get("date", "")),
        retrieved=_date("retrieved", given.get("retrieved", "")),
    )


def _has_unit(text: str) -> bool:
    return text[-1:].isalpha() or text.endswith("%")


def _date(key: str, text: str) -> str:
    """A day as ISO 8601, "" for none; a year or a month alone stays as it is."""
    text = text.strip()
    whole = text + {4: "-01-01", 7: "-01"}.get(len(text), "")
    if text and not is_time(whole):
        raise BadReferenceError(key, f'"{text}" is not a date in ISO 8601, like 2026-05-01')
    return text


def load_references(study: Study, path: Path) -> list[Reference]:
    """The references of a file, a row each, with the columns of `make_reference`.

    Raises
    ------
    IntakeError
        When it cannot be read, or a row is wrong; the message names file, line and column.
    """
    table = read_table(path, lambda name: True)
    columns = table.columns.by_name
    missing = [key for key in REQUIRED if key not in columns]
    if missing:
        known = ", ".join((*REQUIRED, *OPTIONAL))
        raise IntakeError(f'{path}: no column "{missing[0]}"; a file of references has {known}')
    unknown = [name for name in columns if name not in (*REQUIRED, *OPTIONAL)]
    if unknown:
        known = ", ".join((*REQUIRED, *OPTIONAL))
        raise IntakeError(f'{path}: column "{unknown[0]}" is unknown here; known: {known}')
    found: list[Reference] = []
    wrong: list[tuple[int, str]] = []
    seen: dict[tuple[str, ...], int] = {}
    for row, given in enumerate(_rows(table)):
        try:
            reference = make_reference(study, given)
        except BadReferenceError as error:
            wrong.append((row, str(error)))
            continue
        key = (reference.device, reference.workload, reference.metric, reference.source)
        if key in seen:
            wrong.append(
                (row, "device: the same device, metric and source occur in an earlier row")
            )
        seen[key] = row
        found.append(reference)
    if wrong:
        rows = [int(table.columns.row[row]) for row, _ in wrong[:MOST_NAMED]]
        numbers = table.numbers(rows)
        lines = [
            f"  {table.word} {number}, {text}"
            for number, (_, text) in zip(numbers, wrong, strict=False)
        ]
        raise refusal(path, lines, len(wrong))
    return found


def _rows(table: SourceTable) -> Iterator[dict[str, str]]:
    columns = table.columns.by_name
    for row in range(len(table.columns)):
        yield {name: _text(column, row) for name, column in columns.items()}


def _text(column: np.ndarray | Labels, row: int) -> str:
    if isinstance(column, Labels):
        return column[row]
    value = float(column[row])
    return "" if math.isnan(value) else f"{value:.15g}"


class NamedMetric(NamedTuple):
    """A metric of a study, with its unit and which direction is better."""

    workload: str
    metric: str
    unit: str
    better: str


def find_metric(study: Study, name: str) -> NamedMetric:
    """The metric of a name: workload and metric, or either of them where that says enough.

    Raises
    ------
    UsageError
        When there is none, or several; the message has what may be meant.
    """
    known = [NamedMetric(w, part, m.unit, m.better) for w, part, m in study.metrics()]
    titles = {
        f"{w} {part}": [f"{w} {m.title}", m.title] for w, part, m in study.metrics() if m.title
    }
    name = called(name, titles) if called(name, titles) in titles else name
    name = resolve(name, [f"{m.workload} {m.metric}" for m in known])
    whole = [m for m in known if name == f"{m.workload} {m.metric}"]
    found = whole or [m for m in known if name in (m.workload, m.metric)]
    names = [f"{m.workload} {m.metric}" for m in known]
    if not found:
        raise UsageError(f'no metric "{name}" in this study; {closest(name, names)}')
    if len(found) > 1:
        shown = listed([f'"{m.workload} {m.metric}"' for m in found[:6]])
        raise UsageError(f'"{name}" may be {shown}: name workload and metric')
    return found[0]
