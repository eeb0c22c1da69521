"""Metrics of a workload: what is read, from where, and within which limits."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Discriminator, Field, Tag, model_validator

from ferocal.study.base import Table
from ferocal.study.quantities import Amount, Seconds


def _check_pattern(pattern: str) -> str:
    try:
        groups = re.compile(pattern).groups
    except re.error as error:
        raise ValueError(f"is not a regular expression: {error}") from None
    if groups != 1:
        raise ValueError(f"needs exactly one group around the number, it has {groups}")
    return pattern


def _check_pointer(pointer: str) -> str:
    if pointer and not pointer.startswith("/"):
        raise ValueError(f'is not a JSON Pointer; write "/{pointer}"')
    return pointer


class JsonSource(Table):
    """A number in JSON output, addressed by a JSON Pointer (RFC 6901)."""

    json_pointer: Annotated[str, AfterValidator(_check_pointer)] = Field(alias="json")


class PatternSource(Table):
    """A number in textual output, found by a regular expression with one group."""

    pattern: Annotated[str, AfterValidator(_check_pattern)]


class TraceSource(Table):
    """A series of numbers that a run wrote: frame times, or values over time.

    ``file`` names the file that the workload wrote (a pattern like "frames-*.csv" names
    several captures), ``output`` says that they stand in its output, a number per line or
    as CSV. Of a table, ``column`` holds the numbers, ``time`` the time of each (s), and
    ``second`` another channel such as temperature, in ``second-unit``. Values without times
    follow each other after ``interval``, a second unless given. With ``stamps`` the numbers
    are the times at which frames were shown, instead of how long each lasted. The first
    ``skip`` numbers are warm-up, and are left out.
    """

    file: str | None = None
    output: Literal["lines", "csv"] | None = None
    column: str | None = None
    time: str | None = None
    second: str | None = None
    second_unit: str | None = None
    stamps: bool = False
    skip: int = Field(default=0, ge=0)
    interval: Seconds | None = None

    @model_validator(mode="after")
    def _one_place(self) -> TraceSource:
        if (self.file is None) == (self.output is None):
            raise ValueError("a trace is read from a file or from the output: name one of them")
        if (self.second is None) != (self.second_unit is None):
            raise ValueError("second and second-unit go together")
        return self


ProcessSource = Literal["wall-time", "cpu-time", "peak-memory"]


def _kind_of_source(value: Any) -> str:
    if isinstance(value, str):
        return "a-process-source"
    # Values are models, instead of tables of the file, when the study is written out.
    keys = value if isinstance(value, dict) else {type(value): None}
    if "file" in keys or "output" in keys or TraceSource in keys:
        return "a-trace-source"
    return "a-json-source" if "json" in keys or JsonSource in keys else "a-pattern-source"


Source = Annotated[
    Annotated[ProcessSource, Tag("a-process-source")]
    | Annotated[JsonSource, Tag("a-json-source")]
    | Annotated[PatternSource, Tag("a-pattern-source")]
    | Annotated[TraceSource, Tag("a-trace-source")],
    Discriminator(_kind_of_source),
]

CountSource = Annotated[
    Annotated[JsonSource, Tag("a-json-source")] | Annotated[PatternSource, Tag("a-pattern-source")],
    Discriminator(_kind_of_source),
]

# What the process sources yield, and in which unit unless the study asks for another.
PROCESS_UNITS: dict[str, dict[str, float]] = {
    "wall-time": {"s": 1.0, "ms": 1e3, "µs": 1e6, "min": 1 / 60},
    "cpu-time": {"s": 1.0, "ms": 1e3, "µs": 1e6, "min": 1 / 60},
    "peak-memory": {"MiB": 2.0**-20, "KiB": 2.0**-10, "GiB": 2.0**-30, "B": 1.0, "MB": 1e-6},
}


# A stopwatch in a hand: a second has so many of each unit, and reactions differ by so much (s).
TIME_UNITS = {"s": 1.0, "ms": 1e3, "min": 1 / 60}
REACTION = 0.15

# Frame times are kept and summarised in milliseconds; so many of each unit is one.
FRAME_UNITS = {"ms": 1.0, "s": 1e-3, "µs": 1e3, "us": 1e3}


class Metric(Table):
    """What is read from a run: where it stands, its unit, and which way is better.

    ``margin`` is a share, or an amount in the metric's own unit for what may be zero or
    negative. ``resolution`` is the smallest step that a reading can tell, ``plausible`` the
    lowest and highest value that can be true, both in the unit. ``statistic`` is what the
    workload's own number is of several values; ``samples`` is where it tells how many.

    A metric without source is read by an operator, who types it or, with ``read`` as
    "stopwatch", takes the time; that has a resolution of 0.15 s unless stated.

    A metric of the kind "frames" or "soak" is a trace, of which several metrics are made;
    `derive` names them. Frame times take a ``limit``: the share of time in longer frames is
    one of these metrics.
    """

    kind: Literal["value", "frames", "soak"] = "value"
    unit: str
    better: Literal["higher", "lower"]
    limit: Seconds | None = None
    source: Source | None = None
    read: Literal["typed", "stopwatch"] = "typed"
    primary: bool = False
    margin: Amount | None = None
    resolution: float | None = Field(default=None, gt=0)
    plausible: tuple[float, float] | None = None
    statistic: Literal["single", "mean", "median", "best"] = "single"
    samples: CountSource | None = None

    @property
    def step(self) -> float | None:
        """The smallest step that a reading can tell: declared, or that of a stopwatch."""
        if self.resolution is None and self.read == "stopwatch":
            return REACTION * TIME_UNITS[self.unit]
        return self.resolution

    @property
    def share_margin(self) -> float | None:
        """The margin as a share, None if there is none."""
        if self.margin is None or self.margin[1] != "%":
            return None
        return self.margin[0] / 100

    @property
    def unit_margin(self) -> float | None:
        """The margin in the metric's own unit, None if there is none."""
        return None if self.margin is None or self.margin[1] == "%" else self.margin[0]

    @model_validator(mode="before")
    @classmethod
    def _shorter_frames_are_better(cls, data: Any) -> Any:
        if isinstance(data, dict) and data.get("kind") == "frames":
            return {"better": "lower", "unit": "ms", **data}
        return data

    @model_validator(mode="after")
    def _kind_fits(self) -> Metric:
        traced = isinstance(self.source, TraceSource)
        if self.source is not None and "read" in self.model_fields_set:
            raise ValueError("read is for what an operator reads: it does not go with a source")
        if self.read == "stopwatch" and self.unit not in TIME_UNITS:
            raise ValueError(f'a stopwatch reads {", ".join(TIME_UNITS)}, not "{self.unit}"')
        if self.source is not None and traced != (self.kind != "value"):
            raise ValueError('a source with file or output goes with kind = "frames" or "soak"')
        if self.kind == "frames" and self.unit not in FRAME_UNITS:
            raise ValueError(f'frame times are in {", ".join(FRAME_UNITS)}, not in "{self.unit}"')
        if self.kind == "frames" and self.better == "higher":
            raise ValueError("shorter frames are better; leave out better")
        if self.limit is not None and self.kind != "frames":
            raise ValueError('limit goes with kind = "frames"')
        return self

    @model_validator(mode="after")
    def _limits_are_right(self) -> Metric:
        if self.plausible is not None and not self.plausible[0] < self.plausible[1]:
            raise ValueError("plausible is the lowest and the highest value, in this order")
        if self.margin is not None and self.margin[1] not in ("%", self.unit):
            raise ValueError(f'the margin is in "%" or in "{self.unit}", not "{self.margin[1]}"')
        if self.share_margin is not None and self.share_margin >= 1:
            raise ValueError("the margin must be below 100 %")
        return self

    @model_validator(mode="after")
    def _unit_fits_source(self) -> Metric:
        if isinstance(self.source, str) and self.unit not in PROCESS_UNITS[self.source]:
            units = ", ".join(PROCESS_UNITS[self.source])
            raise ValueError(f'{self.source} is read in {units}, not in "{self.unit}"')
        return self


