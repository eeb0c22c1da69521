"""Caveats on what the effects say together: trade-offs, and a control arm that is not nil."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, finding, size_of
from ferocal.analysis.data.cells import tabulate
from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.inference.effects import Effect, control_failures
from ferocal.analysis.inference.verdicts import CHANGED, Verdict


class TradeOff(NamedTuple):
    """Two metrics of a workload, of which a configuration makes one better and one worse.

    ``effects`` are the places of all that change in this workload.
    """

    better: Effect
    worse: Effect
    effects: list[int]

    @property
    def seen_once(self) -> bool:
        """Whether one of the two is no more than seen once."""
        return Verdict.SEEN_ONCE in (self.better.verdict, self.worse.verdict)


def find_trade_offs(effects: Sequence[Effect]) -> list[TradeOff]:
    """The trade-offs of every workload under every configuration, of what decides most in it."""
    groups: dict[tuple[str, str], dict[int, Verdict]] = {}
    for n, effect in enumerate(effects):
        direction = _direction(effect)
        if direction is not None and not effect.control:
            place = (effect.series.workload, effect.configuration)
            groups.setdefault(place, {})[n] = direction
    found = []
    for members in groups.values():
        sides = [[effects[n] for n, d in members.items() if d is v] for v in CHANGED]
        if all(sides):
            better, worse = (max(side, key=_weight) for side in sides)
            found.append(TradeOff(better, worse, list(members)))
    return found


def _weight(effect: Effect) -> tuple[int, bool, float]:
    """What decides weighs most, then shares of change before amounts, then their size."""
    role = ("detail", "secondary", "primary").index(effect.series.role)
    return role, effect.scale == "ratio", abs(effect.shift.mean)


def _trade_offs(view: View) -> Iterator[Finding]:
    """Metrics of one workload of which one gets better and another worse."""
    for trade_off in find_trade_offs(view.effects):
        better, worse = trade_off.better, trade_off.worse
        yield finding(
            trade_off.effects, better.configuration, better=better.series.title,
            worse=worse.series.title, once=trade_off.seen_once,
        )  # fmt: skip


def _direction(effect: Effect) -> Verdict | None:
    """Whether an effect is for the better or the worse; seen once, if it exceeds the margin."""
    if effect.verdict in CHANGED:
        return effect.verdict
    if effect.verdict is not Verdict.SEEN_ONCE:
        return None
    margin = margin_on_scale(effect.series, effect.scale)
    if not abs(effect.shift.mean) > margin:
        return None
    rises = effect.shift.mean > 0
    return Verdict.BETTER if rises == (effect.series.better == "higher") else Verdict.WORSE


def _contradictions(view: View) -> Iterator[Finding]:
    """Metrics of one run that cannot be as they were read: a low above its average, say."""
    names = {(series.workload, series.metric) for series in view.readings.series}
    if not any((w, other) in names for w, metric in names for other in _above(metric)):
        return
    cells = {
        (cell.series.workload, cell.configuration, cell.series.metric): cell
        for row in tabulate(view.readings)
        for cell in row
        if cell is not None and cell.bound is None
    }
    for (workload, name, metric), lower in cells.items():
        for other in _above(metric):
            upper = cells.get((workload, name, other))
            if upper is None or upper.series.unit != lower.series.unit:
                continue
            if lower.centre > upper.centre:
                members = [
                    n
                    for n, e in enumerate(view.effects)
                    if e.series.workload == workload
                    and e.series.metric in (metric, other)
                    and name in (e.configuration, e.baseline)
                ]
                yield finding(
                    members, configuration=name, metric=metric, workload=workload, other=other,
                    centre=lower.centre, below=upper.centre,
                )  # fmt: skip


# Parts of names of metrics of which the first cannot exceed the second.
_ORDERED = (
    ("single-core", "all-core"), ("single-core", "multi-core"), ("single-thread", "multi-thread"),
    ("minimum", "mean"), ("minimum", "average"), ("min", "mean"), ("min", "average"),
    ("min", "avg"), ("mean", "maximum"), ("average", "maximum"), ("mean", "max"), ("avg", "max"),
    ("minimum", "maximum"), ("min", "max"), ("1%-low", "rate"), ("1%-low", "average"),
    ("0.1%-low", "1%-low"), ("low", "average"),
)  # fmt: skip


def _above(metric: str) -> list[str]:
    """The names that metrics would have which this one cannot exceed."""
    parts = re.split(r"([/_.])", metric)
    names = []
    for below, above in _ORDERED:
        if below in parts:
            names.append("".join(above if part == below else part for part in parts))
    return names


def _control_differs(view: View) -> Iterator[Finding]:
    for effect in control_failures(view.effects):
        yield view.on_everything(
            baseline=effect.baseline,
            workload=effect.series.workload,
            metric=effect.series.metric,
            change=None if effect.bound is not None else size_of(effect),
        )


KINDS = (
    CaveatKind("contradiction", _contradictions, weight="forbids"),
    CaveatKind("trade-off", _trade_offs, weight="informs"),
    CaveatKind("control-differs", _control_differs, statistical=True, weight="forbids"),
)
