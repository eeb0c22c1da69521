"""A comparison as a document: answer, overview, caveats, and what to do next."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ferocal.analysis.caveats.kinds import WEIGHTS
from ferocal.analysis.caveats.table import CAVEATS
from ferocal.analysis.data.gaps import Gap, GapMark
from ferocal.analysis.inference.effects import (
    Effect,
    barring_caveat,
    gate_failures,
    has_evidence,
    speed_factor,
)
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.answer import answer_lines
from ferocal.documents.blocks import (
    Block,
    Caveats,
    Column,
    Document,
    GridCell,
    Heading,
    Items,
    Line,
    Lines,
    Table,
    sentences,
)
from ferocal.documents.blocks import next_steps as next_block
from ferocal.documents.caveats.remarks import Remark, group_caveats, make_remarks
from ferocal.documents.caveats.words import seen_text
from ferocal.documents.grids import place_of
from ferocal.documents.next_steps import NextStep, next_steps
from ferocal.documents.numbers import (
    change_text,
    interval_name,
    interval_text,
    p_text,
    series_margin,
)
from ferocal.documents.overview import is_asked, overview_blocks, shown_series
from ferocal.documents.remarks import corrected_lines, remark_lines
from ferocal.documents.tables import group_by_series, series_label
from ferocal.documents.wording import evidence_text, verdict_text
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.compare import Comparison

# At most so many lines of caveats stand below an overview.
_MOST_LINES = 6
# At most so many lines of gaps, and so many series in each.
_MOST_GAPS = 6
_MOST_SERIES = 4
# What the answer or the remarks tell already.
_TOLD = ("trade-off", "criteria-changed")


def comparison_document(
    comparison: Comparison,
    *,
    as_factor: bool = False,
    only: Sequence[str] = (),
    detail: bool = False,
    steps: Sequence[NextStep] | None = None,
    beneath: Callable[[str], Iterable[Block]] = lambda _: (),
) -> Document:
    """Answer, overview, caveats and what to do, one bench after the other.

    With ``detail`` every effect and every caveat is there in full, with ``as_factor`` cells say how
    many times as fast a configuration is. ``only`` limits both to some verdicts, by name or mark.
    ``steps`` are proposed instead of those that follow from the comparison. ``beneath`` gives for a
    bench what stands beneath its overview.
    """
    blocks: list[Block] = []
    for bench in comparison.benches:
        part = comparison.on_bench(bench)
        if len(comparison.benches) > 1:
            blocks.append(Heading(f"bench {bench}"))
        blocks.append(Lines(tuple(answer_lines(part)), "answer"))
        if detail:
            blocks += detail_blocks(part, only, as_factor=as_factor)
        else:
            blocks += _overview(part, beneath(bench), only, as_factor=as_factor)
        if bench == comparison.benches[-1]:
            blocks.append(next_block(*(next_steps(part) if steps is None else steps)))
    return Document(comparison.question, tuple(blocks))


def _overview(
    comparison: Comparison, beneath: Iterable[Block], only: Sequence[str], *, as_factor: bool
) -> Iterator[Block]:
    series = shown_series(comparison, only)
    yield from overview_blocks(comparison, series, only=only, as_factor=as_factor)
    if only and not series:
        yield sentences([f"no metric is {' or '.join(only)}"])
    yield from beneath
    yield from caveat_blocks(comparison, series)


def caveat_blocks(comparison: Comparison, series: Sequence[Series]) -> Iterator[Caveats]:
    """The caveats of what is shown, the gravest first; nothing where there are none."""
    wanted = set(series)
    shown = [e for e in comparison.effects if e.series in wanted and not e.control]
    remarks = [r for r in make_remarks(shown, comparison.levels) if r.code not in _TOLD]
    first = [r for r in remarks if r.weight == WEIGHTS[0] or CAVEATS[r.code].leads]
    grave = [_caveat(r) for r in first]
    others = [_caveat(r) for r in remarks if r not in first]
    lines = (*grave, *remark_lines(comparison), *others)
    if lines:
        yield Caveats(lines, _MOST_LINES, "ferocal compare --detail")


def _caveat(remark: Remark) -> Line:
    places = frozenset(place_of(effect) for effect in remark.effects)
    return Line(remark.text, command=remark.look, places=places)


def detail_blocks(
    comparison: Comparison, only: Sequence[str] = (), *, as_factor: bool = False
) -> Iterator[Block]:
    """Every effect with its interval, p-values and evidence, and every caveat with its advice."""
    effects = [e for e in comparison.effects if not only or is_asked(e.verdict, only)]
    yield effects_table(effects, comparison.confidence, comparison.baseline, as_factor=as_factor)
    if gaps := gap_lines(comparison.gaps, comparison.baseline):
        yield sentences(gaps)
    yield from caveat_items(comparison, effects)
    lines = [*remark_lines(comparison), *map(Line, corrected_lines(comparison.corrected))]
    if lines:
        yield Lines(tuple(lines))


def caveat_items(comparison: Comparison, effects: Sequence[Effect]) -> Iterator[Items]:
    """Every caveat with what was seen where, and what to do about it."""
    groups = [
        (
            Line(f"({group.weight}) {group.advice}", group.code),
            tuple(Line(f"{where}: {seen}") for where, seen in group.seen),
        )
        for group in group_caveats(effects, comparison.levels)
    ]
    if groups:
        yield Items(tuple(groups), "caveats")


def effects_table(
    effects: Sequence[Effect], confidence: float, baseline: str, *, as_factor: bool = False
) -> Table | Lines:
    """One row per effect, below a heading for each series, which names any other reference."""
    if not effects:
        return sentences(["no effects to show"])
    numbers = ["change", interval_name(confidence), "p", "adjusted"]
    numbers += ["times as fast"] if as_factor else []
    columns = ("configuration", *numbers, "verdict")
    groups: list[tuple[Line | None, tuple[tuple[GridCell, ...], ...]]] = []
    section = ""
    for group in group_by_series(effects):
        if group[0].series.group != section:
            section = group[0].series.group
            groups.append((Line("", f"— {section} —"), ()))
        groups.append(
            (_series_heading(group, baseline), tuple(_effect_row(e, as_factor) for e in group))
        )
    return Table(tuple(Column(c, c in numbers) for c in columns), tuple(groups))


def _series_heading(effects: Sequence[Effect], baseline: str) -> Line:
    """The metric, what it is for, and what its effects rest on where that is the same."""
    series = effects[0].series
    rest = "; ".join(dict.fromkeys(evidence_text(e) for e in effects))
    if effects[0].baseline != baseline:
        rest = f"against {effects[0].baseline}; {rest}"
    judged = "" if series.role == "context" else f", {series.role}, margin {series_margin(series)}"
    return Line(f"{series_label(series)}{judged}; {rest}", series.workload)


def _effect_row(effect: Effect, as_factor: bool) -> tuple[GridCell, ...]:
    texts = [
        effect.configuration,
        change_text(effect),
        interval_text(effect),
        p_text(effect.shift.p_value),
        p_text(effect.p_adjusted),
    ]
    texts += [significant(speed_factor(effect), 3)] if as_factor else []
    name, change, *others = map(GridCell, texts)
    told = GridCell(verdict_text(effect), verdict=effect.verdict, method=effect.method)
    return (name, replace(change, place=place_of(effect)), *others, told)


def gate_lines(comparison: Comparison, gate: str) -> list[str]:
    """A line for everything that breaks a gate; none where it is passed."""
    several = len(comparison.benches) > 1
    failures = [
        f"gate {gate}: the control arm is {e.verdict} on {e.series.title}{_on(e, several)}, so "
        "the bench does not agree with itself"
        for e in comparison.alarm
    ]
    failures += [
        f"gate {gate}: {e.configuration} is {e.verdict} on {e.series.title}{_on(e, several)}"
        + _why_broken(e)
        for e in gate_failures(comparison.effects, gate=gate)
    ]
    failures += [
        f"gate {gate}: no metric of {name} can be compared" + (f" on {bench}" if several else "")
        for bench, name in comparison.unmeasured
    ]
    if not comparison.effects and not comparison.unmeasured:
        failures.append(f"gate {gate}: nothing to compare was measured")
    return failures


def _why_broken(effect: Effect) -> str:
    if effect.verdict is Verdict.NOT_COMPARABLE:
        return f" ({seen_text(barring_caveat(effect))})"
    return "" if has_evidence(effect) else ", without an interval"


def _on(effect: Effect, several: bool) -> str:
    return f" on bench {effect.bench}" if several else ""


def gap_lines(gaps: Sequence[Gap], baseline: str) -> list[str]:
    """What could not be compared and why, those of one reason together."""
    groups: dict[tuple[str, GapMark, str], list[Gap]] = {}
    for gap in gaps:
        groups.setdefault((gap.configuration, gap.mark, gap.reason), []).append(gap)
    lines = []
    for (name, mark, reason), members in groups.items():
        metrics = [f"{gap.workload} {gap.metric}" for gap in members]
        if len(metrics) > _MOST_SERIES:
            metrics = [*metrics[:_MOST_SERIES], f"{len(metrics) - _MOST_SERIES} more"]
        why = f"{mark}, {reason}" if reason else str(mark)
        if name == baseline:
            lines.append(f"no effects on {listed(metrics)}: no reading with {name}, {why}")
        else:
            lines.append(f"no effect of {name} on {listed(metrics)}: {why}")
    if len(lines) > _MOST_GAPS:
        more = counted(len(lines) - _MOST_GAPS, "more gap")
        return [*lines[:_MOST_GAPS], f"{more}, which --json lists"]
    return lines
