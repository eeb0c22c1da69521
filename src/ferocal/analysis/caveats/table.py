"""The table of all caveats, and their way onto the effects."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
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
from ferocal.analysis.inference.verdicts import Verdict

CAVEATS: dict[str, CaveatKind] = {
    kind.code: kind
    for module in (structure, comparability, trends, spread, extremes, together)
    for kind in module.KINDS
}
# Those that leave no verdict.
BARS = tuple(kind for kind in CAVEATS.values() if kind.bars)


def add_caveats(
    effects: Sequence[Effect],
    readings: Readings,
    setting: Setting,
    contexts: Mapping[str, Context],
    kinds: Iterable[CaveatKind] = CAVEATS.values(),
) -> tuple[Effect, ...]:
    """The effects, each with its caveats in the order of the table.

    Where one of them bars the comparison, there is no verdict.

    Parameters
    ----------
    effects
        Effects against their baselines, as from `estimation.estimate_effects`.
    readings
        The readings that they are made of.
    setting
        That of the estimation.
    contexts
        By bench, what else is known of it; a bench that is missing has nothing known.
    kinds
        Those that are looked for, by default all.
    """
    scales = choose_scales(readings)
    found: list[Effect] = list(effects)
    present = list(dict.fromkeys((effect.bench, effect.baseline) for effect in effects))
    for bench, baseline in present:
        places = [n for n, e in enumerate(effects) if (e.bench, e.baseline) == (bench, baseline)]
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
        for n, caveats in zip(places, _find(view, kinds), strict=True):
            if caveats:
                found[n] = _with_caveats(effects[n], caveats)
    return tuple(found)


def _with_caveats(effect: Effect, caveats: tuple[Caveat, ...]) -> Effect:
    """An effect with its caveats, and without a verdict where one of them forbids that."""
    barred = any(caveat.bars for caveat in caveats) and effect.verdict is not Verdict.NOT_JUDGED
    verdict = Verdict.NOT_COMPARABLE if barred else effect.verdict
    return replace(effect, caveats=caveats, verdict=verdict)


def _find(view: View, kinds: Iterable[CaveatKind]) -> list[tuple[Caveat, ...]]:
    """The caveats of each effect of a view."""
    found: list[list[Caveat]] = [[] for _ in view.effects]
    for kind in kinds:
        for finding in kind.find(view):
            caveat = Caveat(kind, finding.values, finding.side, finding.amount)
            for n in finding.effects:
                reason = _accepted(view, view.effects[n], kind)
                found[n].append(replace(caveat, accepted=reason) if reason else caveat)
    return [tuple(caveats) for caveats in found]


def _accepted(view: View, effect: Effect, kind: CaveatKind) -> str | None:
    """Why the study file accepts a kind of caveat on an effect, if it does."""
    factors = view.setting.differing.get(effect.configuration, ())
    fitting = (
        known.reason
        for known in view.setting.accepted
        if known.code == kind.code
        and (known.workload == effect.series.workload or known.factor in factors)
    )
    return next(fitting, None) if kind.bars else None
