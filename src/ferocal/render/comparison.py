"""A comparison as text and as a JSON object."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.inference.effects import (
    Effect,
    gate_failures,
    has_evidence,
    speed_factor,
)
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.render.answer import (
    answer,
    caveat_lines,
    evidence_text,
    label,
    next_step,
    verdict_text,
)
from ferocal.render.gaps import gap_lines, gap_objects
from ferocal.render.numbers import change_text, interval_name, interval_text, margin_text
from ferocal.render.remarks import show_remarks
from ferocal.render.tables import group_by_series, plain_table, series_label
from ferocal.terms.numbers import significant

if TYPE_CHECKING:
    from ferocal.answers.comparison import Comparison

VERDICT_STYLES = {
    "better": "bold blue",
    "worse": "bold dark_orange",
    "equivalent": "",
    "inconclusive": "italic",
    "seen once": "italic",
    "not judged": "",
}


def show_comparison(console: Console, comparison: Comparison, *, times: bool = False) -> None:
    """Print answer, table and caveats, one bench after the other."""
    console.print(comparison.question, style="bold")
    benches = comparison.benches
    for bench in benches:
        if len(benches) > 1:
            console.print(f"\nbench {bench}", style="bold")
        effects = comparison.on_bench(bench).effects
        console.print(answer(effects, comparison.on_bench(bench).alarm) + "\n")
        console.print(effects_table(effects, comparison.confidence, times=times))
        console.print(f"against {comparison.baseline}, margin {margin_text(comparison.margin)}")
        for line in gap_lines(comparison.on_bench(bench).gaps, comparison.baseline):
            console.print(line)
        if bench == benches[-1]:
            show_remarks(console, comparison)
        for line in caveat_lines(effects):
            indent = len(line) - len(line.lstrip())
            console.print(Padding(line.lstrip(), (0, 0, 0, indent), expand=False))
    console.print(f"next: {next_step(comparison.effects)}")


def effects_table(
    effects: Sequence[Effect], confidence: float, *, times: bool = False
) -> RenderableType:
    """One row per effect, below a heading for each series; the first has the column names.

    With ``times`` there is a column of speed factors.
    """
    if not effects:
        return Text("no effects to show\n")
    interval = interval_name(confidence)
    columns = ["configuration", "change", interval, "verdict", "evidence"]
    columns += ["times as fast"] if times else []
    groups = [
        (group[0].series, [_effect_row(e, times) for e in group])
        for group in group_by_series(effects)
    ]
    everything = [[Text(name) for name in columns], *(row for _, rows in groups for row in rows)]
    widths = [max(cell.cell_len for cell in column) for column in zip(*everything, strict=True)]
    parts: list[RenderableType] = []
    for number, (series, rows) in enumerate(groups):
        table = plain_table(*columns, right=("change", interval, "times as fast"))
        table.box, table.show_header = None, number == 0
        for column, width in zip(table.columns, widths, strict=True):
            column.min_width = width
        for row in rows:
            table.add_row(*row)
        heading = Text.assemble((series.workload, "bold"), f"  {series_label(series)}")
        parts += [heading, Padding(table, (0, 0, 1, 1), expand=False)]
    return Group(*parts)


def _effect_row(effect: Effect, times: bool) -> list[Text]:
    row = [
        Text(effect.configuration),
        Text(change_text(effect)),
        Text(interval_text(effect)),
        Text(verdict_text(effect), style=VERDICT_STYLES[effect.verdict]),
        Text(evidence_text(effect)),
    ]
    return [*row, Text(significant(speed_factor(effect), 3))] if times else row


def comparison_object(comparison: Comparison) -> dict[str, Any]:
    """The object that `ferocal compare --json` prints."""
    benches = comparison.benches
    parts = {bench: comparison.on_bench(bench) for bench in benches}
    answers = {bench: answer(part.effects, part.alarm) for bench, part in parts.items()}
    return {
        "question": comparison.question,
        "answer": answers[benches[0]] if len(benches) == 1 else answers,
        "baseline": comparison.baseline,
        "confidence": comparison.confidence,
        "margin": comparison.margin,
        "excluded": comparison.excluded,
        "left_out": comparison.left_out,
        "criteria_changed": [change.text for change in comparison.criteria_changes],
        "effects": [effect_object(effect) for effect in comparison.effects],
        "gaps": gap_objects(comparison.gaps),
    }


def effect_object(effect: Effect) -> dict[str, Any]:
    """One effect with the keys that `ferocal compare --json` documents."""
    return {
        "bench": effect.bench,
        "workload": effect.series.workload,
        "metric": effect.series.metric,
        "unit": effect.series.unit,
        "better": effect.series.better,
        "primary": effect.series.primary,
        "baseline": effect.baseline,
        "configuration": effect.configuration,
        "scale": effect.scale,
        "change": effect.change,
        "low": effect.low,
        "high": effect.high,
        "margin": effect.series.margin if effect.scale == "ratio" else effect.series.unit_margin,
        "method": effect.method.value,
        "degrees": effect.shift.degrees,
        "p": effect.shift.p_value,
        "p_adjusted": effect.p_adjusted,
        "verdict": effect.verdict.value,
        "beyond_margin": effect.beyond_margin,
        "rounds": effect.rounds,
        "visits": effect.visits,
        "base_visits": effect.base_visits,
        "runs": effect.runs,
        "base_runs": effect.base_runs,
        "more_rounds": effect.more_rounds,
        "more_rounds_reason": _why_no_number(effect),
        "more_visits": effect.more_visits,
        "open_until": effect.open_until,
        "bound": effect.bound,
        "noise_floor": None
        if effect.noise_floor is None
        else {"age": effect.noise_floor.age, "source": effect.noise_floor.source},
        "control": effect.control,
        "caveats": [caveat_object(caveat) for caveat in effect.caveats],
    }


def _why_no_number(effect: Effect) -> str | None:
    """Why an effect has no number of further rounds, None if it has one."""
    if effect.more_rounds is not None:
        return None
    if effect.out_of_reach:
        return f"more than {MOST_ROUNDS} rounds would be needed"
    if effect.verdict in ("seen once", "not judged"):
        return str(effect.verdict)
    if effect.verdict != "inconclusive":
        return "decided"
    if effect.more_visits is not None:
        return "there are no rounds to add to; more_visits says what would do"
    return "no more can be measured, or how much rounds vary is not known"


def caveat_object(caveat: Caveat) -> dict[str, str]:
    """A caveat: its code, the whole sentence, and its two parts."""
    return {
        "code": caveat.code,
        "text": caveat.text,
        "seen": caveat.seen,
        "advice": caveat.advice,
    }


def gate_lines(comparison: Comparison, gate: str) -> list[str]:
    """A line for everything that breaks a gate; none where it is passed."""
    several = len(comparison.benches) > 1
    failures = [
        f"gate {gate}: the control arm on {label(e)} is {e.verdict}{_on(e, several)}, so the bench "
        "does not agree with itself"
        for e in comparison.alarm
    ]
    failures += [
        f"gate {gate}: {e.configuration} on {label(e)} is {e.verdict}{_on(e, several)}"
        + ("" if has_evidence(e) else ", without an interval")
        for e in gate_failures(comparison.effects, gate=gate)
    ]
    failures += [
        f"gate {gate}: nothing of {name} can be compared" + (f" on {bench}" if several else "")
        for bench, name in comparison.unmeasured
    ]
    if not comparison.effects and not comparison.unmeasured:
        failures.append(f"gate {gate}: nothing was measured that could be compared")
    return failures


def _on(effect: Effect, several: bool) -> str:
    return f", on the bench {effect.bench}" if several else ""
