"""Tables of readings in two shapes, long and wide, made one: a reading per row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import Column, Columns, Labels, combine, labels_of
from ferocal.intake.formats import SourceTable
from ferocal.terms.names import closest, resolve

if TYPE_CHECKING:
    from ferocal.study.load import Study

# What a column can be; columns of these names are matched by themselves.
ROLES = (
    "configuration", "workload", "metric", "value", "unit", "better", "round", "visit", "run",
    "bench", "started_at", "low", "high", "samples", "resolution", "excluded", "bound",
    "statistic", "mark", "reason",
)  # fmt: skip
# Of these, the ones that are texts even if they look like numbers.
TEXTS = frozenset(
    {"configuration", "workload", "metric", "unit", "better", "visit", "run", "bench",
     "started_at", "excluded", "bound", "statistic", "mark",
     "reason"}
)  # fmt: skip

# Other names of these.
_OTHER_NAMES = {"date": "started_at"}


def role_of(name: str, names: Iterable[str]) -> str | None:
    """What a column is by its name, beside columns and roles of these names; None if nothing."""
    role = _OTHER_NAMES.get(name.lower(), name.lower())
    twice = role != name.lower() and role in {other.lower() for other in names}
    return role if role in ROLES and not twice else None


# What the name of a column begins with that has the levels of a factor.
FACTOR = "factor:"


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


def find_unused(
    names: Sequence[str], named: Mapping[str, str], study: Study | None
) -> tuple[str, ...]:
    """The columns of a table that `to_long` makes nothing of."""
    factors = [] if study is None else list(study.file.factor)
    used = {n for n in names if role_of(n, (*names, *named))} | set(named.values())
    used |= {n for n in names if n.removeprefix(FACTOR) in factors}
    long = any(n.lower() == "value" for n in used) or "value" in named
    rest = [name for name in names if name not in used]
    if long or not rest:
        return tuple(rest)
    known = None if study is None else [c.name for c in study.configurations]
    arms = [name for name in rest if known is None or resolve(name, known) in known]
    # The first that is no configuration names the workload, where nothing else does.
    others = [name for name in rest if name not in arms]
    lead = others[:1] if not any(n.lower() == "workload" for n in used) else []
    return tuple(name for name in others if name not in lead)


def to_long(
    table: SourceTable,
    named: Mapping[str, str],
    study: Study | None,
    factors: Sequence[str] = (),
) -> Columns:
    """A reading per row, with columns named for their roles.

    Without a study, ``factors`` names columns that may stand for the configuration.

    A table with a column of values is long. Otherwise it is wide: columns that are named
    like configurations of the study (all that have no role, without a study) hold the
    values, and the first other column names the workload.

    Raises
    ------
    IntakeError
        When a named column is not there, or the table is of neither shape.
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
    columns = table.columns.renamed(roles)
    if "value" in columns:
        if study is None and any(f in columns or FACTOR + f in columns for f in factors):
            return columns
        return _with_configuration(columns, path, study)
    return _unfold(columns, path, study)


def _with_configuration(columns: Columns, path: Path, study: Study | None) -> Columns:
    """A long table; configurations may be given by one column per factor."""
    if "configuration" in columns:
        return columns
    factors = list(study.file.factor) if study is not None else []
    given = [f for f in factors if f in columns or FACTOR + f in columns]
    if not factors or len(given) < len(factors):
        raise IntakeError(
            f"{path}: no column has the configuration; name it with --column configuration=…"
            + (f", or have one for each factor: {', '.join(factors)}" if factors else "")
        )
    assert study is not None
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


def _unfold(columns: Columns, path: Path, study: Study | None) -> Columns:
    """A wide table made long, row by row; empty cells are left out."""
    known = [c.name for c in study.configurations] if study is not None else None
    unknown = [name for name in columns.names if name not in ROLES]
    arms = [name for name in unknown if known is None or resolve(name, known) in known]
    lead = _leading(columns.names, unknown) if known is None else next(iter(unknown), None)
    if "workload" not in columns and lead is not None and (known is None or lead not in arms):
        columns = columns.renamed({lead: "workload"})
        arms = [name for name in arms if name != lead]
    if not arms:
        raise IntakeError(
            f'{path}: neither a column "value" nor columns named like configurations'
            + (f" ({', '.join(known)})" if known else "")
            + f". Found: {', '.join(unknown) or 'none'}"
        )
    labels = {name: column for name, column in columns.by_name.items() if name in ROLES}
    rows = np.repeat(np.arange(len(columns)), len(arms))
    long = Columns(labels, columns.row).taken(rows)
    arm = Labels(np.tile(np.arange(len(arms)), len(columns)), arms)
    cells = _interleaved([columns.by_name[name] for name in arms])
    long = Columns({**long.by_name, "configuration": arm, "value": cells}, long.row)
    return long.taken(long.given("value"))


def _leading(names: Sequence[str], unknown: Sequence[str]) -> str | None:
    """The first column without a role, unless a column of metrics stands before it."""
    first = next(iter(unknown), None)
    before = names[: names.index(first)] if first is not None else []
    return None if "metric" in before else first


def _interleaved(columns: Sequence[Column]) -> Column:
    """The cells of several columns, row by row."""
    numbers = [column for column in columns if isinstance(column, np.ndarray)]
    if len(numbers) == len(columns):
        return np.stack(numbers, axis=1).ravel()
    labels = [column if isinstance(column, Labels) else labels_of(column) for column in columns]
    names = [name for column in labels for name in column.names]
    starts = np.cumsum([0, *(len(column.names) for column in labels[:-1])])
    codes = np.stack(
        [column.codes + start for column, start in zip(labels, starts, strict=True)], axis=1
    )
    return Labels.stripped(codes.ravel(), names)
