"""Checks that prove a level active: what is looked at, and what must be seen there."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import AfterValidator, BaseModel, Discriminator, Field, Tag, model_validator

from ferocal.study.base import Command, StudyTable
from ferocal.study.sources import Pointer, compile_pattern
from ferocal.terms.bounds import LARGEST


def _check_regex(pattern: str) -> str:
    compile_pattern(pattern, re.NOFLAG)
    return pattern


def _number(seen: str) -> float | None:
    """What was seen as a number, None if it is none."""
    try:
        return float(seen)
    except ValueError:
        return None


# What must be seen, by the field that says so: whether it is.
_HOLDS: Mapping[str, Callable[[Any, str], bool]] = {
    "equals": lambda wanted, seen: seen == wanted,
    "contains": lambda wanted, seen: wanted in seen,
    "lacks": lambda unwanted, seen: unwanted not in seen,
    "matches": lambda wanted, seen: compile_pattern(wanted, re.NOFLAG).search(seen) is not None,
    "at_least": lambda least, seen: (number := _number(seen)) is not None and number >= least,
    "at_most": lambda most, seen: (number := _number(seen)) is not None and number <= most,
}
Bound = Annotated[float, Field(ge=-LARGEST, le=LARGEST)]


class Expectation(StudyTable):
    """What must be seen; exactly one of them. Bounds are on numbers."""

    equals: str | None = None
    contains: str | None = None
    lacks: Annotated[str, Field(min_length=1)] | None = None
    matches: Annotated[str, AfterValidator(_check_regex)] | None = None
    at_least: Bound | None = None
    at_most: Bound | None = None

    @model_validator(mode="after")
    def _one_expectation(self) -> Self:
        if len([key for key in _HOLDS if getattr(self, key) is not None]) != 1:
            raise ValueError(
                "needs exactly one of " + ", ".join(key.replace("_", "-") for key in _HOLDS)
            )
        return self

    @property
    def _key(self) -> str:
        return next(key for key in _HOLDS if getattr(self, key) is not None)

    @property
    def expected(self) -> str:
        """The expectation as people read it."""
        value = getattr(self, self._key)
        told = f'"{value}"' if isinstance(value, str) else f"{value:.15g}"
        return f"{self._key.replace('_', ' ')} {told}"

    @property
    def described(self) -> str:
        """What must be seen, and of what where that is not a command's whole output."""
        return self.expected

    def holds(self, seen: str) -> bool:
        """Whether what was seen, already stripped, is as expected."""
        return _HOLDS[self._key](getattr(self, self._key), seen)

    def filled(self, fill: Callable[[str], str]) -> Self:
        """The same with its text changed, such as one in which placeholders are filled in."""
        value = getattr(self, self._key)
        return self.model_copy(update={self._key: fill(value)}) if isinstance(value, str) else self


class CommandCheck(Command, Expectation):
    """A command whose output proves that a level is really active."""

    when: Literal["before", "after", "both"] = "before"
    with_prefix: bool = False


class RunningCheck(Expectation):
    """Something that the processes of a running workload must show.

    ``program`` is the path of the program file of a process, ``architecture`` that for
    which this file was built, ``libraries`` the shared libraries that it has loaded, ``files``
    what it has open (devices among them), ``root`` the directory that it takes for "/".
    It is enough that one process of the workload meets the expectation; none of them may show
    what it ``lacks``.
    """

    running: Literal["program", "architecture", "libraries", "files", "root"]

    @property
    def described(self) -> str:
        """What must be seen, and of what."""
        return f"{self.running} of the running workload {self.expected}"


class ReportedCheck(Expectation):
    """Something that every run itself reports in its JSON output, at a JSON Pointer (RFC 6901)."""

    reported: Pointer

    @property
    def described(self) -> str:
        """What must be seen, and where."""
        return f"reported {self.reported} {self.expected}"


_KINDS = {"running": "a-running-check", "reported": "a-reported-check"}


def _kind_of_check(value: Any) -> str:
    # Values are models, instead of tables of the file, when the study is written out.
    given = vars(value) if isinstance(value, BaseModel) else value
    if not isinstance(given, dict):
        return "a-command-check"
    return next((kind for key, kind in _KINDS.items() if key in given), "a-command-check")


Check = Annotated[
    Annotated[CommandCheck, Tag("a-command-check")]
    | Annotated[RunningCheck, Tag("a-running-check")]
    | Annotated[ReportedCheck, Tag("a-reported-check")],
    Discriminator(_kind_of_check),
]
