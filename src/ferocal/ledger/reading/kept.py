"""What a ledger holds, kind by kind, for whoever is about to share it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from ferocal.ledger import schema
from ferocal.ledger.store import Ledger


@dataclass(frozen=True)
class Kept:
    """A kind of what is kept: how many of it, in how many bytes, and what may be in it.

    Outputs and traces are kept compressed, and this is their size there.
    """

    name: str
    count: int
    bytes: int
    about: str


@dataclass(frozen=True)
class Holdings:
    """What a ledger holds; ``open_to_others`` says whether other users can read its file."""

    path: Path
    bytes: int
    open_to_others: bool
    kinds: tuple[Kept, ...]


@dataclass(frozen=True)
class _Kind:
    """A kind of what is kept: in which columns of a table, and of which of its rows."""

    name: str
    columns: Sequence[sa.Column[object]]
    about: str
    only: sa.ColumnElement[bool] | None = None


_S, _V, _R, _O = schema.session.c, schema.visit.c, schema.run.c, schema.output.c
# In the order of what has to be looked at first.
_KINDS = (
    _Kind("standard error", [_O.content], "whatever programs wrote there", _O.stream == "stderr"),
    _Kind("outputs", [_O.content], "whatever programs wrote", _O.stream == "stdout"),
    _Kind("outputs of steps", [schema.step.c.text, schema.step.c.output],
          "commands that switch the bench, and what they wrote"),
    _Kind("study files", [_S.study_file], "commands, variables, paths, names of people"),
    _Kind("commands and versions", [_V.subjects], "words of commands, versions, digests"),
    _Kind("checks", [_V.checks], "what checks expected and saw, paths of programs"),
    _Kind("facts of the machine", [schema.facts.c.content],
          "hardware, system, firmware, and serial numbers where the study names them"),
    _Kind("conditions of runs", [_R.conditions], "load, clocks, names of busy programs"),
    _Kind("reasons", [_R.reason], "why runs failed, with the end of their standard error"),
    _Kind("files that were loaded", [_S.source], "their paths"),
    _Kind("tables as they were understood", [_S.imported_as], "names of columns and rows"),
    _Kind("operators", [_S.operator], "names of people"),
    _Kind("notes", [schema.note.c.text, schema.note.c.source], "what people wrote"),
    _Kind("exclusions", [schema.mark.c.reason], "what people wrote"),
    _Kind("corrections", [schema.correction.c.reason], "what people wrote"),
    _Kind("references", [schema.reference.c.device, schema.reference.c.source],
          "results from elsewhere, and who says so"),
    _Kind("readings", [schema.reading.c.value], "numbers"),
    _Kind("traces", [schema.trace.c.content], "series of numbers"),
)  # fmt: skip


def read_holdings(ledger: Ledger) -> Holdings:
    """What a ledger holds; kinds of which there is nothing are left out."""
    kinds = []
    for kind in _KINDS:
        # Of texts the length is in characters, unless they are taken as bytes.
        sizes = [sa.func.coalesce(sa.func.length(sa.cast(c, sa.LargeBinary)), 0)
                 for c in kind.columns]  # fmt: skip
        query = sa.select(sa.func.count(kind.columns[0]), sa.func.sum(sum(sizes[1:], sizes[0])))
        ((count, size),) = ledger.rows(query if kind.only is None else query.where(kind.only))
        if count:
            kinds.append(Kept(kind.name, count, int(size), kind.about))
    facts = ledger.path.stat()
    return Holdings(ledger.path, facts.st_size, bool(facts.st_mode & 0o077), tuple(kinds))
