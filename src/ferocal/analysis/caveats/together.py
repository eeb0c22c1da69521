"""Caveats on what the effects say together: trade-offs, and a control arm that is not nil."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ferocal.analysis.caveats.kinds import CaveatKind, Finding, View, finding, size_of
from ferocal.analysis.data.cells import tabulate
from ferocal.analysis.data.series import Series, margin_on_scale
from ferocal.analysis.inference.effects import Effect, Estimate, control_failures
from ferocal.analysis.inference.verdicts import CHANGED, Verdict
from ferocal.terms.units import quantity_of


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
    """The trade-offs of every workload under every configuration, of what decides most in it.

    Only between metrics that are read as one (`are_read_as_one`).
    """
    groups: dict[tuple[str, str, str], dict[int, Verdict]] = {}
    for n, effect in enumerate(effects):
        direction = direction_of(effect, effect.series)
        if direction is not None and not effect.control:
            place = (effect.series.workload, effect.configuration, effect.baseline)
            groups.setdefault(place, {})[n] = direction
    found = []
    for members in groups.values():
        pairs = find_opposites([(effects[n].series, d) for n, d in members.items()])
        numbers = list(members)
        if pairs:
            better, worse = (effects[numbers[k]] for k in max(
                pairs, key=lambda p: (_weight(effects[numbers[p[0]]]),
                                      _weight(effects[numbers[p[1]]])),
            ))  # fmt: skip
            told = sorted({numbers[k] for pair in pairs for k in pair})
            found.append(TradeOff(better, worse, told))
    return found


def find_opposites(directions: Sequence[tuple[Series, Verdict]]) -> list[tuple[int, int]]:
    """Of metrics that get better or worse the pairs that are read as one, the better one first."""
    return [
        (a, b)
        for a, (better, gain) in enumerate(directions)
        for b, (worse, loss) in enumerate(directions)
        if (gain, loss) == CHANGED and are_read_as_one(better, worse)
    ]


# Words in the names of metrics that say what is usual, and what is so at worst.
_USUAL = {"rate", "average", "avg", "mean", "median"}
_WORST = {"low", "lows", "min", "minimum", "worst", "stutter", "stutters", "p99", "p95", "99"}
# What is measured of the work, and what that takes.
_WORK, _COST = {"time", "frame rate", "frequency"}, {"energy", "power"}


def are_read_as_one(first: Series, second: Series) -> bool:
    """Whether two metrics of a workload are read together, so that one may be traded for another.

    Those of one trace, parts of one total or a part and its total, what is usual and what is so at
    worst, work and the energy that it takes; else those that the study declares.
    """
    if first.workload != second.workload:
        return False
    traces = [s.metric.partition("/") for s in (first, second)]
    names = [{s.metric, trace[0]} for s, trace in zip((first, second), traces, strict=True)]
    declared = bool(names[1] & {*first.trades_with} or names[0] & {*second.trades_with})
    one_trace = traces[0][0] == traces[1][0] and all(slash for _, slash, _ in traces)
    parts = first.part_of == second.metric or second.part_of == first.metric
    parts |= bool(first.part_of) and first.part_of == second.part_of
    words = [set(re.split(r"[^a-z0-9]+", s.metric.casefold())) for s in (first, second)]
    extremes = any(words[k] & _USUAL and words[1 - k] & _WORST for k in (0, 1))
    kinds = [getattr(quantity_of(s.unit), "name", "") for s in (first, second)]
    costs = any(kinds[k] in _WORK and kinds[1 - k] in _COST for k in (0, 1))
    return declared or one_trace or parts or extremes or costs


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


def direction_of(effect: Estimate, series: Series) -> Verdict | None:
    """Whether a change is for the better or the worse; seen once, if it exceeds the margin."""
    if effect.verdict in CHANGED:
        return effect.verdict
    if effect.verdict is not Verdict.SEEN_ONCE:
        return None
    margin = margin_on_scale(series, effect.scale)
    if not abs(effect.shift.mean) > margin:
        return None
    rises = effect.shift.mean > 0
    return Verdict.BETTER if rises == (series.better == "higher") else Verdict.WORSE


# The parts of a soak that are relative to its beginning, with the level that each is about.
_BEGINNING = "beginning"
_RELATIVE = {"sustained": "last-quarter", "area-lost": "mean"}


def _weak_beginnings(view: View) -> Iterator[Finding]:
    """What is relative to the beginning, and better only because that is worse.

    The level that it is about gains less than the beginning loses.
    """
    places = {(e.series.workload, e.series.metric, e.configuration): e for e in view.effects}
    for n, effect in enumerate(view.effects):
        trace, _, part = effect.series.metric.partition("/")
        if part not in _RELATIVE or effect.verdict is not Verdict.BETTER:
            continue
        beginning, level = (
            places.get((effect.series.workload, f"{trace}/{other}", effect.configuration))
            for other in (_BEGINNING, _RELATIVE[part])
        )
        if beginning is None or level is None or level.verdict is Verdict.BETTER:
            continue
        sign = 1 if level.series.better == "higher" else -1
        gain, loss = sign * level.shift.mean, -sign * beginning.shift.mean
        if loss > 0 and loss > gain:
            yield finding(
                [n], effect.configuration, beginning=size_of(beginning), level=size_of(level),
                label=_RELATIVE[part].replace("-", " "),
            )  # fmt: skip


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
    CaveatKind("weak-beginning", _weak_beginnings, weight="forbids", bars=True),
    CaveatKind("trade-off", _trade_offs, weight="informs"),
    CaveatKind("control-differs", _control_differs, statistical=True, weight="forbids"),
)
