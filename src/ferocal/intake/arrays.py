"""Columns of readings from Arrow tables and from objects."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import Column, Columns, Labels, text_of
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    import pyarrow as pa

IsText = Callable[[str], bool]


def _twice(path: Path, names: Sequence[str], name: str) -> IntakeError:
    """The error for columns of one name, or without names."""
    places = [n for n, other in enumerate(names, 1) if other == name]
    which = listed([str(place) for place in places])
    if name:
        return IntakeError(f'{path}, line 1: columns {which} are both called "{name}"')
    return IntakeError(
        f"{path}, line 1: columns {which} have no name. If a title stands above the header, remove "
        "it so that the first line holds the column names."
    )


def columns_of(table: pa.Table, path: Path, is_text: IsText) -> Columns:
    """The columns of a table from a file.

    A column of numbers in which one is spelled as NaN becomes texts, as do those that have
    to be texts: "01" may be a name.

    Raises
    ------
    IntakeError
        When two have the same name, or one cannot be read.
    """
    names = [name.strip() for name in table.column_names]
    twice = [name for name in dict.fromkeys(names) if names.count(name) > 1]
    if twice:
        raise _twice(path, names, twice[0])
    by_name = {
        name: _column_of(array, name, path, is_text(name))
        for name, array in zip(names, table.columns, strict=True)
    }
    return Columns(by_name, np.arange(table.num_rows))


def _column_of(array: pa.ChunkedArray, name: str, path: Path, as_text: bool) -> Column:
    import pyarrow as pa

    try:
        return _column(array, as_text)
    except (pa.ArrowException, ValueError, OverflowError) as error:
        row = _unreadable_row(array)
        where = f'{path}, column "{name}"' if row is None else f'{path}, row {row}, "{name}"'
        # Errors of the library are of this kind too, and say nothing to a user.
        what = str(error)
        if isinstance(error, (pa.ArrowException, UnicodeError)):
            what = "it is neither a number nor a text in UTF-8"
        raise IntakeError(f"{where}: cannot be read: {what}") from None


def _unreadable_row(array: pa.ChunkedArray) -> int | None:
    """The first row, counted from 1, that is not a value of Python, such as wrong UTF-8."""
    for number, value in enumerate(array, 1):
        try:
            value.as_py()
        except (ValueError, OverflowError, IndexError):
            return number
    return None


def _column(array: pa.ChunkedArray, as_text: bool) -> Column:
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_decimal(array.type):
        array = array.cast(pa.float64())
    kind = array.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        spelled = pa.types.is_floating(kind) and pc.any(pc.is_nan(array)).as_py()
        if not as_text and not spelled:
            numbers: np.ndarray = array.to_numpy()
            return numbers
        # Arrow writes "nan", which stands for nothing as well.
        array = pc.if_else(pc.is_nan(array), "NaN", array.cast(pa.string())) if spelled else array
    if not pa.types.is_dictionary(array.type):
        array = _as_text(array).dictionary_encode()
    # Without rows there are no chunks either.
    whole = pa.chunked_array([*array.chunks], array.type).unify_dictionaries().combine_chunks()
    whole.validate(full=True)  # what a damaged file names may not be there
    codes = whole.indices if not whole.null_count else whole.indices.fill_null(-1)
    return Labels.stripped(codes.to_numpy(), [name or "" for name in whole.dictionary.to_pylist()])


def _as_text(array: pa.ChunkedArray) -> pa.ChunkedArray:
    import pyarrow as pa

    try:
        return array.cast(pa.string())
    except pa.ArrowNotImplementedError:  # lists, say
        texts = [text_of(value) for value in array.to_pylist()]
        return pa.chunked_array([pa.array(texts, pa.string())])


def columns_of_objects(
    parts: Iterable[Sequence[Mapping[Any, Any]]], path: Path, is_text: IsText
) -> Columns:
    """Objects, some at a time, as rows; what only some have is nothing in the others.

    Raises
    ------
    IntakeError
        When two columns have the same name.
    """
    import pyarrow as pa

    tables = []
    for rows in parts:
        names = list(dict.fromkeys(name for row in rows for name in row))
        tables.append(pa.table({n: _array([row.get(n) for row in rows]) for n in names}))
    if not tables:
        return Columns({}, np.arange(0))
    fields = [field for table in tables for field in table.schema]
    texts = {field.name for field in fields if pa.types.is_string(field.type)}
    alike = [
        pa.table({n: table[n].cast(pa.string()) if n in texts else table[n]
                  for n in table.column_names})
        for table in tables
    ]  # fmt: skip
    return columns_of(pa.concat_tables(alike, promote_options="permissive"), path, is_text)


def _array(values: list[Any]) -> pa.Array:
    """Numbers if they all are, else texts."""
    import pyarrow as pa

    kinds = {type(value) for value in values if value is not None}
    if kinds <= {int, float}:
        try:
            return pa.array(values, pa.float64() if float in kinds else pa.int64())
        except (pa.ArrowInvalid, OverflowError):  # a number of more than 64 bits
            pass
    return pa.array([text_of(value) for value in values], pa.string())
