"""Files of readings: large ones of known columns straight away, all others as people read them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.intake.columns import FACTOR, Columns, Labels
from ferocal.intake.delimited import find_dialect, records
from ferocal.intake.formats import SourceTable, format_of, read_table
from ferocal.intake.forms import find_form
from ferocal.intake.shapes import is_plain, is_text, to_long
from ferocal.intake.tables.options import Known, TableOptions
from ferocal.intake.tables.reading import TableReading, understand
from ferocal.intake.tables.view import NOT_USED
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.study.load import Study

# Files from this size on (bytes) are of programs, if their columns are named for what they are.
_LARGE = 2**16


@dataclass(frozen=True)
class ReadTable:
    """A file with a reading per row, and how it was understood; None where all names are plain."""

    columns: Columns
    source: SourceTable
    reading: TableReading | None

    @property
    def unused(self) -> tuple[str, ...]:
        """The names of the columns that nothing was read from."""
        if self.reading is None:
            return ()
        columns = (c for table in self.reading.tables for c in table.roles.of(NOT_USED))
        return tuple(dict.fromkeys(c.name for c in columns if c.why != "empty"))


def known_in(study: Study | None) -> Known:
    """The names that a study has, none without one."""
    if study is None:
        return Known()
    return Known(
        configurations=tuple(c.name for c in study.configurations),
        workloads=tuple(study.workloads),
        metrics=tuple(dict.fromkeys(name for _, name, _ in study.read_metrics())),
        factors={name: tuple(factor.level) for name, factor in study.file.factor.items()},
    )


def read_readings(path: Path, options: TableOptions, study: Study | None) -> ReadTable:
    """A file with a reading per row.

    Raises
    ------
    IntakeError
        When it is damaged, not understood, or doubtful.
    """
    known = known_in(study)
    named = options.named
    if _is_large(path) and _is_plain(path, named, (*options.factors, *known.factors)):
        table = read_table(path, lambda name: is_text(name, named, study))
        columns = to_long(table, named)
        levels = {f: FACTOR + f for f in options.factors if f in columns}
        columns = columns.renamed({f: n for f, n in levels.items() if n not in columns})
        form = find_form(_texts(columns), options.decimal, str(path))
        return ReadTable(columns, replace(table, form=form.form), None)
    reading = understand(path, options, known)
    source = SourceTable(path, reading.columns, reading.word, reading.numbers, reading.form.form)
    return ReadTable(reading.columns, source, reading)


def _is_large(path: Path) -> bool:
    found = format_of(path)
    return (
        path.is_file()
        and path.stat().st_size >= _LARGE
        and found is not None
        and (found.name != "spreadsheet")
    )


def _is_plain(path: Path, named: Mapping[str, str], factors: Iterable[str]) -> bool:
    """Whether the columns of a file are named for what they are."""
    return is_plain(_names_in(path), named, factors)


def _names_in(path: Path) -> Sequence[str]:
    if path.suffix.lower() in (".csv", ".tsv", ".txt"):
        dialect = find_dialect(path)
        return [n.strip() for n in next(records(path, dialect.encoding, dialect.delimiter))[1]]
    return read_table(path, lambda name: True).columns.names


def _texts(columns: Columns) -> Iterable[str]:
    """The texts among which are the numbers of a table."""
    for name in ("value", "low", "high"):
        column = columns.by_name.get(name)
        if isinstance(column, Labels):
            yield from column.names
