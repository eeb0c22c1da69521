"""Commands of a study turned into invocations on a bench."""

from __future__ import annotations

from collections.abc import Mapping

from ferocal.bench.execution import Invocation, Place, Then
from ferocal.study.base import Command


def expand(text: str, place: Place) -> str:
    """Replace ``{python}`` and ``{study}``; other braces are left alone."""
    return text.replace("{python}", place.python).replace("{study}", str(place.directory))


def prepare(
    command: Command,
    place: Place,
    environment: Mapping[str, str],
    prefix: tuple[str, ...] = (),
    *,
    then: Then = "end",
) -> Invocation:
    """Make a command of the study ready to be run where the bench runs its commands.

    ``prefix`` is put before the words of the command; a command for the shell is then
    handed to ``sh -c`` behind the prefix. ``then`` is what becomes of what it leaves running.
    """
    words, shell = command.words, command.shell
    environment = {name: expand(value, place) for name, value in environment.items()}
    if prefix or place.through:
        words = (*prefix, *(("sh", "-c", words[0]) if shell else words))
        shell = False
    words = tuple(expand(word, place) for word in words)
    if place.through:
        # What is run there has no part of the environment of these words.
        private = place.private
        given = [f"{n}={v}" for n, v in environment.items() if private.text(v) == v]
        words = (*place.through, *(("env", *given) if given else ()), *words)
    return Invocation(
        words=words,
        directory=place.directory,
        shell=shell,
        environment=environment,
        timeout=command.timeout,
        then=then,
    )
