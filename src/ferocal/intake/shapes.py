"""Long tables: a reading per row, with columns named for what they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR, Columns, Labels, combine
from ferocal.intake.formats import SourceTable
from ferocal.terms.names import closest, resolve

if TYPE_CHECKING:
    from ferocal.study.load import Study

# What a column can be; columns of these names are matched by themselves.
ROLES = (
    "configuration", "workload", "metric", "value", "unit", "better", "round", "visit", "run",
    "bench", "started_at", "low", "high", "samples", "resolution", "excluded", "bound",
    "statistic", "mark", "reason", "version", "architecture", "group", "price", "cores", "note",
    "source", "ambient",
)  # fmt: skip
# Of these, the ones that are texts even if they look like numbers.
TEXTS = frozenset(
    {"configuration", "workload", "metric", "unit", "better", "visit", "run", "bench",
     "started_at", "excluded", "bound", "statistic", "mark", "reason", "version", "architecture",
     "group", "note", "source"}
)  # fmt: skip

NO_CONFIGURATION = (
    "no column has the configuration; name it with --column configuration=NAME, or say "
    "configuration=FILE where each file has one, configuration=SHEET where each sheet has"
)
# Other names of these.
_OTHER_NAMES = {"date": "started_at"}


def role_of(name: str, names: Iterable[str]) -> str | None:
    """What a column is by its name, beside columns and roles of these names; None if nothing."""
    role = _OTHER_NAMES.get(name.lower(), name.lower())
    twice = role != name.lower() and role in {other.lower() for other in names}
    return role if role in ROLES and not twice else None


def parse_columns(pairs: Sequence[str]) -> dict[str, str]:
    """Roles and the columns that have them, from texts like "configuration=OS".

    Raises
    ------
    IntakeError
        When a text is not of this form, or names no role.
    """
    found = {}
    for pair in pairs:
        role, sign, column = pair.partition("=")
        if not sign or not column:
            raise IntakeError(f'--column {pair}: write it like "configuration=OS"')
        role = _OTHER_NAMES.get(role, role)
        if role not in ROLES:
            known = (*ROLES, *_OTHER_NAMES)
            raise IntakeError(f'--column {pair}: no role "{role}"; {closest(role, known)}')
        found[role] = column
    return found


def is_text(name: str, named: Mapping[str, str], study: Study | None) -> bool:
    """Whether a column is of texts, even if they look like numbers."""
    factors = () if study is None else study.file.factor
    own = role_of(name, ()) or ""
    role = next((role for role, column in named.items() if column == name), own)
    return role in TEXTS or name.removeprefix(FACTOR) in factors


def is_plain(names: Sequence[str], named: Mapping[str, str], factors: Iterable[str]) -> bool:
    """Whether all columns are named for what they are, and one has the values."""
    taken = (*names, *named)
    known = {*named.values(), *factors}
    roles = {role_of(name, taken) for name in names} | set(named)
    return "value" in roles and all(
        role_of(name, taken) or name in known or name.startswith(FACTOR) for name in names
    )


def to_long(table: SourceTable, named: Mapping[str, str]) -> Columns:
    """The columns of a long table, called by their roles.

    Raises
    ------
    IntakeError
        When a named column is not there, or two have one role.
    """
    names, path = table.columns.names, table.path
    for role, column in named.items():
        if column not in names:
            raise IntakeError(f'{path}: no column "{column}" for {role}; {closest(column, names)}')
    taken = (*names, *named)
    found = {n: own for n in names if (own := role_of(n, taken)) is not None}
    roles = found | {column: role for role, column in named.items()}
    twice = [role for n, role in roles.items() if list(roles.values()).count(role) > 1]
    if twice:
        raise IntakeError(
            f'{path}: two columns both mean "{twice[0]}": name one with --column {twice[0]}=NAME'
        )
    return table.columns.renamed(roles)


def with_configuration(columns: Columns, path: Path, study: Study) -> Columns:
    """A long table with configurations, which may be given by one column per factor.

    Raises
    ------
    IntakeError
        When they are given in neither way.
    """
    if "configuration" in columns:
        return columns
    factors = list(study.file.factor)
    given = [f for f in factors if f in columns or FACTOR + f in columns]
    if len(given) < len(factors):
        raise IntakeError(f"{path}: {NO_CONFIGURATION}, or have one for each factor: "
                          f"{', '.join(factors)}")  # fmt: skip
    names = {tuple(c.levels[f] for f in factors): c.name for c in study.configurations[::-1]}
    # A column of the table may have the name of a factor and be something else.
    sources = {f: FACTOR + f if FACTOR + f in columns else f for f in factors}
    levels = [
        _resolved(columns.labels(source), study.file.factor[f].level)
        for f, source in sources.items()
    ]
    _, first, place = np.unique(
        combine(*(level.codes for level in levels)), return_index=True, return_inverse=True
    )
    keys = list(zip(*(level.at(first) for level in levels), strict=True))
    labels = Labels.stripped(place, [names.get(key, " ".join(key)) for key in keys])
    return Columns({**columns.by_name, "configuration": labels}, columns.row)


def _resolved(labels: Labels, known: Iterable[str]) -> Labels:
    """The texts with the known names that they stand for in their place."""
    names = list(known)
    return Labels.stripped(labels.codes, [resolve(text, names) for text in labels.names])
