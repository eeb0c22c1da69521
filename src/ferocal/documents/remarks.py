"""What every reading command says of the readings and criteria behind its result."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.caveats.kinds import WEIGHTS
from ferocal.analysis.inference.contrasts import Method
from ferocal.documents.blocks import Line
from ferocal.documents.caveats.remarks import make_remarks
from ferocal.documents.changes import criteria_text, study_text
from ferocal.documents.grids import place_of
from ferocal.documents.numbers import reading_text
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.answers.answer import Answer, Doubts
    from ferocal.answers.circumstances import MixedStatistic
    from ferocal.ledger.reading.corrections import CorrectedReading


# At most so many doubts stand below an answer that is no comparison; criteria are told anyway.
_MOST_DOUBTS = 3
_TOLD = ("criteria-changed", "trade-off")


def doubt_lines(doubts: Doubts | None, told: Collection[str] = ()) -> list[Line]:
    """The gravest caveats of the comparisons behind an answer, and where the others are."""
    if doubts is None:
        return []
    remarks = [
        r
        for r in make_remarks(doubts.effects, doubts.levels)
        if r.weight != WEIGHTS[-1] and r.code not in {*_TOLD, *told}
    ]
    lines = [
        Line(r.text, command=r.look, places=frozenset(map(place_of, r.effects)))
        for r in remarks[:_MOST_DOUBTS]
    ]
    if (more := len(remarks) - _MOST_DOUBTS) > 0:
        rest = frozenset(place_of(e) for r in remarks[_MOST_DOUBTS:] for e in r.effects)
        text = counted(more, "more caveat")
        lines.append(Line(text, command="ferocal compare --detail", places=rest))
    if any(e.method is Method.STATED for e in doubts.effects):
        lines.append(Line("where visits were not repeated, intervals assume a stated noise"))
    return lines


def remark_lines(
    answer: Answer, mixed: Sequence[MixedStatistic] = (), told: Collection[str] = ()
) -> list[Line]:
    """What is judged otherwise than it was asked, and how much of what was recorded does not count.

    Each comes with the command that looks closer, where one does. ``mixed`` are metrics whose
    readings are not all the same statistic; caveats of kinds that are ``told`` are left out.
    """
    changes = map(criteria_text, answer.criteria_changes)
    lines = doubt_lines(answer.doubts, told)
    lines += [Line(f"criteria changed: {change}") for change in changes]
    lines += [Line(study_text(change)) for change in answer.study_changes]
    if corrected := len(answer.corrected):
        text = f"{counted(corrected, 'reading')} {be(corrected)} corrected"
        lines.append(Line(text, command="ferocal compare --detail"))
    lines += [Line(_mixed_text(found)) for found in mixed]
    if answer.excluded:
        text = f"{counted(answer.excluded, 'run')} {be(answer.excluded)} excluded"
        lines.append(Line(text, command="ferocal runs --excluded"))
    if answer.left_out:
        what = "workload, metric, configuration or bench"
        text = f"{counted(answer.left_out, 'reading')} left out: study.toml no longer names "
        lines.append(Line(f"{text}their {what}"))
    return lines


def _mixed_text(found: MixedStatistic) -> str:
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
