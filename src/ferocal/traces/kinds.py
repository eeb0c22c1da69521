"""The kinds of traces, one entry each: parts, units, directions, checks, summary, curve.

NumPy is imported where traces are worked on: a study file names kinds without having any.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from ferocal.terms.bounds import BEYOND, beyond
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import TIME
from ferocal.traces.capture import (
    CaptureColumns,
    Channel,
    Direction,
    Trace,
    TraceError,
    TraceSpec,
)

if TYPE_CHECKING:
    import numpy as np

    from ferocal.traces.curves import FrameCollector, SoakCollector
    from ferocal.traces.soak import SoakSummary


@dataclass(frozen=True)
class Part:
    """A metric that is computed of a trace, and what it is called in sentences.

    One that ``leads`` has the role of the trace, the others are details. What is a share itself is
    compared ``in_points``, never as a per cent of a per cent.
    """

    name: str
    label: str
    unit: str
    better: Direction
    leads: bool = False
    in_points: bool = False


class Collector(Protocol):
    """Takes the captures of one configuration one by one, for a figure."""

    def add(self, columns: CaptureColumns) -> None:
        """Take a capture."""

    def curve(self) -> Any:
        """What is drawn of all captures so far."""


class PartValue(NamedTuple):
    """The value of a part; with the bound ">" nothing more is known than that it is above."""

    value: float
    bound: str | None = None


PartValues = dict[str, PartValue]


@dataclass(frozen=True)
class TraceKind:
    """A kind of trace.

    ``meaning`` says what a trace of the kind is. ``units`` are those that its values may
    have, None for any; it is kept in ``kept_unit``, None for its own. ``defaults`` stand in
    for keys of the study file that are left out, and ``direction`` is the only one that
    makes sense, if there is one. ``parts`` are the metrics computed of it; ``summarise``
    checks captures and gives the value of each part and the columns that are kept.
    ``collect`` makes what gathers captures for the figure of a configuration; an answer needs that,
    too, where the kind ``takes_sessions``.
    """

    name: str
    meaning: str
    parts: Callable[[TraceSpec], list[Part]]
    summarise: Callable[
        [TraceSpec, Sequence[CaptureColumns]], tuple[PartValues, list[CaptureColumns]]
    ]
    collect: Callable[[str, TraceSpec], Collector]
    counts_samples: bool
    takes_limit: bool = False
    takes_sessions: bool = False
    units: tuple[str, ...] | None = None
    kept_unit: str | None = None
    direction: Direction | None = None
    defaults: Mapping[str, str] = field(default_factory=dict)


def _frame_parts(spec: TraceSpec) -> list[Part]:
    """Rates, share of time beyond the limit, and stutters."""
    return [
        Part("rate", "frame rate", "fps", "higher", leads=True),
        Part("1%-low", "1 % low", "fps", "higher", leads=True),
        Part("0.1%-low", "0.1 % low", "fps", "higher"),
        Part("slowest-1%", "slowest 1 %", "fps", "higher"),
        *([] if spec.limit is None else [Part("over-limit", "time over limit", "%", "lower")]),
        Part("stutters", "stutters", "1/min", "lower"),
        Part("median", "median frame time", "ms", "lower"),
    ]


# How the parts of sessions and of what comes late in long ones begin; the duration follows.
SESSION, LATE = "first-", "after-"
# How long a short session lasts unless the study says (s).
SHORT = 600.0


def session_lengths(spec: TraceSpec) -> list[float]:
    """Of which lengths (s) sessions are asked for: a short one, and a long one if there is any."""
    short = SHORT if spec.short is None else spec.short
    return [short] if spec.long is None else [short, spec.long]


def session_part(seconds: float) -> str:
    """The part that is the level of sessions of a length."""
    return f"{SESSION}{duration(seconds, '-')}"


def _session_parts(spec: TraceSpec) -> list[Part]:
    """The level of sessions of some lengths, and of what comes late in long ones."""
    parts = [
        Part(session_part(seconds), f"first {duration(seconds)}", spec.unit, spec.better,
             leads=seconds == spec.short)
        for seconds in session_lengths(spec)
    ]  # fmt: skip
    if spec.long is not None:
        late, label = f"{LATE}{duration(spec.long, '-')}", f"after {duration(spec.long)}"
        parts.append(Part(late, label, spec.unit, spec.better, leads=True))
    return parts


def duration(seconds: float, gap: str = " ") -> str:
    """A duration in minutes if these are whole, such as "10 min"."""
    if seconds % 60 == 0:
        return f"{seconds / 60:.15g}{gap}min"
    return f"{seconds:.15g}{gap}s"


def _soak_parts(spec: TraceSpec) -> list[Part]:
    """Levels over the course of the soak, throttling, and other channels."""
    parts = [
        Part("peak", "peak", spec.unit, spec.better),
        Part("beginning", "beginning", spec.unit, spec.better),
        Part("mean", "mean", spec.unit, spec.better, leads=True),
        Part("minimum", "minimum", spec.unit, spec.better, leads=True),
        Part("last-quarter", "last quarter", spec.unit, spec.better, leads=True),
        *_session_parts(spec),
        Part("sustained", "sustained", "%", spec.better, in_points=True),
        Part("onset", "onset of throttling", "s", "higher", leads=True),
        Part("depth", "depth of throttling", "%", "lower", in_points=True),
        Part("recovery", "recovery", "s", "lower"),
        Part("recovered", "recovered of the loss", "%", "higher", in_points=True),
        Part("throttled", "time throttled", "s", "lower"),
        Part("throttled-level", "level while throttled", spec.unit, spec.better),
        Part("area-lost", "area lost", "%", "lower", in_points=True),
    ]
    parts += [
        Part(f"{channel.name}-{of}", f"{channel.name} {of}", channel.unit, channel.better)
        for channel in spec.channels
        for of in (START, "mean", "max")
    ]
    return parts


# The part of another channel that says how the runs began: the median of the first minute.
START = "start"
_FIRST_MINUTE = 60.0


def _summarise_frames(
    spec: TraceSpec, captures: Sequence[CaptureColumns]
) -> tuple[PartValues, list[CaptureColumns]]:
    from ferocal.traces.frames import frame_times, summarise_frames

    times = []
    for number, columns in enumerate(captures):
        try:
            times.append(frame_times(columns["value"], spec))
        except ValueError as error:
            raise TraceError.of(error, number) from None
    limit = None if spec.limit is None else 1000 * spec.limit
    summary = summarise_frames(times, limit=limit)
    values = {
        "rate": summary.rate,
        "1%-low": summary.low_1,
        "0.1%-low": summary.low_01,
        "slowest-1%": summary.slowest_1,
        "over-limit": summary.over_limit,
        "stutters": summary.stutters,
        "median": summary.median,
    }
    known = {part: PartValue(value) for part, value in values.items()}
    return known, [{"value": column} for column in times]


def _summarise_soak(
    spec: TraceSpec, captures: Sequence[CaptureColumns]
) -> tuple[PartValues, list[CaptureColumns]]:
    from ferocal.traces.soak import check_soak, soak_times, summarise_soak

    if len(captures) > 1:
        raise TraceError(f"{len(captures)} files match, but a soak is a single file")
    (columns,) = captures
    value, time = columns["value"], soak_times(columns, spec)
    check_soak(time, value)
    summary = summarise_soak(time, value, spec.better)
    values = {
        "peak": summary.peak,
        "mean": summary.mean,
        "minimum": summary.minimum,
        "beginning": summary.beginning,
        "last-quarter": summary.last_quarter,
        "sustained": 100 * summary.sustained,
        "area-lost": 100 * summary.area_lost,
        **_sessions(spec, time, value),
    }
    known = {part: PartValue(number) for part, number in values.items()}
    known |= _throttling(summary, float(time[-1] - time[0]))
    kept = {"value": value, "time": time}
    for channel in spec.channels:
        kept[channel.role] = columns[channel.role]
        known |= _channel_parts(channel, time, columns[channel.role])
    return known, [kept]


def _sessions(spec: TraceSpec, time: np.ndarray, value: np.ndarray) -> dict[str, float]:
    """The levels of sessions, and of what comes late; of a soak that ends before there is none."""
    passed = time - time[0]
    interval = float(passed[-1]) / (len(passed) - 1)
    found = {
        session_part(seconds): float(value[passed <= seconds].mean())
        for seconds in session_lengths(spec)
        if passed[-1] + interval >= seconds
    }
    late = passed >= (math.inf if spec.long is None else spec.long)
    if spec.long is not None and late.any():
        found[f"{LATE}{duration(spec.long, '-')}"] = float(value[late].mean())
    return found


def _channel_parts(channel: Channel, time: np.ndarray, value: np.ndarray) -> PartValues:
    import numpy as np

    from ferocal.traces.soak import check_finite

    check_finite(channel.name, value, role=channel.role)
    start = float(np.median(value[time - time[0] < max(_FIRST_MINUTE, time[1] - time[0])]))
    figures = {START: start, "mean": float(value.mean()), "max": float(value.max())}
    return {f"{channel.name}-{of}": PartValue(number) for of, number in figures.items()}


def _throttling(summary: SoakSummary, end: float) -> PartValues:
    """What throttling costs; what did not happen would have come after the end (s)."""
    never = PartValue(end, ">")
    if summary.main is None:
        return {"onset": never, "depth": PartValue(0.0), "throttled": PartValue(0.0)}
    return {
        "onset": PartValue(summary.onset),
        "depth": PartValue(100 * summary.depth),
        "recovery": never if math.isnan(summary.recovery) else PartValue(summary.recovery),
        "recovered": PartValue(100 * summary.recovered),
        "throttled": PartValue(summary.throttled),
        "throttled-level": PartValue(summary.throttled_level),
    }


def _collect_frames(configuration: str, spec: TraceSpec) -> FrameCollector:
    from ferocal.traces.curves import FrameCollector

    return FrameCollector(configuration)


def _collect_soaks(configuration: str, spec: TraceSpec) -> SoakCollector:
    from ferocal.traces.curves import SoakCollector

    return SoakCollector(configuration, spec.better, spec.channels)


KINDS: dict[str, TraceKind] = {
    kind.name: kind
    for kind in (
        TraceKind(
            name="frames",
            meaning="how long each frame was shown",
            parts=_frame_parts,
            summarise=_summarise_frames,
            collect=_collect_frames,
            counts_samples=True,
            takes_limit=True,
            units=tuple(TIME),
            kept_unit="ms",
            direction="lower",
            defaults={"better": "lower", "unit": "ms"},
        ),
        TraceKind(
            name="soak",
            meaning="a value over a long time, with throttling and recovery",
            parts=_soak_parts,
            summarise=_summarise_soak,
            collect=_collect_soaks,
            counts_samples=False,
            takes_sessions=True,
        ),
    )
}


@dataclass(frozen=True)
class TraceResult:
    """What is computed of a run's trace, by part, and the captures as they are kept.

    ``samples`` is how many single values it has, None for kinds that do not count them.
    """

    values: PartValues
    traces: list[Trace]
    samples: int | None


def summarise_trace(
    metric: str, kind: TraceKind, spec: TraceSpec, captures: Sequence[CaptureColumns]
) -> TraceResult:
    """Check the captures of a run and compute the parts of the trace.

    Parts that do not exist in these captures, such as the recovery where nothing throttles,
    are left out. An onset that did not come is after the end of the trace.

    Raises
    ------
    TraceError
        When a capture cannot be true; the message says what and where.
    """
    try:
        values, kept = kind.summarise(spec, captures)
    except TraceError:
        raise
    except ValueError as error:
        raise TraceError.of(error, 0 if len(captures) == 1 else None) from None
    for part, known in values.items():
        if math.isfinite(known.value) and beyond(known.value):
            raise TraceError(f"its {part} of {known.value:g} {BEYOND}")
    wanted = {part.name for part in kind.parts(spec)}
    unit = kind.kept_unit or spec.unit
    length = sum(len(columns["value"]) for columns in kept)
    return TraceResult(
        {part: v for part, v in values.items() if part in wanted and math.isfinite(v.value)},
        [Trace(metric, kind.name, unit, columns) for columns in kept],
        length if kind.counts_samples else None,
    )
