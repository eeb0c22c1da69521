"""Errors that Ferocal explains to its user; every class knows its exit status.

FerocalError (1)
├── UsageError (2)          what was asked for cannot be done as asked
│   ├── NothingToShowError (2)  nothing that was asked for was measured
│   ├── IntakeError (2)     a file of readings cannot be taken in
│   ├── BeyondLedgerError (2)   a value that no ledger can hold
│   └── StudyFileError (2)  the study file says something that cannot be
├── VerificationError (1)   a configuration was not active
├── BenchChangedError (1)   a hardware fact is not what it was
├── HoldError (4)           an operator has to act, and none is there
└── LedgerError (1)         the ledger cannot be read or written
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ferocal.terms.frozen import dataclass


class FerocalError(Exception):
    """A failure at work, which the user sees without a traceback."""

    exit_status = 1


class UsageError(FerocalError):
    """A request that cannot be honoured as it stands."""

    exit_status = 2


class NothingToShowError(UsageError):
    """Nothing was measured, or declared, of which something could be said."""


class IntakeError(UsageError):
    """A file that cannot be taken in; says where and what would be right."""


class BeyondLedgerError(UsageError):
    """Something that a ledger would not be readable with; nothing of it was recorded."""


class VerificationError(FerocalError):
    """A configuration that should have been active was not."""


class BenchChangedError(FerocalError):
    """The bench is not the one on which the study began."""


class HoldError(FerocalError):
    """An operator has to act before measuring can resume."""

    exit_status = 4


class LedgerError(FerocalError):
    """The ledger cannot be read or written."""


@dataclass(frozen=True)
class Problem:
    """One mistake in a study file: where it is and what would be right."""

    key: str
    message: str
    line: int | None = None

    def __str__(self) -> str:
        where = f"line {self.line}, {self.key}" if self.line else self.key
        return f"{where}: {self.message}" if where else self.message


class StudyFileError(UsageError):
    """A study file with mistakes, all of which are listed."""

    def __init__(self, path: Path, problems: Sequence[Problem]) -> None:
        self.path = path
        self.problems = tuple(problems)
        count = "1 mistake" if len(self.problems) == 1 else f"{len(self.problems)} mistakes"
        lines = "\n".join(f"  {problem}" for problem in self.problems)
        super().__init__(f"{path}: {count} in the study file\n{lines}")
