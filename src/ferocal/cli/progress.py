"""Progress of measuring: a bar on a terminal, plain lines elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import make_console
from ferocal.ledger.records import Slot
from ferocal.measure.progress import Observer

if TYPE_CHECKING:
    from rich.progress import Progress


class LineObserver:
    """One line per visit."""

    def planned(self, total: int, done: int) -> None:
        """Tell how much is there already."""
        self._total, self._done = total, done
        if 0 < done < total:
            click.echo(f"going on: {done} of {total} runs are there")

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """Tell that a visit begins."""
        click.echo(f"[{self._done}/{self._total}] round {round} of {rounds}: {configuration}")

    def running(self, workload: str, *, warmup: bool) -> None:
        """Say nothing: one line per visit is enough in a log."""

    def finished(self, slot: Slot, problem: str | None) -> None:
        """Count, and tell a problem when it comes up."""
        self._done += 1
        if problem is not None:
            click.echo(f"  {slot.workload}, run {slot.number}: {problem}")


class BarObserver:
    """A bar with what is running, the round, and the time left."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._task = progress.add_task("", total=None)
        self._visit = ""

    def planned(self, total: int, done: int) -> None:
        """Set the length of the bar."""
        self._progress.reset(self._task, total=total, completed=done)

    def visiting(self, round: int, rounds: int, configuration: str) -> None:
        """Show which visit this is."""
        self._visit = f"round {round} of {rounds}  {configuration}"

    def running(self, workload: str, *, warmup: bool) -> None:
        """Show what is running."""
        kind = " (warm-up)" if warmup else ""
        self._progress.update(self._task, description=f"{self._visit}  {workload}{kind}")

    def finished(self, slot: Slot, problem: str | None) -> None:
        """Move on by one run."""
        self._progress.advance(self._task)
        if problem is not None:
            self._progress.console.print(f"{slot.workload}, run {slot.number}: {problem}")


@contextmanager
def make_observer() -> Iterator[Observer]:
    """An observer that fits standard error: a bar on a terminal, lines on standard output."""
    if not sys.stderr.isatty():
        yield LineObserver()
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
        yield BarObserver(progress)
