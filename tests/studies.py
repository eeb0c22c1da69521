"""Small studies in a few lines, as results of analysis, for what is said of them."""

from __future__ import annotations

import math
import re
from dataclasses import replace
from typing import Any, get_args

from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, Replicates, Shift
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.answers.compare import Comparison, Prospect
from ferocal.terms.roles import Role

_ENTRY = re.compile(r"(\S+) ([<>]?)([-+][\d.]+)(?:±([\d.]+))?(.*)")


def make_effect(series: Series, text: str, scale: Any = "ratio") -> Effect:
    """An effect such as "r64 +9.1±1.5" in per cent (or in the unit), with words of what it is.

    Within the margin it is equivalent, else better or worse if its interval leaves out zero, or
    open; "3 more" says that it needs three more rounds and is open in any case, "beyond" that no
    number would do, "look 8" that it is open until a look, "small" that it may be within the
    margin; without an interval it is seen once, or as "stated".
    """
    match = _ENTRY.fullmatch(text.strip())
    assert match is not None, text
    name, bound, change, half, words = match.groups()
    factor = 100.0 if scale == "ratio" else 1.0
    middle, width = float(change) / factor, float(half or "nan") / factor
    low, high = middle - width, middle + width
    if bound:
        low, high = (middle, math.inf) if bound == ">" else (-math.inf, middle)
    ends = [
        math.log1p(max(v, -0.999)) if scale == "ratio" and math.isfinite(v) else v
        for v in (middle, low, high)
    ]
    more, look = (re.search(pattern, words) for pattern in (r"(\d+) more", r"look (\d+)"))
    margin = series.margin if scale == "ratio" else series.unit_margin or math.nan
    verdict = Verdict.BETTER if (middle > 0) == (series.better == "higher") else Verdict.WORSE
    if -margin < low and high < margin:
        verdict = Verdict.EQUIVALENT
    elif more or look or "beyond" in words or low <= 0 <= high:
        verdict = Verdict.INCONCLUSIVE
    elif not half and not bound:
        verdict = Verdict.SEEN_ONCE
    method = Method.BOUND if bound else Method.PAIRED if half else Method.NONE
    if series.better == "none":
        verdict = Verdict.NOT_JUDGED
    return Effect(
        bench="node", series=series, baseline="r61", configuration=name, scale=scale,
        method=Method.STATED if "stated" in words else method, change=middle, low=low, high=high,
        shift=Shift(ends[0], ends[1], ends[2], 0.01, 0.01, 4.0), p_adjusted=0.01, family_size=9,
        verdict=verdict, beyond_margin="small" not in words, rounds=5 if half else 0, visits=5,
        base_visits=5, runs=20, base_runs=10, unpaired=0,
        more_rounds=int(more[1]) if more else None, out_of_reach="beyond" in words,
        noise_floor=None, open_until=int(look[1]) if look else None, bound=bound or None,
        control=name == "control", caveats=(),
    )  # fmt: skip


def make_study(
    text: str, *, replicates: Replicates = "rounds", seconds: float | None = 60.0
) -> Comparison:
    """A comparison of lines such as "flight/frame rate fps higher primary | r64 +9.1±1.5".

    What stands before the bars is workload and label, the unit, which way is better, and the
    role; then come the effects. The label "-" is that of the only metric of a workload, and
    "by" gives the metric a margin in its unit.
    """
    effects: list[Effect] = []
    for line in text.strip().splitlines():
        head, *entries = line.strip().split("|")
        words = head.split()
        role: Role = words.pop() if words[-1] in get_args(Role) else "secondary"  # type: ignore[assignment]
        amount = float(words.pop()) if words[-2] == "by" else None
        words = words[:-1] if words[-1] == "by" else words
        better: Any = words.pop()
        unit = words.pop()
        workload, _, label = " ".join(words).partition("/")
        series = Series(
            workload, label, unit, better, 0.02, role=role, unit_margin=amount,
            label="" if label == "-" else label,
        )  # fmt: skip
        scale = "ratio" if amount is None else "difference"
        effects += [make_effect(series, entry, scale) for entry in entries]
    names = list(dict.fromkeys(e.configuration for e in effects))
    levels = {
        name: dict(zip(("driver", "api"), f"{name}+gl".split("+"), strict=False))
        for name in ("r61", *names)
    }
    kinds = frozenset({"measure" if replicates != "visits" else "load"})
    return Comparison(
        question="?", baseline="r61", margin=0.02, confidence=0.95, benches=("node",),
        levels=levels, series=tuple(dict.fromkeys(e.series for e in effects)),
        effects=tuple(effects), base_cells={}, gaps=(), notes=(),
        alarm=tuple(e for e in effects if e.control and e.verdict in ("better", "worse")),
        unmeasured=(), prospects={"node": Prospect(replicates, kinds, seconds, last_round=5)},
        criteria_changes=(), study_changes=(), excluded=0, left_out=0, corrected=(),
    )  # fmt: skip


def with_caveats(comparison: Comparison, caveats: dict[str, tuple[Any, ...]]) -> Comparison:
    """The comparison with caveats on the effects of some configurations."""
    effects = [replace(e, caveats=caveats.get(e.configuration, ())) for e in comparison.effects]
    return replace(comparison, effects=tuple(effects))
