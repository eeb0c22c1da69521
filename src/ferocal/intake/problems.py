"""Problems of a table of readings, collected row by row to be reported together."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from ferocal.intake.columns import Columns
from ferocal.intake.delimited import MOST_NAMED, refusal

if TYPE_CHECKING:
    from ferocal.intake.formats import SourceTable


class Problems:
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
