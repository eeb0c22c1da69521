"""What a ledger holds, kind by kind, for whoever is about to share it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass


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
    table: str
    columns: Sequence[str]
    about: str
    only: str = "1 = 1"


# In the order of what has to be looked at first.
_KINDS = (
    _Kind("standard error", "output", ["content"], "whatever programs wrote there",
          "stream = 'stderr'"),
    _Kind("outputs", "output", ["content"], "whatever programs wrote", "stream = 'stdout'"),
    _Kind("outputs of steps", "step", ["text", "output"],
          "commands that switch the bench, and what they wrote"),
    _Kind("study files", "session", ["study_file"], "commands, variables, paths, names of people"),
    _Kind("commands and versions", "visit", ["subjects"], "words of commands, versions, digests"),
    _Kind("checks", "visit", ["checks"], "what checks expected and saw, paths of programs"),
    _Kind("facts of the machine", "facts", ["content"],
          "hardware, system, firmware, and serial numbers where the study names them"),
    _Kind("conditions of runs", "run", ["conditions"], "load, clocks, names of busy programs"),
    _Kind("reasons", "run", ["reason"], "why runs failed, with the end of their standard error"),
    _Kind("files that were loaded", "session", ["source"], "their paths"),
    _Kind("tables as they were understood", "session", ["imported_as"],
          "names of columns and rows"),
    _Kind("operators", "session", ["operator"], "names of people"),
    _Kind("notes", "note", ["text", "source"], "what people wrote"),
    _Kind("exclusions", "mark", ["reason"], "what people wrote"),
    _Kind("corrections", "correction", ["reason"], "what people wrote"),
    _Kind("references", "reference", ["device", "source"],
          "results from elsewhere, and who says so"),
    _Kind("readings", "reading", ["value"], "numbers"),
    _Kind("traces", "trace", ["content"], "series of numbers"),
)  # fmt: skip


def read_holdings(ledger: Ledger) -> Holdings:
    """What a ledger holds; kinds of which there is nothing are left out."""
    kinds = []
    for kind in _KINDS:
        # Of texts the length is in characters, unless they are taken as bytes.
        sizes = " + ".join(f"coalesce(length(CAST({c} AS BLOB)), 0)" for c in kind.columns)
        query = f"SELECT count({kind.columns[0]}), sum({sizes}) FROM {kind.table} WHERE {kind.only}"
        ((count, size),) = ledger.rows(query)
        if count:
            kinds.append(Kept(kind.name, count, int(size), kind.about))
    facts = ledger.path.stat()
    return Holdings(ledger.path, facts.st_size, bool(facts.st_mode & 0o077), tuple(kinds))
