"""What every reading command says of the readings and criteria behind its result."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from rich.console import Console

from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.answers.criteria import CriteriaChange


class WithRemarks(Protocol):
    """A result that knows what was left out of it."""

    @property
    def criteria_changes(self) -> Sequence[CriteriaChange]:
        """What is judged otherwise than when measuring began."""

    @property
    def excluded(self) -> int:
        """Runs that are marked as not to be used."""

    @property
    def left_out(self) -> int:
        """Readings that the study file no longer knows."""


def remark_lines(result: WithRemarks) -> list[tuple[str, str]]:
    """What is judged otherwise than it was asked, and how much of what was recorded does not count.

    Each comes with the command that looks closer.
    """
    lines = [
        (f"criteria changed: {change.text}", "ferocal inspect")
        for change in result.criteria_changes
    ]
    if result.excluded:
        text = f"{counted(result.excluded, 'run')} {be(result.excluded)} excluded"
        lines.append((text, "ferocal runs --excluded"))
    if result.left_out:
        text = f"{counted(result.left_out, 'reading')} of workloads, metrics, configurations or "
        text += f"benches that the study file no longer names {be(result.left_out)} left out"
        lines.append((text, "ferocal runs"))
    return lines


def show_criteria_changes(console: Console, changes: Sequence[CriteriaChange]) -> None:
    """Say what is judged otherwise than when measuring began."""
    for change in changes:
        console.print(f"criteria changed: {change.text}")
