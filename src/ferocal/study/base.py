"""What the tables of a study file have in common.

Keys of the file are in kebab case; every model is frozen and refuses unknown keys.
"""

from __future__ import annotations

import re
import shlex
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    model_validator,
)

from ferocal.errors import Problem
from ferocal.study.quantities import Seconds

# Letters and digits of any script.
_NAME = re.compile(r"[^\W_][\w.-]*")
# Configurations are called like the levels that they join, such as r64+vulkan.
_ARM = re.compile(r"[^\W_][\w.+-]*")


def _check_name(name: str) -> str:
    if not _NAME.fullmatch(name):
        raise ValueError(f'"{name}" is not a name: use letters, digits, ".", "_" and "-"')
    return name


def _check_arm(name: str) -> str:
    if not _ARM.fullmatch(name):
        raise ValueError(f'"{name}" is not a name: use letters, digits, ".", "_", "-" and "+"')
    return name


def split_words(text: str) -> tuple[str, ...]:
    """Split a command line into words, as a shell does."""
    try:
        return tuple(shlex.split(text))
    except ValueError:
        raise ValueError("cannot be split into words: a quote is not closed") from None


def _words(value: Any) -> Any:
    return split_words(value) if isinstance(value, str) else value


def _check_variable(name: str) -> str:
    if not name or "=" in name or "\0" in name:
        raise ValueError(f'"{name}" is not a variable name: it is empty or contains "="')
    return name


def _check_text(value: str) -> str:
    if "\0" in value:
        raise ValueError("the value of a variable cannot have a NUL character in it")
    return value


VariableName = Annotated[str, AfterValidator(_check_variable)]
Variables = dict[VariableName, Annotated[str, AfterValidator(_check_text)]]
Name = Annotated[str, AfterValidator(_check_name)]
ArmName = Annotated[str, AfterValidator(_check_arm)]
Words = Annotated[tuple[str, ...], BeforeValidator(_words)]


def _kebab(field: str) -> str:
    return field.replace("_", "-")


class CompositionError(ValueError):
    """Mistakes in how the parts of a study file go together."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = problems
        super().__init__("; ".join(map(str, problems)))


class StudyTable(BaseModel):
    """A table of the study file."""

    # Built when a file is read, all tables together: one by one would take twice as long.
    model_config = ConfigDict(extra="forbid", frozen=True, alias_generator=_kebab, defer_build=True)


# The codes of caveats that leave no verdict, unless they are accepted.
Barring = Literal["workload-differs", "resources-differ", "unit-doubtful", "weak-beginning"]


class Accepting(StudyTable):
    """Something of which differences are accepted that would leave a comparison without verdict."""

    accept: tuple[Barring, ...] = ()
    accept_because: str = ""

    @model_validator(mode="after")
    def _has_reason(self) -> Self:
        if bool(self.accept) != bool(self.accept_because.strip()):
            raise ValueError("accept (caveats) and accept-because (the reason) need each other")
        return self


# What is shorter would be found by chance where nothing private is.
LEAST_PRIVATE = 4


class Command(StudyTable):
    """Something to execute: words, or with ``shell = true`` one line for the shell.

    Parts of it that are ``private`` are masked wherever Ferocal keeps or shows them.
    """

    may_be_absent: ClassVar[bool] = False

    command: str | tuple[str, ...]
    shell: bool = False
    timeout: Seconds = 60.0
    private: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _has_private_parts(self) -> Command:
        for part in self.private:
            if len(part) < LEAST_PRIVATE:
                raise ValueError(
                    f"private has a text of fewer than {LEAST_PRIVATE} characters, which would "
                    "mask too much"
                )
            if not any(part in word for word in self.words):
                raise ValueError("private has a text that is not part of the command")
        return self

    @model_validator(mode="after")
    def _fits_shell(self) -> Command:
        if self.shell and not isinstance(self.command, str):
            raise ValueError("with shell = true the command is one string, not a list of words")
        if any("\0" in word for word in self.words):
            raise ValueError("a command cannot have a NUL character in it")
        if not self.words and not (self.may_be_absent and self.command == ()):
            raise ValueError("command is empty")
        return self

    @property
    def words(self) -> tuple[str, ...]:
        """The command as words; a single one when it is meant for the shell."""
        if isinstance(self.command, str):
            return (self.command,) if self.shell else split_words(self.command)
        return self.command
