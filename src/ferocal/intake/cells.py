"""Cells of files as readings: numbers, ranges, bounds, and marks for what could not be read."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ferocal.intake.columns import Columns, Labels
from ferocal.intake.typed import (
    THOUSANDS,
    TypedError,
    TypedMark,
    TypedReading,
    comma_is_decimal,
    parse_cell,
    parse_mark,
)
from ferocal.terms.bounds import BEYOND, beyond

_GROUPS = r"[-+]?[1-9]\d{0,2}([,.' ]\d{3})+([.,]\d+)?"
_ONE_COMMA = r"[^,.]+,[^,.]+"
# Takes the rows that are wrong, a column, and what is wrong with it.
Complain = Callable[[np.ndarray, str, "str | Callable[[int], str]"], None]


@dataclass(frozen=True)
class Cells:
    """The values of a table, shape (n,): numbers NaN and texts "" where there is none.

    ``mark`` says why there is no reading, with a ``reason`` if one stands in the cell. Values
    that are ``kept`` count however unlikely they are.
    """

    value: np.ndarray
    low: np.ndarray
    high: np.ndarray
    bound: Labels
    mark: Labels
    reason: Labels
    kept: np.ndarray

    @property
    def ranges(self) -> bool:
        """Whether any of them is a range."""
        # Broadcast from one where there are only numbers.
        return bool(self.low.strides[0]) and not np.isnan(self.low).all()


def read_cells(columns: Columns, complain: Complain) -> Cells:
    """The column of values; what is neither a reading nor a mark is complained of."""
    cells = columns.by_name["value"]
    if isinstance(cells, np.ndarray):
        complain(beyond(cells), "value", f"{{}} {BEYOND}")
        nothing = np.broadcast_to(np.nan, len(cells))
        none = Labels.same("", len(cells))
        kept = np.zeros(len(cells), dtype=bool)
        return Cells(cells.astype(float, copy=False), nothing, nothing, none, none, none, kept)
    return _read_texts(cells, complain)


def _read_texts(cells: Labels, complain: Complain) -> Cells:
    """Every text once, however many rows have it."""
    value = parse_numbers(cells.names)
    low, high = np.full_like(value, np.nan), np.full_like(value, np.nan)
    bounds, marks, reasons = ([""] * len(value) for _ in range(3))
    kept, wrong = np.zeros(len(value), dtype=bool), dict[int, str]()
    for place in np.flatnonzero(np.isnan(value)).tolist():
        try:
            found = parse_mark(cells.names[place]) or parse_cell(cells.names[place])
        except TypedError as error:
            wrong[place] = str(error)
            continue
        if isinstance(found, TypedMark):
            marks[place], reasons[place] = found.mark, found.reason
        elif isinstance(found, TypedReading):
            value[place], bounds[place] = found.value, found.bound or ""
            kept[place] = found.kept
            low[place] = np.nan if found.low is None else found.low
            high[place] = np.nan if found.high is None else found.high
    unread = np.isnan(value) & np.array([not mark for mark in marks]) & np.array(cells.names, bool)
    complain(
        unread.take(cells.codes),
        "value",
        lambda row: wrong.get(int(cells.codes[row])) or what_is_wrong(cells[row]),
    )
    wide = beyond(value) | beyond(low) | beyond(high)
    complain(wide.take(cells.codes), "value", f"{{}} {BEYOND}")
    codes = cells.codes
    return Cells(
        value.take(codes),
        low.take(codes),
        high.take(codes),
        Labels(codes, bounds),
        Labels(codes, marks),
        Labels(codes, reasons),
        kept.take(codes),
    )


def parse_numbers(names: list[str]) -> np.ndarray:
    """Texts as numbers, NaN where they are none or may be two; a decimal comma is one."""
    import pandas as pd

    texts = pd.Series(names, dtype=object)
    comma = texts.str.fullmatch(_ONE_COMMA).to_numpy(dtype=bool)
    if not comma_is_decimal(names):
        comma = comma & ~texts.str.fullmatch(THOUSANDS).to_numpy(dtype=bool)
    plain = texts.mask(comma, texts.str.replace(",", "."))
    return pd.to_numeric(plain, errors="coerce").to_numpy(dtype=float, copy=True)


def what_is_wrong(text: str) -> str:
    """Why a text is not a number, and what would be right."""
    if re.fullmatch(THOUSANDS, text):
        return (
            f"{{}} may be {text.replace(',', '.')} or {text.replace(',', '')}: write one of these"
        )
    if re.fullmatch(_GROUPS, text):
        plain = re.sub(r"[^\d,.-]", "", text)
        mark = "," if plain.rfind(",") > plain.rfind(".") else "."
        other = "." if mark == "," else ","
        return (
            f"{{}} has a thousands separator: write {plain.replace(other, '')}, and remove the "
            "separators from all other numbers of the file too"
        )
    if re.fullmatch(r"\d+:\d\d(:\d\d)?", text):
        seconds = 0
        for part in text.split(":"):
            seconds = 60 * seconds + int(part)
        return f"{{}} is not a number; write a duration in the unit of the metric ({seconds} s)"
    return "{} is not a number"
