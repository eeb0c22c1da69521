"""Metrics of a workload: what is read, from where, and within which limits."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Discriminator, Field, Tag, model_validator

from ferocal.study.base import Table
from ferocal.study.quantities import Amount


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


ProcessSource = Literal["wall-time", "cpu-time", "peak-memory"]


def _kind_of_source(value: Any) -> str:
    if isinstance(value, str):
        return "a-process-source"
    # Values are models, instead of tables of the file, when the study is written out.
    keys = value if isinstance(value, dict) else {type(value): None}
    return "a-json-source" if "json" in keys or JsonSource in keys else "a-pattern-source"


Source = Annotated[
    Annotated[ProcessSource, Tag("a-process-source")]
    | Annotated[JsonSource, Tag("a-json-source")]
    | Annotated[PatternSource, Tag("a-pattern-source")],
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


class Metric(Table):
    """What is read from a run: where it stands, its unit, and which way is better.

    ``margin`` is a share, or an amount in the metric's own unit for what may be zero or
    negative. ``resolution`` is the smallest step that a reading can tell, ``plausible`` the
    lowest and highest value that can be true, both in the unit. ``statistic`` is what the
    workload's own number is of several values; ``samples`` is where it tells how many.
    """

    unit: str
    better: Literal["higher", "lower"]
    source: Source
    primary: bool = False
    margin: Amount | None = None
    resolution: float | None = Field(default=None, gt=0)
    plausible: tuple[float, float] | None = None
    statistic: Literal["single", "mean", "median", "best"] = "single"
    samples: CountSource | None = None

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
