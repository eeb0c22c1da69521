"""Caveats on what the effects say together: trade-offs, and a control arm that is not nil."""

from __future__ import annotations

from collections.abc import Iterator

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, sized
from ferocal.analysis.inference.effects import Effect, control_failures
from ferocal.analysis.inference.verdicts import CHANGED


def _trade_offs(view: View) -> Iterator[Finding]:
    """Metrics of one workload of which one gets better and another worse."""
    groups: dict[tuple[str, str], list[int]] = {}
    for n, effect in enumerate(view.effects):
        if effect.verdict in CHANGED:
            groups.setdefault((effect.series.workload, effect.configuration), []).append(n)
    for (workload, configuration), members in groups.items():
        sides = [
            [view.effects[n] for n in members if view.effects[n].verdict is v] for v in CHANGED
        ]
        if not all(sides):
            continue
        better, worse = (max(side, key=lambda e: abs(e.shift.mean)) for side in sides)
        text = f"with {configuration}, {_named(better)} gets better while {_named(worse)} of "
        yield Finding(f"{text}{workload} gets worse", members)


def _named(effect: Effect) -> str:
    change = sized(effect.shift.mean, effect.scale, effect.series.unit)
    return f"{effect.series.metric} ({change})"


def _control_differs(view: View) -> Iterator[Finding]:
    for effect in control_failures(view.effects):
        text = f"the control arm, which is {effect.baseline} again, changes "
        yield view.on_everything(f"{text}{effect.series.workload} {_named(effect)}")


KINDS = (
    CaveatKind(
        "trade-off",
        "one metric of a workload gets better and another worse",
        "decide which of the two matters; neither is the whole answer",
        _trade_offs,
    ),
    CaveatKind(
        "control-differs",
        "the control arm is not nil",
        "trust no verdict before the bench agrees with itself",
        _control_differs,
        statistical=True,
    ),
)
