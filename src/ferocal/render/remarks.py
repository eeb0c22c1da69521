"""What every reading command says of the readings and criteria behind its result."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from rich.console import Console

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


def show_remarks(console: Console, result: WithRemarks) -> None:
    """Say how much of what was recorded does not count, and which criteria have changed."""
    if result.excluded:
        console.print(f"excluded runs: {result.excluded}; `ferocal runs --excluded` lists them")
    if result.left_out:
        console.print(
            f"{result.left_out} readings of workloads, metrics, configurations or benches that "
            "the study file no longer names are left out"
        )
    show_criteria_changes(console, result.criteria_changes)


def show_criteria_changes(console: Console, changes: Sequence[CriteriaChange]) -> None:
    """Say what is judged otherwise than when measuring began."""
    for change in changes:
        console.print(f"criteria changed: {change.text}")
