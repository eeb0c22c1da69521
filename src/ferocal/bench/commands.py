"""Commands of a study turned into invocations on this machine."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

from ferocal.bench.execution import Invocation, Then
from ferocal.study.base import Command


def expand(text: str, directory: Path) -> str:
    """Replace ``{python}`` and ``{study}``; other braces are left alone."""
    return text.replace("{python}", sys.executable).replace("{study}", str(directory))


def prepare(
    command: Command,
    directory: Path,
    environment: Mapping[str, str],
    prefix: tuple[str, ...] = (),
    *,
    then: Then = "end",
) -> Invocation:
    """Make a command of the study ready to be run in the study's directory.

    ``prefix`` is put before the words of the command; a command for the shell is then
    handed to ``sh -c`` behind the prefix. ``then`` is what becomes of what it leaves running.
    """
    directory = directory.resolve()
    words, shell = command.words, command.shell
    if prefix:
        words = (*prefix, *(("sh", "-c", words[0]) if shell else words))
        shell = False
    return Invocation(
        words=tuple(expand(word, directory) for word in words),
        directory=directory,
        shell=shell,
        environment={name: expand(value, directory) for name, value in environment.items()},
        timeout=command.timeout,
        then=then,
    )
