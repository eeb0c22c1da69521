"""Changes in one place against the same in another, as sentences and a table."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.between import speeds
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.documents.blocks import (
    MOST_ROWS,
    Document,
    GridCell,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.numbers import (
    PlainChange,
    change_and_half,
    change_text,
    percent,
    series_margin,
)
from ferocal.terms.numbers import significant
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.analysis.inference.between import Difference
    from ferocal.answers.between import BetweenAnswer, SizeCrossing

_MOST_SENTENCES = 4
_MOST_MINDS = 4
# Where changes may differ, and the word before a place, by what is compared.
_WHERE = {
    "workload": "between workloads",
    "size": "between sizes",
    "bench": "between benches",
    "study": "between the studies",
}
_PLACES = {"workload": "on", "size": "at", "bench": "on", "study": "in"}


def between_document(answer: BetweenAnswer) -> Document:
    """What differs most, all changes side by side, and where curves cross."""
    shown = sorted(answer.differences, key=_weight)[:MOST_ROWS]
    kept = [d for d in answer.differences if d in shown]
    heads = _heads(answer)
    left = len(answer.differences) - len(kept)
    minds = [f"{left} more: --json lists them; limit with --metric and --workload"] if left else []
    minds += list(dict.fromkeys(answer.skipped))[:_MOST_MINDS]
    return Document(
        answer.question,
        (
            sentences(answer_sentences(answer)),
            make_table(heads, [_row(answer, d) for d in kept], right=("change", "there", "ratio")),
            *caveats(minds),
            next_steps(("the changes themselves", "ferocal compare")),
        ),
    )


def answer_sentences(answer: BetweenAnswer) -> Iterator[str]:
    """What is shown to differ, the largest first; else that nothing is."""
    changed = [d for d in answer.differences if d.estimate.verdict in CHANGED]
    shown = sorted(changed, key=_weight)[:_MOST_SENTENCES]
    if not shown:
        verdicts = [d.estimate.verdict for d in answer.differences]
        equal, count = verdicts.count(Verdict.EQUIVALENT), len(verdicts)
        if once := verdicts.count(Verdict.SEEN_ONCE):
            which = "every comparison" if once == count else counted(once, "comparison")
            yield f"No interval for {which}: one side was visited once, and the noise is unknown."
            if once == count:
                yield from (
                    sentence(d, answer) for d in sorted(answer.differences, key=_weight)[:1]
                )
                return
        where = _WHERE.get(answer.kind, f"between levels of {answer.kind}")
        yield (
            f"No change was shown to differ {where}: of {counted(count, 'comparison')} {equal} "
            f"{be(equal)} within the margin, {count - equal - once} inconclusive"
            f"{f', {once} seen once' if once else ''}."
        )
        shown = sorted(answer.differences, key=_weight)[:1]
    yield from (sentence(d, answer) for d in shown)
    yield from (crossing_sentence(c) for c in answer.crossings)


def sentence(difference: Difference, answer: BetweenAnswer) -> str:
    """A difference in words, such as "1.59 times as fast with Pelican, 1.80 with Wren"."""
    name = answer.labels[difference.first.configuration]
    what = "" if answer.kind == "workload" else f" on {_title(difference, answer)}"
    where = f" ({difference.first.bench})" if _names_bench(answer) else ""
    word = _PLACES.get(answer.kind, "with")
    places = [f"{word} {p}" for p in (difference.first_place, difference.second_place)]
    speed = speeds(difference)
    if math.isnan(speed[0]):
        first, second = (change_text(e) for e in (difference.first, difference.second))
        apart = change_text(as_change(difference))
        return (
            f"{name} changes{what} by {first} {places[0]}, by {second} {places[1]}{where}: "
            f"{apart} apart{_shown(difference)}"
        )
    sides = (difference.first, difference.second)
    moved = [e.verdict in CHANGED for e in sides]
    if sum(moved) == 1 and difference.estimate.verdict in CHANGED:
        n = moved.index(True)
        return (
            f"{name} is {_times(speed[n])} as fast{what} {places[n]}; no change was shown "
            f"{places[1 - n]} ({change_text(sides[1 - n])}){where}"
        )
    return (
        f"{name} is {_times(speed[0])} as fast{what} {places[0]}, {_times(speed[1])} "
        f"{places[1]}{where}: {_larger(difference)}"
    )


def _times(speed: float) -> str:
    return f"{significant(speed, 3)} times"


def _title(difference: Difference, answer: BetweenAnswer) -> str:
    series = difference.series
    if answer.kind != "size":
        return series.title
    return f"{series.sized_workload} {series.label or ''}".strip()


def as_change(difference: Difference) -> PlainChange:
    """The second effect over the first, as a change."""
    e = difference.estimate
    return PlainChange(
        difference.series, e.scale, e.change, e.low, e.high, e.verdict, e.bound, e.read
    )


def _larger(difference: Difference) -> str:
    """How much higher the speed is, what that makes of the gain, and whether that is shown."""
    first, second = speeds(difference)
    verdict = difference.estimate.verdict
    if verdict is Verdict.EQUIVALENT:
        return f"the same, within {series_margin(difference.series)}"
    ratio = second / first
    gains = first >= 1 or second >= 1
    if min(first, second) < 1 < max(first, second):
        return f"a gain and a loss{_shown(difference)}"
    word = "higher" if ratio > 1 else "lower"
    sizes = [100 * abs(speed - 1) for speed in (first, second)]
    amounts = " → ".join(significant(size, 2) for size in sizes)
    noun, what = ("speed-up", "gain") if gains else ("speed", "loss")
    moved = f"the {noun} is {percent(abs(ratio - 1))} {word}, the {what} {amounts} %"
    return f"{moved}{_shown(difference)}"


def _shown(difference: Difference) -> str:
    return "" if difference.estimate.verdict in CHANGED else " (difference not significant)"


def crossing_sentence(found: SizeCrossing) -> str:
    """Where two configurations are alike, and which is better beyond."""
    c = found.crossing
    where = "above" if c.better_above else "below"
    return (
        f"{found.configuration} is better than {found.baseline} on {found.sized_workload} "
        f"{found.metric} {where} {significant(c.size, 3)} {found.parameter} "
        f"({significant(c.low, 3)} … {significant(c.high, 3)}; measured at {c.below:g} and "
        f"{c.above:g})"
    )


def _weight(difference: Difference) -> tuple[int, float]:
    order = (*CHANGED, Verdict.INCONCLUSIVE, Verdict.EQUIVALENT)
    verdict = difference.estimate.verdict
    rank = order.index(verdict) if verdict in order else len(order)
    return max(rank, 1), -abs(difference.estimate.shift.mean)


def _names_bench(answer: BetweenAnswer) -> bool:
    return answer.several_benches and answer.kind != "bench"


def _heads(answer: BetweenAnswer) -> Sequence[str]:
    bench = ["bench"] if _names_bench(answer) else []
    series = [] if answer.kind == "workload" else ["metric"]
    return ["configuration", *bench, *series, "with", "change", "and with", "there",
            "ratio", "verdict"]  # fmt: skip


def _row(answer: BetweenAnswer, d: Difference) -> list[str | GridCell]:
    bench = [d.first.bench] if _names_bench(answer) else []
    series = [] if answer.kind == "workload" else [_title(d, answer)]
    verdict = d.estimate.verdict
    return [
        answer.labels[d.first.configuration], *bench, *series,
        d.first_place, change_text(d.first), d.second_place, change_text(d.second),
        " ".join(change_and_half(as_change(d))), GridCell(str(verdict), verdict=verdict),
    ]  # fmt: skip