def derive(name: str, metric: Metric) -> dict[str, Metric]:
    """The metrics that are made of one: itself, or what its trace comes to.

    Of frame times: the average rate, the rates at the 99th and the 99.9th percentile of
    frame time, that of the slowest hundredth together, the share of time in frames longer
    than the limit, and stutters per minute. Of a soak: peak, mean, floor, the mean of the
    last quarter, its share of the first quarter, onset, depth and recovery of throttling,
    and mean and maximum of a second channel.
    """
    if metric.kind == "value":
        return {name: metric}
    rows, leading = _parts_of_frames(metric) if metric.kind == "frames" else _parts_of_soak(metric)
    return {
        f"{name}/{part}": metric.model_copy(
            update={
                "unit": unit,
                "better": better,
                "primary": metric.primary and part in leading,
                "resolution": None,
                "plausible": None,
                "margin": metric.margin if metric.share_margin is not None else None,
            }
        )
        for part, unit, better in rows
    }


_Parts = list[tuple[str, str, str]]


def _parts_of_frames(metric: Metric) -> tuple[_Parts, tuple[str, ...]]:
    """Name, unit and better direction of what frame times come to, and which parts lead."""
    parts = [(part, "fps", "higher") for part in ("rate", "1%-low", "0.1%-low", "slowest-1%")]
    parts += [("over-limit", "%", "lower")] if metric.limit is not None else []
    return [*parts, ("stutters", "1/min", "lower")], ("rate", "1%-low")


def _parts_of_soak(metric: Metric) -> tuple[_Parts, tuple[str, ...]]:
    """The same of a soak."""
    unit, better = metric.unit, metric.better
    parts: _Parts = [(part, unit, better) for part in ("peak", "mean", "floor", "last-quarter")]
    parts += [("sustained", "%", better), ("onset", "s", "higher")]
    parts += [("depth", "%", "lower"), ("recovery", "s", "lower")]
    if isinstance(metric.source, TraceSource) and metric.source.second is not None:
        second, own = metric.source.second, metric.source.second_unit or ""
        parts += [(f"{second}-mean", own, "lower"), (f"{second}-max", own, "lower")]
    return parts, ("last-quarter",)
