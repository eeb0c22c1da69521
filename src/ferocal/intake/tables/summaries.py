"""Columns and rows that sum up others, known by their names and proved by their numbers."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

import numpy as np

from ferocal.intake.forms import NumberError, NumberForm
from ferocal.intake.spreadsheets import Share
from ferocal.intake.tables.grids import Cell
from ferocal.intake.typed import single_number
from ferocal.terms.frozen import dataclass

# Numbers of three digits.
_TELLING = 100


@dataclass(frozen=True)
class Numbers:
    """The numbers of cells, shape (n,), NaN where there is none, and half of their last digit."""

    value: np.ndarray
    half: np.ndarray

    @classmethod
    def of(cls, cells: Sequence[Cell], form: NumberForm) -> Numbers:
        """The numbers of cells, without units and signs beside them."""
        pairs = [_number(cell, form) for cell in cells]
        return cls(np.array([p[0] for p in pairs]), np.array([p[1] for p in pairs]))


def _number(cell: Cell, form: NumberForm) -> tuple[float, float]:
    if isinstance(cell, Share):
        return 100 * cell, 1e-6 * abs(100 * cell)
    if not isinstance(cell, str):
        return float(cell), 1e-6 * abs(cell)
    try:
        text = single_number(cell, form)
        value = float(text)
    except (NumberError, ValueError):
        return np.nan, np.nan
    decimals = len(text.partition(".")[2]) if "e" not in text.lower() else 6
    return value, 0.5 * 10.0**-decimals


def _sd(values: np.ndarray) -> np.ndarray:
    found: np.ndarray = np.std(values, axis=0, ddof=1)
    return found


def _sd_of_all(values: np.ndarray) -> np.ndarray:
    found: np.ndarray = np.std(values, axis=0)
    return found


def _geometric_mean(values: np.ndarray) -> np.ndarray:
    logarithms = np.log(np.where(values > 0, values, np.nan))
    found: np.ndarray = np.exp(np.mean(logarithms, axis=0))
    return found


def _variation(values: np.ndarray) -> np.ndarray:
    found: np.ndarray = 100 * _sd(values) / np.mean(values, axis=0)
    return found


# What each summary comes to, of values of shape (k, n) that it sums up.
_FORMULAS: dict[str, tuple[Callable[[np.ndarray], np.ndarray], ...]] = {
    "mean": (lambda v: np.mean(v, axis=0),),
    "median": (lambda v: np.median(v, axis=0),),
    "geometric mean": (_geometric_mean,),
    "sum": (lambda v: np.sum(v, axis=0),),
    "minimum": (lambda v: np.min(v, axis=0),),
    "maximum": (lambda v: np.max(v, axis=0),),
    "standard deviation": (_sd, _sd_of_all),
    "coefficient of variation": (_variation, lambda v: _variation(v) / 100),
}
# What a change is of two columns.
_CHANGES: tuple[Callable[[np.ndarray, np.ndarray], np.ndarray], ...] = (
    lambda a, b: 100 * (b / a - 1),
    lambda a, b: b / a - 1,
    lambda a, b: b - a,
    lambda a, b: b / a,
    lambda a, b: 100 * b / a,
    lambda a, b: 100 * (1 - b / a),
)


def sums_up(kind: str, own: Numbers, others: Sequence[Numbers]) -> bool:
    """Whether numbers are such a summary of others, each of the same rows; up to rounding."""
    if len(others) < 2 or kind not in _FORMULAS:
        return False
    values = np.stack([other.value for other in others])
    slack = np.max([other.half for other in others], axis=0)
    more = len(others) if kind == "sum" else 1
    with np.errstate(all="ignore"):
        return any(_agree(own, f(values), more * slack) for f in _FORMULAS[kind])


def is_change(own: Numbers, others: Sequence[Numbers]) -> tuple[int, int] | None:
    """Of which two of the others numbers are the change, as places; None if of none."""
    with np.errstate(all="ignore"):
        for a, b in itertools.permutations(range(len(others)), 2):
            first, second = others[a].value, others[b].value
            scale = np.abs(own.value / np.where(second == 0, np.nan, second))
            slack = others[a].half + others[b].half
            slack = np.maximum(slack * np.maximum(scale, 1), 0.0)
            for change in _CHANGES:
                rounding = 200 * (others[a].half + others[b].half) / np.abs(first)
                if _agree(own, change(first, second), np.minimum(np.maximum(slack, rounding), 1.0)):
                    return a, b
    return None


def is_rank(own: Numbers, others: Sequence[Numbers]) -> bool:
    """Whether numbers count the places of others, the largest or the smallest first."""
    for other in others:
        for sign in (1, -1):
            with np.errstate(all="ignore"):
                places = [int(np.sum(sign * other.value < sign * v)) + 1 for v in other.value]
            if np.array_equal(own.value, places):
                return True
    return False


def counts_rows(own: Numbers) -> bool:
    """Whether numbers count rows, 1, 2, 3 and so on."""
    first = own.value[0] if len(own.value) else np.nan
    return first in (0, 1) and np.array_equal(own.value, first + np.arange(len(own.value)))


def summary_of_rows(kinds: Sequence[str], own: Sequence[Numbers], above: Sequence[Numbers]) -> str:
    """What of the rows above a row is in all of its columns, of some kinds; "" for none.

    ``own`` has the single number of the row in each column, ``above`` those of the other rows.
    """
    for kind in kinds:
        held = [
            sums_up(kind, number, _split(rows))
            for number, rows in zip(own, above, strict=True)
            if not np.isnan(number.value).all()
        ]
        if held and all(held):
            return kind
    return ""


def is_telling(own: Numbers, others: Numbers) -> bool:
    """Whether numbers have so many digits that they hardly sum up others by chance.

    Where all are equal, each is the mean of the others.
    """
    if np.isnan(own.value).all() or np.isnan(others.value).all():
        return False
    digits = np.nanmedian(np.abs(own.value) / (2 * own.half + np.finfo(float).tiny))
    apart = np.abs(np.nanmax(others.value) - np.nanmin(own.value)) > 4 * np.nanmax(own.half)
    return bool(digits >= _TELLING and apart)


def _split(rows: Numbers) -> list[Numbers]:
    known = np.flatnonzero(~np.isnan(rows.value))
    return [Numbers(rows.value[n : n + 1], rows.half[n : n + 1]) for n in known]


def _agree(own: Numbers, wanted: np.ndarray, slack: np.ndarray) -> bool:
    """Whether numbers are those wanted in all rows that have both, of which there is one."""
    known = ~np.isnan(own.value) & ~np.isnan(wanted)
    if not known.any() or (~np.isnan(own.value) & ~known).any():
        return False
    off = np.abs(own.value - wanted)[known]
    return bool(np.all(off <= (1.02 * own.half + slack)[known] + 1e-9 * np.abs(wanted[known])))
