"""Tables of readings in two shapes, long and wide, made one: a reading per row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.intake.tables import Chunk, IntakeError
from ferocal.study.configurations import closest

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.study.load import Study

# What a column can be; columns of these names are matched by themselves.
ROLES = (
    "configuration", "workload", "metric", "value", "unit", "better", "round", "visit", "run",
    "bench", "started_at", "low", "high", "samples", "resolution", "excluded",
)  # fmt: skip
LINE = "line"


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
        if role not in ROLES:
            raise IntakeError(f'--column {pair}: no role "{role}"; {closest(role, ROLES)}')
        found[role] = column
    return found


def to_long(
    chunk: Chunk, path: Path, named: Mapping[str, str], study: Study | None
) -> pd.DataFrame:
    """A reading per row, with columns named for their roles, and the line of each.

    A table with a column of values is long. Otherwise it is wide: columns that are named
    like configurations of the study (all that are no role, without a study) hold the
    values, and the first other column names the workload.

    Raises
    ------
    IntakeError
        When a named column is not there, or the table is of neither shape.
    """
    frame = chunk.frame
    for role, column in named.items():
        if column not in frame.columns:
            hint = closest(column, list(map(str, frame.columns)))
            raise IntakeError(f'{path}: no column "{column}" for {role}; {hint}')
    frame = frame.rename(columns={column: role for role, column in named.items()})
    lower = {c: c.lower() for c in frame.columns if c.lower() in ROLES and c not in ROLES}
    frame = frame.rename(columns=lower)
    frame = frame.assign(**{LINE: range(chunk.first, chunk.first + len(frame))})
    if "value" in frame.columns:
        return _with_configuration(frame, path, study)
    return _unfold(frame, path, study)


def _with_configuration(frame: pd.DataFrame, path: Path, study: Study | None) -> pd.DataFrame:
    """A long table; configurations may be told by one column per factor."""
    if "configuration" in frame.columns:
        return frame
    factors = list(study.file.factor) if study is not None else []
    given = [f for f in factors if f in frame.columns or f"factor:{f}" in frame.columns]
    if not factors or len(given) < len(factors):
        raise IntakeError(
            f"{path}: no column tells the configuration; name it with --column configuration=…"
            + (f", or have one for each factor: {', '.join(factors)}" if factors else "")
        )
    assert study is not None
    names = {tuple(c.levels[f] for f in factors): c.name for c in study.configurations[::-1]}
    columns = [frame[f if f in frame.columns else f"factor:{f}"] for f in factors]
    levels = list(zip(*columns, strict=True))
    return frame.assign(configuration=[names.get(key, " ".join(key)) for key in levels])


def _unfold(frame: pd.DataFrame, path: Path, study: Study | None) -> pd.DataFrame:
    """A wide table made long; empty cells are no readings."""
    import pandas as pd

    known = [c.name for c in study.configurations] if study is not None else None
    own = [c for c in frame.columns if c not in ROLES and c != LINE]
    if "workload" not in frame.columns and own:
        frame = frame.rename(columns={own[0]: "workload"})
        own = own[1:]
    arms = [c for c in own if known is None or c in known]
    if not arms:
        listed = ", ".join(map(str, own)) or "none"
        raise IntakeError(
            f'{path}: neither a column "value" nor columns named like configurations'
            + (f" ({', '.join(known)})" if known else "")
            + f"; there are {listed}"
        )
    labels = [c for c in frame.columns if c in ROLES or c == LINE]
    long = pd.melt(frame, id_vars=labels, value_vars=arms, var_name="configuration")
    return long[long["value"].str.strip() != ""].sort_values(LINE, kind="stable")
