"""Metrics of a workload: what is read, from where, and within which limits."""

from __future__ import annotations

from typing import Any, Literal, get_args

from pydantic import Field, model_validator

from ferocal.study.base import StudyTable
from ferocal.study.quantities import Amount, Seconds
from ferocal.study.sources import LOADED, SOURCES, CountSource, Source, TraceSource
from ferocal.terms.bounds import LARGEST, SMALLEST
from ferocal.terms.roles import Role
from ferocal.terms.units import TIME, is_time
from ferocal.terms.wording import listed
from ferocal.traces.capture import Direction, TraceSpec
from ferocal.traces.kinds import KINDS, Part, TraceKind

# Reactions of a hand on a stopwatch differ by so much (s).
REACTION = 0.15
Statistic = Literal["single", "mean", "median", "best"]
STATISTICS: tuple[str, ...] = get_args(Statistic)
# What may be said of a reading besides: a display that settled within a range, the ends of
# repeats, and what came mostly of them, beside the best.
SETTLED, RANGE, USUAL = "settled", "range", "usual"
READ_AS = (SETTLED, RANGE, USUAL)


class Metric(StudyTable):
    """What is read from a run: where it stands, its unit, and which way is better.

    ``margin`` is a share, or an amount in the metric's own unit for what may be zero or
    negative. ``resolution`` is the smallest step that a reading can show, ``plausible`` the
    lowest and highest value that can be true, both in the unit. ``noise`` is how much visits
    vary (SD), as the analyst asserts: a share, or an amount in the unit. ``statistic`` is what the
    workload's own number is of several values; ``samples`` is where it says how many. ``title`` is
    what it is called in tables and sentences, unless that is its name. The range within which a
    display settled widens the interval only where ``range_counts``.

    A metric without source is read by an operator, who types it or, with ``read`` as
    "stopwatch", takes the time; that has a resolution of 0.15 s unless stated.

    A metric of the kind "frames" or "soak" is a trace, of which several metrics are
    computed; `derive` names them. ``part_margin`` and ``part_role`` give some of them a margin or
    a separate role. With ``short`` and ``long`` a soak has also the levels up to one time and
    from another on, for sessions of that length. Frames take a ``limit``: the share of time in
    longer frames is one of these metrics.

    A derived metric is computed ``from`` others of the run, or of other workloads of the visit,
    by a formula such as "page - idle"; unless stated, its unit is what that gives.

    ``role`` says what the metric is for: "primary" decides, "secondary" is judged beside,
    "detail" is shown on request, and "context" is never judged, so that ``better`` is "none".
    A score that is ``part_of`` another metric of the workload stands below that. Where it gets
    better while one of those to ``trade_off_with`` gets worse, or the other way round, that is
    told; of a rate and its lows, of time and energy, and of parts it is in any case.
    """

    kind: Literal["value", "frames", "soak"] = "value"
    unit: str = ""
    better: Direction
    limit: Seconds | None = None
    short: Seconds | None = None
    long: Seconds | None = None
    source: Source | None = None
    formula: str | None = Field(default=None, alias="from")
    read: Literal["typed", "stopwatch"] = "typed"
    role: Role = "secondary"
    part_of: str | None = None
    trade_off_with: tuple[str, ...] = ()
    margin: Amount | None = None
    part_margin: dict[str, Amount] = Field(default_factory=dict)
    part_role: dict[str, Role] = Field(default_factory=dict)
    noise: Amount | None = None
    resolution: float | None = Field(default=None, ge=SMALLEST, le=LARGEST)
    plausible: tuple[float, float] | None = None
    statistic: Statistic = "single"
    title: str = ""
    range_counts: bool = False
    samples: CountSource | None = None

    @property
    def step(self) -> float | None:
        """The smallest step that a reading can show: declared, or that of a stopwatch."""
        if self.resolution is None and self.read == "stopwatch":
            return REACTION / TIME[self.unit]
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

    @property
    def trace_kind(self) -> TraceKind | None:
        """The kind of trace that it is, None for a single value."""
        return KINDS.get(self.kind)

    def trace_part(self, name: str) -> Part | None:
        """The part of the trace that a metric of this name is, None where it is no trace."""
        if self.trace_kind is None:
            return None
        parts = {part.name: part for part in self.trace_kind.parts(self.trace_spec)}
        return parts.get(name.partition("/")[2])

    @property
    def assumes_times(self) -> bool:
        """Whether nothing says how far apart the values of a trace over time are.

        Of a trace without a source it is said where its captures are loaded.
        """
        source = self.source
        if self.kind != "soak" or not isinstance(source, TraceSource):
            return False
        return source.time is None and source.interval is None

    @property
    def trace_spec(self) -> TraceSpec:
        """What is said of the trace, without the place where it is read."""
        source = self.source if isinstance(self.source, TraceSource) else LOADED
        return TraceSpec(
            unit=self.unit,
            better=self.better,
            limit=self.limit,
            stamps=source.stamps,
            interval=source.interval,
            channels=source.channels,
            short=self.short,
            long=self.long,
        )

    @model_validator(mode="before")
    @classmethod
    def _defaults(cls, data: Any) -> Any:
        """What other keys imply: the unit of frames, the direction of a context."""
        if not isinstance(data, dict):
            return data
        if "primary" in data:
            raise ValueError('primary is a role: write role = "primary", or leave it out')
        kind = KINDS.get(str(data.get("kind")))
        if "from" not in data and "unit" not in data and kind is None:
            raise ValueError('the unit is missing: unit = "s"')
        if kind is not None:
            return {**kind.defaults, **data}
        if data.get("role") == "context":
            return {"better": "none", **data}
        return {"role": "context", **data} if data.get("better") == "none" else data

    @model_validator(mode="after")
    def _kind_fits(self) -> Metric:
        traced = isinstance(self.source, TraceSource)
        if self.source is not None and "read" in self.model_fields_set:
            raise ValueError(
                "read is for numbers that an operator reads: leave it out, or the source"
            )
        if self.read == "stopwatch" and not is_time(self.unit):
            raise ValueError(f'a stopwatch reads {", ".join(TIME)}, not "{self.unit}"')
        if self.source is not None and traced != (self.kind != "value"):
            kinds = " or ".join(f'"{name}"' for name in KINDS)
            raise ValueError(f"a source with file or output needs kind = {kinds}")
        kind = self.trace_kind
        if self.limit is not None and (kind is None or not kind.takes_limit):
            takers = " or ".join(f'"{name}"' for name, k in KINDS.items() if k.takes_limit)
            raise ValueError(f"limit needs kind = {takers}")
        sessions = [name for name in ("short", "long") if getattr(self, name) is not None]
        if sessions and (kind is None or not kind.takes_sessions):
            takers = " or ".join(f'"{name}"' for name, k in KINDS.items() if k.takes_sessions)
            raise ValueError(f"{sessions[0]} needs kind = {takers}")
        if kind is not None and kind.units is not None and self.unit not in kind.units:
            raise ValueError(f'{kind.name} are in {", ".join(kind.units)}, not in "{self.unit}"')
        if kind is not None and kind.direction not in (None, self.better):
            raise ValueError(f"for {kind.name}, {kind.direction} is better; leave `better` out")
        if kind is not None and self.better == "none":
            raise ValueError(f"for {kind.name} one direction is better: say which")
        return self

    @model_validator(mode="after")
    def _formula_fits(self) -> Metric:
        if self.formula is None:
            return self
        for key in ("source", "read", "resolution", "samples", "statistic", "noise"):
            if key in self.model_fields_set:
                raise ValueError(f"a derived metric (with `from`) cannot have `{key}`")
        if self.kind != "value":
            raise ValueError(
                f'kind = "{self.kind}" is a trace, which cannot be derived with `from`'
            )
        return self

    @model_validator(mode="after")
    def _role_fits(self) -> Metric:
        traced = self.trace_kind is not None
        if traced and self.role == "context":
            raise ValueError("a trace cannot be context as a whole: give its parts a part-role")
        if not traced and (self.role == "context") != (self.better == "none"):
            raise ValueError(
                f'better = "{self.better}" contradicts role = "{self.role}": a context metric is '
                'never judged and has better = "none"'
            )
        if traced and self.part_of is not None:
            raise ValueError("part-of needs a single value, not a trace")
        parts = self._parts
        for part, role in self.part_role.items():
            if part not in parts:
                raise ValueError(self._no_part("part-role", part))
            if (role == "context") != (parts[part].better == "none"):
                raise ValueError(f'part-role of {part} cannot be "{role}": see its direction')
        return self

    @property
    def _parts(self) -> dict[str, Part]:
        """The parts of a trace by name, none of a single value."""
        kind = self.trace_kind
        return {} if kind is None else {p.name: p for p in kind.parts(self.trace_spec)}

    def _no_part(self, key: str, part: str) -> str:
        if not self._parts:
            return f"{key} needs a trace"
        return f'{key}: no part "{part}"; the parts are {listed(list(self._parts))}'

    @model_validator(mode="after")
    def _part_margins_fit(self) -> Metric:
        parts = self._parts
        for part, (_, unit) in self.part_margin.items():
            if part not in parts:
                raise ValueError(self._no_part("part-margin", part))
            if unit not in ("%", parts[part].unit):
                raise ValueError(f'part-margin of {part} must be in "%" or "{parts[part].unit}"')
        return self

    @model_validator(mode="after")
    def _limits_are_right(self) -> Metric:
        if self.plausible is not None and not self.plausible[0] < self.plausible[1]:
            raise ValueError("plausible must be [lowest, highest], such as [0, 240]")
        units = ("%", self.unit)
        if self.formula is not None and not self.unit:
            return self  # its unit is not known yet
        if self.margin is not None and self.margin[1] not in units:
            raise ValueError(f'margin must be in "%" or "{self.unit}", not "{self.margin[1]}"')
        if self.noise is not None and self.noise[1] not in ("%", self.unit):
            raise ValueError(f'noise must be in "%" or "{self.unit}", not "{self.noise[1]}"')
        if self.share_margin is not None and self.share_margin >= 1:
            raise ValueError("the margin must be below 100 %")
        return self

    @model_validator(mode="after")
    def _unit_fits_source(self) -> Metric:
        if isinstance(self.source, str) and self.unit not in SOURCES[self.source].units:
            units = ", ".join(SOURCES[self.source].units)
            raise ValueError(f'{self.source} is read in {units}, not in "{self.unit}"')
        return self


def margins_of(name: str, metric: Metric, default: float) -> tuple[float, float | None]:
    """The margin of a metric, or the default: a share, and in its unit if differences are judged.

    A margin in per cent is one in points where the metric itself is a share of something.
    """
    share = metric.share_margin or default
    part = metric.trace_part(name)
    if metric.unit_margin is None and part is not None and part.in_points:
        return share, 100 * share
    return share, metric.unit_margin


def derive(name: str, metric: Metric) -> dict[str, Metric]:
    """The metrics that are computed of one: itself, or the parts of its trace."""
    kind = metric.trace_kind
    if kind is None:
        return {name: metric}
    return {
        f"{name}/{part.name}": metric.model_copy(
            update={
                "unit": part.unit,
                "better": part.better,
                "role": metric.part_role.get(part.name) or _role_of(part, metric),
                "resolution": None,
                "plausible": None,
                "margin": metric.part_margin.get(
                    part.name, metric.margin if metric.share_margin is not None else None
                ),
            }
        )
        for part in kind.parts(metric.trace_spec)
    }


def _role_of(part: Part, metric: Metric) -> Role:
    """The role of a part unless stated: that of the trace where it leads, else a detail."""
    if part.better == "none":
        return "context"
    return metric.role if part.leads else "detail"
