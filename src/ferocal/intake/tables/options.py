"""What is stated of a table before it is read, and what of its reading stays doubtful."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Literal, NamedTuple

from ferocal.errors import IntakeError
from ferocal.terms.frozen import dataclass

Across = Literal["configuration", "metric", "workload", "run"]
# What stands for the name of a sheet or a file where a column is named.
SHEET, FILE = "SHEET", "FILE"


@dataclass(frozen=True)
class TableOptions:
    """What is stated of a table; None and "" where nothing is.

    ``named`` has columns by what they are, where `SHEET` and `FILE` stand for the names of those;
    ``factors`` are columns with levels. ``across`` says what columns of values are called for.
    ``ignore`` and ``keep`` name columns and rows that are no readings, and that are some although
    they look like summaries. ``doubtful`` things are taken as they seem, if that was agreed to.
    """

    named: Mapping[str, str] = field(default_factory=dict)
    factors: tuple[str, ...] = ()
    across: Across | None = None
    ignore: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    header: int | None = None
    sheets: tuple[str, ...] = ()
    path: str = ""
    pattern: str = ""
    decimal: str | None = None
    dates: str | None = None
    fill_down: bool = False
    doubtful: bool = False


class Doubt(NamedTuple):
    """What of a table may be read in two ways, how it is read now, and what settles it."""

    what: str
    taken: str
    remedy: str


@dataclass(frozen=True)
class Known:
    """What a study already names; nothing where one is begun."""

    configurations: tuple[str, ...] = ()
    workloads: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()
    factors: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.configurations)


class DoubtfulError(IntakeError):
    """A table that may be read in several ways; nothing but an answer is missing."""
