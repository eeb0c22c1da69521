"""A comparison as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.padding import Padding

from ferocal.analysis.caveats.kinds import WEIGHTS
from ferocal.analysis.inference.effects import (
    Effect,
    gate_failures,
    has_evidence,
    speed_factor,
    why_barred,
)
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.render.answer import answer_lines
from ferocal.render.caveats import group_caveats, make_remarks
from ferocal.render.console import Text, fold_with, plain_words, room, show_beside
from ferocal.render.counts import count_verdicts
from ferocal.render.gaps import gap_lines
from ferocal.render.grid import MOST_ROWS, Shape
from ferocal.render.next_steps import NextStep, next_steps
from ferocal.render.numbers import change_text, interval_name, interval_text, p_text, series_margin
from ferocal.render.overview import (
    Overview,
    shown_series,
)
from ferocal.render.remarks import corrected_lines, remark_lines
from ferocal.render.tables import group_by_series, plain_table, series_label
from ferocal.render.wording import VERDICT_STYLES, VERDICT_WORDS, evidence_text, verdict_text
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.comparison import Comparison

# At most so many lines of what to mind stand below an overview.
_MOST_LINES = 6
# What the answer or the remarks tell already.
_TOLD = ("trade-off", "criteria-changed")


def show_comparison(
    console: Console,
    comparison: Comparison,
    *,
    times: bool = False,
    only: Sequence[str] = (),
    detail: bool = False,
    steps: Sequence[NextStep] | None = None,
) -> None:
    """Print answer, overview, what to mind and what to do, one bench after the other.

    With ``detail`` every effect and every caveat is printed in full, with ``times`` there is a
    column of speed factors. ``only`` limits both to some verdicts, by their words. ``steps`` are
    proposed instead of those that follow from the comparison.
    """
    console.print(comparison.question, style="bold", end="\n\n")
    for bench in comparison.benches:
        part = comparison.on_bench(bench)
        if len(comparison.benches) > 1:
            console.print(f"bench {bench}", style="bold")
        _show_answer(console, part)
        console.print()
        if detail or times:
            _show_detail(console, part, only, times=times)
        else:
            _show_overview(console, part, only)
        if bench == comparison.benches[-1]:
            _show_steps(console, next_steps(part) if steps is None else steps)
        if bench != comparison.benches[-1]:
            console.print()


def _show_overview(console: Console, comparison: Comparison, only: Sequence[str]) -> None:
    shape = Shape(console.width, words=plain_words(console))
    series = shown_series(comparison, only)
    many = len(series) > MOST_ROWS and not only
    lines = count_verdicts(comparison, series, shape) if many else None
    for line in lines or Overview(comparison, series, shape).lines():
        console.print(line, soft_wrap=not many)
    if only and not series:
        console.print(f"nothing is {' or '.join(only)}")
    console.print()
    _show_remarks(console, comparison, series)


def _show_remarks(console: Console, comparison: Comparison, series: Sequence[Series]) -> None:
    """What to mind, as much of it as fits into a few lines."""
    shown = [e for e in comparison.effects if e.series in set(series) and not e.control]
    remarks = [r for r in make_remarks(shown, comparison.levels) if r.code not in _TOLD]
    grave = [(r.text, r.look) for r in remarks if r.weight == WEIGHTS[0]]
    others = [(r.text, r.look) for r in remarks if r.weight != WEIGHTS[0]]
    sentences = [*grave, *remark_lines(comparison), *others]
    lines: list[str] = []
    for number, sentence in enumerate(sentences):
        further = fold_with(*sentence, room(console))
        if lines and len(lines) + len(further) > _MOST_LINES:
            lines.append(f"{len(sentences) - number} more: ferocal compare --detail")
            break
        lines += further
    show_beside(console, "mind", lines)


def _show_steps(console: Console, steps: Sequence[NextStep]) -> None:
    lines = [line for s in steps for line in fold_with(s.text, s.command, room(console))]
    show_beside(console, "next", lines)


def _show_answer(console: Console, comparison: Comparison) -> None:
    """The answer; what does not fit a line goes below its text, not below its head."""
    lines = answer_lines(comparison, console.width)
    margin = max(len(head) for head, _ in lines) + 2
    names = [s.label for s in comparison.series if s.label and " " in s.label]
    for head, text in lines:
        show_beside(console, head, [text], margin=margin if head else 0, together=names)


def _show_detail(
    console: Console, comparison: Comparison, only: Sequence[str], *, times: bool
) -> None:
    """Every effect with its interval, p-values and evidence, and every caveat with its advice."""
    effects = [e for e in comparison.effects if not only or VERDICT_WORDS[e.verdict] in only]
    console.print(effects_table(effects, comparison.confidence, console.width, times=times))
    for line in gap_lines(comparison.gaps, comparison.baseline):
        console.print(line)
    for group in group_caveats(effects, comparison.levels):
        console.print(Text.assemble((group.code, "bold"), f" ({group.weight}): {group.advice}"))
        for where, seen in group.seen:
            console.print(Padding(f"{where}: {seen}", (0, 0, 0, 2), expand=False))
    for text, command in remark_lines(comparison):
        console.print(f"{text}: {command}")
    for line in corrected_lines(comparison.corrected):
        console.print(line)
    console.print()


def effects_table(
    effects: Sequence[Effect], confidence: float, width: int = 100, *, times: bool = False
) -> RenderableType:
    """One row per effect, below a heading for each series; the first has the column names.

    With ``times`` there is a column of speed factors. A last column that does not fit into the
    width goes onto lines of its own.
    """
    if not effects:
        return Text("no effects to show\n")
    interval = interval_name(confidence)
    columns = ["configuration", "change", interval, "p", "adjusted"]
    columns += ["times as fast"] if times else []
    groups = [(group, [_effect_row(e, times) for e in group]) for group in group_by_series(effects)]
    everything = [columns, *(row[:-1] for _, rows in groups for row in rows)]
    widths = [max(map(len, column)) for column in zip(*everything, strict=True)]
    parts: list[RenderableType] = []
    section = ""
    for number, (group, rows) in enumerate(groups):
        if group[0].series.group != section:
            section = group[0].series.group
            parts.append(Text(f"— {section} —" if section else "", "bold"))
        table = plain_table(*columns, "verdict", right=columns[1:])
        table.box, table.show_header = None, number == 0
        for column, least in zip(table.columns, widths, strict=False):
            column.min_width, column.no_wrap = least, True
        for effect, row in zip(group, rows, strict=True):
            table.add_row(*row[:-1], Text(row[-1], VERDICT_STYLES[effect.verdict]))
        parts += [_series_heading(group), Padding(table, (0, 0, 1, 1), expand=False)]
    return Group(*parts)


def _series_heading(effects: Sequence[Effect]) -> Text:
    """The metric, what it is for, and what its effects rest on where that is the same."""
    series = effects[0].series
    rest = "; ".join(dict.fromkeys(evidence_text(e) for e in effects))
    judged = "" if series.role == "context" else f", {series.role}, margin {series_margin(series)}"
    return Text.assemble((series.workload, "bold"), f"  {series_label(series)}{judged}; {rest}")


def _effect_row(effect: Effect, times: bool) -> list[str]:
    row = [
        effect.configuration,
        change_text(effect),
        interval_text(effect),
        p_text(effect.shift.p_value),
        p_text(effect.p_adjusted),
    ]
    return [*row, *([significant(speed_factor(effect), 3)] if times else []), verdict_text(effect)]


def gate_lines(comparison: Comparison, gate: str) -> list[str]:
    """A line for everything that breaks a gate; none where it is passed."""
    several = len(comparison.benches) > 1
    failures = [
        f"gate {gate}: the control arm on {e.series.title} is {e.verdict}{_on(e, several)}, so "
        "the bench does not agree with itself"
        for e in comparison.alarm
    ]
    failures += [
        f"gate {gate}: {e.configuration} on {e.series.title} is {e.verdict}{_on(e, several)}"
        + _why_broken(e)
        for e in gate_failures(comparison.effects, gate=gate)
    ]
    failures += [
        f"gate {gate}: nothing of {name} can be compared" + (f" on {bench}" if several else "")
        for bench, name in comparison.unmeasured
    ]
    if not comparison.effects and not comparison.unmeasured:
        failures.append(f"gate {gate}: nothing was measured that could be compared")
    return failures


def _why_broken(effect: Effect) -> str:
    if effect.verdict is Verdict.NOT_COMPARABLE:
        return f", for {why_barred(effect)}"
    return "" if has_evidence(effect) else ", without an interval"


def _on(effect: Effect, several: bool) -> str:
    return f", on the bench {effect.bench}" if several else ""
