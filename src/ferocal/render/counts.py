"""The overview of many metrics: how many have each verdict, and the largest changes of each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.render.console import Text
from ferocal.render.grid import Shape
from ferocal.render.numbers import change_words
from ferocal.render.wording import (
    VERDICT_SIGNS,
    VERDICT_STYLES,
    VERDICT_WORDS,
    margins_text,
)
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.comparison import Comparison

# The largest changes of a verdict are named, so many of them.
_MOST_NAMED = 3


def count_verdicts(
    comparison: Comparison, series: Sequence[Series], shape: Shape
) -> Iterator[Text]:
    """By configuration, a line for every verdict, and how to see them all."""
    wanted = set(series)
    effects = [e for e in comparison.effects if e.series in wanted and not e.control]
    for name in dict.fromkeys(e.configuration for e in effects):
        own = [e for e in effects if e.configuration == name]
        yield Text(f"{name} against {comparison.baseline}, {counted(len(own), 'metric')}", "bold")
        for verdict in VERDICT_SIGNS:
            members = [e for e in own if e.verdict is verdict]
            if members:
                yield _line(verdict, members, shape)
    yield Text("")
    first, *others = (VERDICT_WORDS[v] for v in Verdict if any(e.verdict is v for e in effects))
    rest = f" (or {', '.join(others)})" if others else ""
    yield Text(f"all of them: ferocal compare --only {first}{rest}; --detail for intervals", "dim")


def _line(verdict: Verdict, effects: Sequence[Effect], shape: Shape) -> Text:
    """How many effects have a verdict, and which of them are the largest."""
    sign = "" if shape.words else f"{VERDICT_SIGNS[verdict]} "
    word = (f"  {sign}{VERDICT_WORDS[verdict]:<10}", VERDICT_STYLES[verdict])
    text = Text.assemble(word, f"{len(effects):>6}")
    if verdict in (*CHANGED, Verdict.SEEN_ONCE):
        largest = sorted(effects, key=lambda e: (e.scale != "ratio", -abs(e.shift.mean)))
        names = [f"{e.series.title} {change_words(e)}" for e in largest[:_MOST_NAMED]]
        text.append(f"   {_fitting(names, len(effects), shape.width - len(text) - 3)}", "")
    elif verdict is Verdict.EQUIVALENT:
        text.append(f"   within {margins_text(effects)}", "")
    return text


def _fitting(names: Sequence[str], count: int, width: int) -> str:
    """As many of the names as fit, one at least, and how many there are besides."""
    for most in range(len(names), 0, -1):
        rest = [f"{count - most} more"] if count > most else []
        text = ", ".join([*names[:most], *rest])
        if len(text) <= width:
            break
    return text
