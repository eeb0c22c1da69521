"""Runs that were lost on one side only."""

from __future__ import annotations

from collections.abc import Mapping

from ferocal.analysis.caveats import Caveat
from ferocal.analysis.contrasts import Method
from ferocal.analysis.effects import Effect
from ferocal.wording import counted, listed

# By workload and configuration, the number of runs that do not count, by what befell them.
Losses = Mapping[tuple[str, str], Mapping[str, int]]


def find_losses(losses: Losses, effect: Effect) -> Caveat | None:
    """A caveat if runs are excluded, failed or missing on one of the two sides only."""
    sides = (effect.configuration, effect.baseline)
    own, theirs = (losses.get((effect.series.workload, name), {}) for name in sides)
    if own and theirs:
        return None
    if own or theirs:
        side, other = sides if own else sides[::-1]
        parts = [f"{count} {what}" for what, count in sorted((own or theirs).items())]
        text = f"of the runs with {side}, {listed(parts)}; of those with {other}, none"
        return Caveat("one-sided-losses", text)
    runs = (effect.runs - effect.base_runs, effect.base_runs)
    if effect.method is not Method.PAIRED or runs[0] == runs[1]:
        return None
    text = f"in the rounds that pair there are {counted(runs[0], 'run')} with {sides[0]} and "
    return Caveat("one-sided-losses", f"{text}{runs[1]:,} with {sides[1]}")
