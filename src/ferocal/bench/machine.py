"""A bench as it is driven: what runs commands there, and what tells of its facts and its state."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Protocol

from ferocal.bench.conditions import BusyMeter, ConditionReader
from ferocal.bench.execution import Completed, Executor, Invocation, Place
from ferocal.bench.facts import Fact, read_facts
from ferocal.bench.files import digest_of, matching, times_of
from ferocal.bench.limits import OddFileError, check_file
from ferocal.errors import FerocalError


class Machine(Executor, Protocol):
    """The machine of a bench, near or far."""

    @property
    def unreadable(self) -> list[str]:
        """Conditions that cannot be read there, in words."""

    @property
    def losses(self) -> int:
        """How often the connection was lost, and with it what was left running as a guest."""

    def restart(self) -> float:
        """Start the machine anew and wait until it is there again; how long that took (s)."""

    def link(self) -> dict[str, float]:
        """What is known of the connection: ``clock_offset`` and ``round_trip`` (s)."""

    def facts(self) -> list[Fact]:
        """The facts that can be read there without a command of the study."""

    def conditions(self) -> dict[str, Any]:
        """The conditions now; None for what cannot be read this once."""

    def meter(self) -> BusyMeter:
        """A meter of how busy others are there."""

    def digest(self, name: str) -> str:
        """The SHA-256 of a file there, or why it cannot be read."""

    def times_of(self, patterns: Iterable[str]) -> dict[str, int]:
        """The time now (ns) by its file system, for each pattern of files that are to appear."""

    def gather(self, pattern: str) -> list[Path]:
        """The files that a pattern names there, where they can be read on this machine."""


class ThisMachine:
    """The machine on which Ferocal runs, or one beside it that only commands of the study reach.

    Of the latter nothing is seen: unless ``seen``, no facts and conditions are read.
    """

    losses = 0

    def __init__(self, executor: Executor, *, seen: bool) -> None:
        self._executor, self._seen = executor, seen
        self._reader = ConditionReader()

    @property
    def place(self) -> Place:
        """Where the commands of the study are run."""
        return self._executor.place

    @property
    def unreadable(self) -> list[str]:
        """Conditions that cannot be read here, in words."""
        return self._reader.unreadable if self._seen else []

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end."""
        return self._executor.run(invocation)

    def end_guests(self) -> tuple[str, ...]:
        """End what was left running as guests; names of what could not be ended in time."""
        return self._executor.end_guests()

    def restart(self) -> float:
        """Ferocal runs on it itself; a study that asks for that is refused.

        Raises
        ------
        FerocalError
            In any case.
        """
        raise FerocalError("this machine cannot be started anew while it is measured")

    def link(self) -> dict[str, float]:
        """Nothing: there is no connection."""
        return {}

    def facts(self) -> list[Fact]:
        """The facts of this machine."""
        return read_facts() if self._seen else []

    def conditions(self) -> dict[str, Any]:
        """The conditions here."""
        return self._reader.read() if self._seen else {}

    def meter(self) -> BusyMeter:
        """A meter of how busy others are here."""
        return BusyMeter()

    def digest(self, name: str) -> str:
        """The SHA-256 of a file, or why it cannot be read."""
        path = Path(self.place.directory, name)
        try:
            check_file(path)
            return digest_of(path)
        except OSError as error:
            return f"not read: {error.strerror}"
        except OddFileError as error:
            return f"not read: {error}"

    def times_of(self, patterns: Iterable[str]) -> dict[str, int]:
        """The time now (ns) by the file system."""
        return times_of(Path(self.place.directory), patterns)

    def gather(self, pattern: str) -> list[Path]:
        """The files that a pattern names."""
        return matching(Path(self.place.directory), pattern)
