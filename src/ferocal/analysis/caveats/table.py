"""The table of all caveats, and their way onto the effects."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from ferocal.analysis.caveats import (
    comparability,
    extremes,
    spread,
    structure,
    together,
    trends,
)
from ferocal.analysis.caveats.kinds import LEVEL, Caveat, CaveatKind, Context, View
from ferocal.analysis.data.readings import Readings, choose_scales
from ferocal.analysis.inference.effects import Effect, Setting

CAVEATS: dict[str, CaveatKind] = {
    kind.code: kind
    for module in (structure, comparability, trends, spread, extremes, together)
    for kind in module.KINDS
}


def add_caveats(
    effects: Sequence[Effect],
    readings: Readings,
    setting: Setting,
    contexts: Mapping[str, Context],
) -> tuple[Effect, ...]:
    """The effects, each with its caveats in the order of the table.

    Parameters
    ----------
    effects
        Effects against one baseline, as from `estimation.estimate_effects`.
    readings
        The readings that they are made of.
    setting
        That of the estimation.
    contexts
        By bench, what else is known of it; a bench that is missing has nothing known.
    """
    scales = choose_scales(readings)
    found: list[Effect] = list(effects)
    present = list(dict.fromkeys(effect.bench for effect in effects))
    for bench in present:
        places = [n for n, effect in enumerate(effects) if effect.bench == bench]
        here = readings.on_bench(readings.benches.index(bench))
        view = View(
            effects=[effects[n] for n in places],
            readings=here.numbers,
            bounds=here.select(here.bound != 0),
            scales=scales,
            setting=setting,
            context=contexts.get(bench, Context()),
            level=LEVEL / len(present),
        )
        for n, caveats in zip(places, _find(view), strict=True):
            found[n] = replace(effects[n], caveats=caveats) if caveats else effects[n]
    return tuple(found)


def _find(view: View) -> list[tuple[Caveat, ...]]:
    """The caveats of each effect of a view."""
    found: list[list[Caveat]] = [[] for _ in view.effects]
    for kind in CAVEATS.values():
        for finding in kind.find(view):
            caveat = Caveat(kind, finding.what, finding.side, finding.amount)
            for n in finding.effects:
                found[n].append(caveat)
    return [tuple(caveats) for caveats in found]
