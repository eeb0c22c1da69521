"""What every reading command says of the readings and criteria behind its result."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from ferocal.documents.blocks import Line
from ferocal.documents.numbers import reading_text
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.answers.circumstances import MixedStatistic
    from ferocal.answers.criteria import CriteriaChange
    from ferocal.ledger.reading.corrections import CorrectedReading


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


def remark_lines(result: WithRemarks) -> list[Line]:
    """What is judged otherwise than it was asked, and how much of what was recorded does not count.

    Each comes with the command that looks closer, where one does.
    """
    lines = [Line(f"criteria changed: {change.text}") for change in result.criteria_changes]
    lines += [Line(change.text) for change in getattr(result, "study_changes", ())]
    corrected, mixed = getattr(result, "corrected", ()), getattr(result, "mixed", ())
    if corrected:
        text = f"{counted(len(corrected), 'reading')} {be(len(corrected))} corrected"
        lines.append(Line(text, command="ferocal compare --detail"))
    lines += [Line(mixed_text(found)) for found in mixed]
    if result.excluded:
        text = f"{counted(result.excluded, 'run')} {be(result.excluded)} excluded"
        lines.append(Line(text, command="ferocal runs --excluded"))
    if result.left_out:
        lines.append(Line(left_out_text(result.left_out)))
    return lines


def left_out_text(count: int) -> str:
    """How many readings the study file no longer knows."""
    what = "workload, metric, configuration or bench"
    return f"{counted(count, 'reading')} left out: study.toml no longer names their {what}"


def mixed_text(found: MixedStatistic) -> str:
    """Which configurations have the best of several values, and which something else."""
    parts = [f"{' and '.join(sorted(t))} with {name}" for name, t in found.configurations.items()]
    return f"{found.workload} {found.metric} mixes statistics: {', '.join(parts)}"


def corrected_lines(corrected: Sequence[CorrectedReading]) -> list[str]:
    """What each corrected reading was and is, with the reason."""
    return [
        f"corrected: {c.workload} {c.metric} with {c.configuration}, run {c.run}: "
        f"{reading_text(c.now)} {c.unit}, was {reading_text(c.before)} {c.unit} ({c.reason})"
        for c in corrected
    ]
