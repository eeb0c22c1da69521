"""What measuring tells while it goes on; the command line decides how to show it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

from ferocal.ledger.records import Slot


class Observer(Protocol):
    """Is told what is being done."""

    def planned(self, total: int, done: int) -> None:
        """So many runs are planned, so many of them are there already."""

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """A visit begins."""

    def running(self, workload: str, *, warmup: bool) -> None:
        """A run begins."""

    def finished(self, slot: Slot, problem: str | None) -> None:
        """A run, not a warm-up, has ended; ``problem`` says why it is not valid."""


@dataclass
class Summary:
    """What a call of `measure` did."""

    planned: int
    already: int
    taken: int = 0
    problems: list[tuple[Slot, str]] = field(default_factory=list)
    interrupted: bool = False
    resumed_after_crash: int = 0

    @property
    def remaining(self) -> int:
        """Runs of the plan that are still to be taken."""
        return self.planned - self.already - self.taken
