"""Progress of measuring: a bar on a terminal, plain lines elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import make_console, say
from ferocal.cli.operator import ask_reading
from ferocal.ledger.records import Slot
from ferocal.measure.progress import Answer, Decision, Observer, Question

if TYPE_CHECKING:
    from rich.progress import Progress


Asker = Callable[[Question], "Answer | None"]


class LineObserver:
    """One line per visit."""

    def __init__(self, asker: Asker) -> None:
        self._asker = asker

    def planned(self, total: int, done: int) -> None:
        """Say how much already exists."""
        self._total, self._done = total, done
        if 0 < done < total:
            say(f"resuming: {done} of {total} runs done")

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """Say that a visit begins."""
        say(f"[{self._done}/{self._total}] round {round} of {rounds}: {configuration}")

    def doing(self, step: str) -> None:
        """Say nothing: one line per visit is enough in a log."""

    def running(self, workload: str, *, warmup: bool) -> None:
        """Say nothing: one line per visit is enough in a log."""

    def finished(self, slot: Slot, problem: str | None) -> None:
        """Count, and report a problem when it comes up."""
        self._done += 1
        if problem is not None:
            say(f"  {slot.workload}, run {slot.number}: {problem}")

    def remark(self, text: str) -> None:
        """Print it."""
        say(f"  {text}")

    def hold(self, configuration: str, level: str, text: str, round: int) -> Decision | None:
        """Ask the operator, if standard input is a terminal."""
        return ask_operator(configuration, level, text, round)

    def ask(self, question: Question) -> Answer | None:
        """Ask for a reading, if standard input is a terminal."""
        return self._asker(question)


class BarObserver:
    """A bar with what is running, the round, and the time left."""

    def __init__(self, progress: Progress, asker: Asker) -> None:
        self._progress = progress
        self._asker = asker
        self._task = progress.add_task("", total=None)
        self._visit = ""

    def planned(self, total: int, done: int) -> None:
        """Set the length of the bar."""
        self._progress.reset(self._task, total=total, completed=done)

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """Show which visit this is."""
        self._visit = f"round {round} of {rounds}  {configuration}"
        self.doing("")

    def doing(self, step: str) -> None:
        """Show what is done."""
        self._progress.update(self._task, description=f"{self._visit}  {step}")

    def running(self, workload: str, *, warmup: bool) -> None:
        """Show what is running."""
        self.doing(f"{workload}{' (warm-up)' if warmup else ''}")

    def finished(self, slot: Slot, problem: str | None) -> None:
        """Move on by one run."""
        self._progress.advance(self._task)
        if problem is not None:
            self.remark(f"{slot.workload}, run {slot.number}: {problem}")

    def remark(self, text: str) -> None:
        """Print it above the bar."""
        self._progress.console.print(text)

    def hold(self, configuration: str, level: str, text: str, round: int) -> Decision | None:
        """Ask the operator, with the bar out of the way."""
        self._progress.stop()
        decision = ask_operator(configuration, level, text, round)
        self._progress.start()
        return decision

    def ask(self, question: Question) -> Answer | None:
        """Ask for a reading, with the bar out of the way."""
        self._progress.stop()
        answer = self._asker(question)
        self._progress.start()
        return answer


def ask_operator(configuration: str, level: str, text: str, round: int) -> Decision | None:
    """Say what to do and wait for an answer; None without a terminal to ask on."""
    if not sys.stdin.isatty():
        return None
    say(f"\nround {round}: for {configuration}, {level} is needed now:\n  {text}")
    choices = click.Choice([decision.value for decision in Decision])
    try:
        return Decision(click.prompt("when it is done", type=choices, default="continue"))
    except click.Abort:
        # Ctrl-C at the question ends measuring as it does anywhere else.
        raise KeyboardInterrupt from None


@contextmanager
def make_observer(asker: Asker = ask_reading) -> Iterator[Observer]:
    """An observer that fits standard error: a bar on a terminal, lines on standard output.

    ``asker`` gets readings from an operator.
    """
    if not sys.stderr.isatty():
        yield LineObserver(asker)
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
    from rich.progress import TimeRemainingColumn as Remaining

    columns = (
        TextColumn("{task.description}", markup=False),
        BarColumn(bar_width=24, complete_style="blue", finished_style="blue"),
        MofNCompleteColumn(),
        TextColumn("left"),
        Remaining(),
    )
    with Progress(*columns, console=make_console(stderr=True), transient=True) as progress:
        yield BarObserver(progress, asker)
