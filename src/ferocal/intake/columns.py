"""Columns of readings: numbers, or texts of which each distinct one is kept once."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Self

import numpy as np

from ferocal.terms.frozen import dataclass

# What the name of a column begins with that has the levels of a factor.
FACTOR = "factor:"


@dataclass(frozen=True)
class Labels:
    """Texts of shape (n,): the text of row ``i`` is ``names[codes[i]]``, "" where unknown."""

    codes: np.ndarray
    names: list[str]

    @classmethod
    def same(cls, text: str, count: int) -> Self:
        """The same text so many times."""
        return cls(np.zeros(count, dtype=np.int32), [text])

    @classmethod
    def of_texts(cls, texts: Sequence[str]) -> Self:
        """Texts as they come."""
        places: dict[str, int] = {}
        codes = [places.setdefault(text, len(places)) for text in texts]
        return cls(np.array(codes, dtype=np.int32), list(places))

    @classmethod
    def stripped(cls, codes: np.ndarray, names: Sequence[str]) -> Self:
        """Texts without the space around them; the code −1 is that of no text."""
        codes = codes.astype(np.int32, copy=False)  # smaller ones overflow when combined
        places: dict[str, int] = {}
        moved = [places.setdefault(name.strip(), len(places)) for name in names]
        moved.append(places.setdefault("", len(places)))
        if moved[:-1] != list(range(len(names))) or np.any(codes < 0):
            codes = np.array(moved, dtype=np.int32)[codes]
        return cls(codes, list(places))

    def __getitem__(self, row: int) -> str:
        return self.names[int(self.codes[row])]

    def at(self, rows: np.ndarray) -> list[str]:
        """The texts of some rows."""
        return [self.names[code] for code in self.codes[rows].tolist()]

    def map(self, make: Callable[[str], Any]) -> np.ndarray:
        """What a function makes of every text, made once for each distinct one."""
        made: np.ndarray = np.array([make(name) for name in self.names]).take(self.codes)
        return made

    @property
    def used(self) -> list[str]:
        """The distinct texts that there are, in order of appearance."""
        import pandas as pd

        return [self.names[code] for code in pd.unique(self.codes).tolist()]

    @property
    def given(self) -> np.ndarray:
        """Where there is a text."""
        if all(self.names):
            return np.broadcast_to(np.True_, len(self.codes))
        return self.map(bool)


Column = np.ndarray | Labels


@dataclass(frozen=True)
class Columns:
    """Named columns of n rows each: numbers, NaN where there is nothing, or texts.

    ``row`` of shape (n,) counts from 0 in the file that they are from.
    """

    by_name: dict[str, Column]
    row: np.ndarray

    def __contains__(self, name: str) -> bool:
        return name in self.by_name

    def __len__(self) -> int:
        return len(self.row)

    @property
    def names(self) -> list[str]:
        """What the columns are called, in their order."""
        return list(self.by_name)

    def labels(self, name: str) -> Labels:
        """A column as texts, all "" if there is none."""
        column = self.by_name.get(name)
        if column is None:
            return Labels.same("", len(self))
        return column if isinstance(column, Labels) else labels_of(column)

    def given(self, name: str) -> np.ndarray:
        """In which rows there is anything in a column."""
        column = self.by_name[name]
        return column.given if isinstance(column, Labels) else ~np.isnan(column)

    def renamed(self, names: Mapping[str, str]) -> Columns:
        """The same columns with some called otherwise."""
        return Columns({names.get(k, k): column for k, column in self.by_name.items()}, self.row)

    def taken(self, rows: np.ndarray) -> Columns:
        """Some rows: a mask, or their places, which may repeat."""
        chosen = {
            name: Labels(column.codes[rows], column.names)
            if isinstance(column, Labels)
            else column[rows]
            for name, column in self.by_name.items()
        }
        return Columns(chosen, self.row[rows])


def labels_of(numbers: np.ndarray) -> Labels:
    """Numbers as texts, NaN as ""."""
    distinct, codes = np.unique(numbers, return_inverse=True)
    return Labels(codes, ["" if n != n else text_of(n) for n in distinct.tolist()])


def text_of(value: Any) -> str:
    """A value as people read it, "" for nothing."""
    return "" if value is None else repr(value) if isinstance(value, float) else str(value)


def combine(*codes: np.ndarray) -> np.ndarray:
    """One code of shape (n,), 0 or more, for every combination of several whole numbers."""
    import pandas as pd

    total, reach = np.zeros(len(codes[0]), dtype=np.int64), 1
    for code in codes:
        least, size = (int(code.min()), int(np.ptp(code)) + 1) if len(code) else (0, 1)
        if size == 1:
            continue
        if reach >= 2**62 // size:
            total, distinct = pd.factorize(total)
            reach = len(distinct)
        if reach > 1:
            total *= size
        total += code
        if least:
            total -= least
        reach *= size
    return total


def repeats(codes: np.ndarray) -> np.ndarray:
    """Which of the codes, 0 or more, were there before; shape (n,)."""
    import pandas as pd

    count = len(codes)
    if count and int(codes.max()) < 8 * count and int(np.bincount(codes).max()) == 1:
        return np.zeros(count, dtype=bool)  # several times as fast as looking for them
    found: np.ndarray = pd.Series(codes).duplicated().to_numpy()
    return found
