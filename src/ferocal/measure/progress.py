"""What measuring reports and asks while it runs; the command line decides how."""

from __future__ import annotations

from dataclasses import field
from enum import StrEnum
from pathlib import Path
from typing import Protocol

from ferocal.intake.typed import TypedMark, TypedReading
from ferocal.ledger.records import Slot
from ferocal.study.masking import Mask
from ferocal.study.metrics import Metric
from ferocal.terms.frozen import dataclass


class Decision(StrEnum):
    """What an operator decides at a hold point."""

    CONTINUE = "continue"
    SKIP = "skip"
    STOP = "stop"


@dataclass(frozen=True)
class Question:
    """A reading that an operator is asked for.

    ``number`` of ``runs`` counts the runs of the visit; ``fellows`` is what the readings of
    this configuration are near so far. Of a trace the ``file`` of the run is wanted. With
    ``may_go_back`` there is a reading before this one to which one can return.
    """

    configuration: str
    workload: str
    number: int
    runs: int
    instructions: str
    name: str
    metric: Metric
    fellows: float | None
    file: bool = False
    may_go_back: bool = False


@dataclass(frozen=True)
class Answer:
    """What an operator read, or why there is no reading; exactly one of the four is given."""

    reading: TypedReading | None = None
    mark: TypedMark | None = None
    file: Path | None = None
    back: bool = False


class Observer(Protocol):
    """Hears of what is being done, and asks the operator where one has to act."""

    def planned(self, total: int, done: int) -> None:
        """So many runs are planned, so many of them are there already."""

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """A visit begins."""

    def doing(self, step: str) -> None:
        """Something takes place that is not a run, such as a switch."""

    def running(self, workload: str, *, warmup: bool) -> None:
        """A run begins."""

    def finished(self, slot: Slot, problem: str | None) -> None:
        """A run, not a warm-up, has ended; ``problem`` says why it is not valid."""

    def remark(self, text: str) -> None:
        """Something that the user should know."""

    def hold(self, configuration: str, level: str, text: str, round: int) -> Decision | None:
        """An operator has to act, in a round; None when there is no operator to ask."""

    def ask(self, question: Question) -> Answer | None:
        """An operator has to read something; None when there is no operator to ask."""


class MaskedObserver:
    """An observer that hears of nothing that is private in the study."""

    def __init__(self, observer: Observer, mask: Mask) -> None:
        self._observer = observer
        self._mask = mask
        self.planned = observer.planned
        self.visiting = observer.visiting
        self.running = observer.running
        self.ask = observer.ask

    def doing(self, step: str) -> None:
        """Pass it on."""
        self._observer.doing(self._mask.text(step))

    def finished(self, slot: Slot, problem: str | None) -> None:
        """Pass it on."""
        self._observer.finished(slot, None if problem is None else self._mask.text(problem))

    def remark(self, text: str) -> None:
        """Pass it on."""
        self._observer.remark(self._mask.text(text))

    def hold(self, configuration: str, level: str, text: str, round: int) -> Decision | None:
        """Pass it on."""
        return self._observer.hold(configuration, level, self._mask.text(text), round)


@dataclass
class Summary:
    """What a call of `measure` did; ``retaken`` runs were set aside and taken again."""

    planned: int
    already: int
    taken: int = 0
    problems: list[tuple[Slot, str]] = field(default_factory=list)
    not_active: list[str] = field(default_factory=list)
    skipped: int = 0
    interrupted: bool = False
    stopped: bool = False
    resumed_after_crash: int = 0
    retaken: int = 0
    out_of_time: bool = False

    @property
    def remaining(self) -> int:
        """Runs of the plan that are still to be taken."""
        return self.planned - self.already - self.taken
