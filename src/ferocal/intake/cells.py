"""Cells of files as readings: numbers, ranges, bounds, and marks for what could not be read."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ferocal.intake.columns import Columns, Labels, combine
from ferocal.intake.forms import ALONE, NumberError, NumberForm
from ferocal.intake.typed import TypedError, TypedMark, TypedReading, parse_mark, parse_reading
from ferocal.terms.bounds import BEYOND, beyond
from ferocal.terms.frozen import dataclass

# Takes the rows that are wrong, a column, and what is wrong with it.
Complain = Callable[[np.ndarray, str, "str | Callable[[int], str]"], None]


@dataclass(frozen=True)
class Cells:
    """The values of a table, shape (n,): numbers NaN and texts "" where there is none.

    ``mark`` says why there is no reading, with a ``reason`` if one stands in the cell. Values
    that are ``kept`` count however unlikely they are. ``statistic`` and ``samples`` are what a cell
    itself says of its repeats, ``note`` what is remarked in it, ``sign`` that of a footnote.
    """

    value: np.ndarray
    low: np.ndarray
    high: np.ndarray
    samples: np.ndarray
    bound: Labels
    mark: Labels
    reason: Labels
    statistic: Labels
    note: Labels
    sign: Labels
    kept: np.ndarray

    @property
    def ranges(self) -> bool:
        """Whether any of them is a range."""
        # Broadcast from one where there are only numbers.
        return bool(self.low.strides[0]) and not np.isnan(self.low).all()


def read_cells(columns: Columns, units: Labels, form: NumberForm, complain: Complain) -> Cells:
    """The column of values; what is neither a reading nor a mark is complained of.

    ``units`` are those of the numbers, where none stands beside one.
    """
    cells = columns.by_name["value"]
    if isinstance(cells, np.ndarray):
        complain(beyond(cells), "value", f"{{}} {BEYOND}")
        nothing = np.broadcast_to(np.nan, len(cells))
        none = Labels.same("", len(cells))
        kept = np.zeros(len(cells), dtype=bool)
        value = cells.astype(float, copy=False)
        return Cells(value, nothing, nothing, nothing, none, none, none, none, none, none, kept)
    return _read_texts(cells, units, form, complain)


def _read_texts(cells: Labels, units: Labels, form: NumberForm, complain: Complain) -> Cells:
    """Every text once with each unit, however many rows have them."""
    quick = _plain_numbers(cells.names, form)
    _, first, pair = np.unique(
        combine(cells.codes, units.codes), return_index=True, return_inverse=True
    )
    texts, of_pairs = cells.at(first), units.at(first)
    value = quick.take(cells.codes[first])
    numbers = {name: np.full_like(value, np.nan) for name in ("low", "high", "samples")}
    words: dict[str, list[str]] = {
        name: [""] * len(value) for name in ("bound", "mark", "reason", "statistic", "note", "sign")
    }
    kept, wrong = np.zeros(len(value), dtype=bool), dict[int, str]()
    for place in np.flatnonzero(np.isnan(value)).tolist():
        try:
            found = _read(texts[place], of_pairs[place], form)
        except TypedError as error:
            wrong[place] = str(error)
            continue
        if isinstance(found, TypedReading):
            value[place], kept[place] = found.value, found.kept
            for name, column in numbers.items():
                column[place] = np.nan if (n := getattr(found, name)) is None else n
        for name, column_of_words in words.items():
            column_of_words[place] = getattr(found, name, "") or ""
    unread = (
        np.isnan(value) & np.array([not mark for mark in words["mark"]]) & np.array(texts, bool)
    )
    complain(
        unread.take(pair),
        "value",
        lambda row: wrong.get(int(pair[row])) or what_is_wrong(cells[row], form),
    )
    wide = beyond(value) | beyond(numbers["low"]) | beyond(numbers["high"])
    complain(wide.take(pair), "value", f"{{}} {BEYOND}")
    low, high, samples = (column.take(pair) for column in numbers.values())
    labels = {name: Labels(pair, column) for name, column in words.items()}
    return Cells(value.take(pair), low, high, samples, **labels, kept=kept.take(pair))


def _read(text: str, unit: str, form: NumberForm) -> TypedReading | TypedMark | None:
    return parse_mark(text) or parse_reading(text, unit, unit, form)


def _plain_numbers(names: list[str], form: NumberForm) -> np.ndarray:
    """Texts as numbers where programs read them as such and people would, NaN elsewhere."""
    import pandas as pd

    texts = pd.Series(names, dtype=object)
    if form.decimal == ",":
        texts = texts.where(~texts.str.contains(".", regex=False), "")
    return pd.to_numeric(texts, errors="coerce").to_numpy(dtype=float, copy=True)


def parse_numbers(names: list[str], form: NumberForm = ALONE) -> np.ndarray:
    """Texts as numbers, NaN where they are none or may be two."""
    numbers = _plain_numbers(names, form)
    for place in np.flatnonzero(np.isnan(numbers)).tolist():
        try:
            numbers[place] = float(form.plain(names[place]))
        except ValueError:
            continue
    return numbers


def what_is_wrong(text: str, form: NumberForm = ALONE) -> str:
    """Why a text is not a number, and what would be right."""
    try:
        form.plain(text)
    except NumberError as error:
        return str(error)
    return "{} is not a number"
