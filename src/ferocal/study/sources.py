"""Where metrics are read from: one table of sources, and their forms in the study file."""

from __future__ import annotations

import re
import warnings
from collections.abc import Mapping
from dataclasses import field
from typing import Annotated, Any, Literal, TypeVar

from pydantic import AfterValidator, Discriminator, Field, Tag, model_validator

from ferocal.study.base import StudyTable
from ferocal.study.quantities import Seconds
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import DATA, TIME
from ferocal.traces.capture import Channel, Direction


def compile_pattern(pattern: str, flags: re.RegexFlag = re.MULTILINE) -> re.Pattern[str]:
    """A pattern as it is looked for; unless stated, ^ and $ are the ends of lines.

    Raises
    ------
    ValueError
        When it is no regular expression.
    """
    try:
        with warnings.catch_warnings():
            # What "[[" may once mean is nothing that the user has to be told.
            warnings.simplefilter("ignore", FutureWarning)
            return re.compile(pattern, flags)
    except (re.error, RecursionError, OverflowError) as error:
        raise ValueError(f"is not a regular expression: {error}") from None


def _check_pattern(pattern: str) -> str:
    groups = compile_pattern(pattern).groups
    if groups != 1:
        raise ValueError(f"needs exactly one group around the number; it has {groups}")
    return pattern


def _check_pointer(pointer: str) -> str:
    if pointer and not pointer.startswith("/"):
        raise ValueError(f'is not a JSON Pointer; write "/{pointer}"')
    return pointer


Pointer = Annotated[str, AfterValidator(_check_pointer)]


class JsonSource(StudyTable):
    """A number in JSON output, addressed by a JSON Pointer (RFC 6901)."""

    json_pointer: Pointer = Field(alias="json")


class PatternSource(StudyTable):
    """A number in textual output, found by a regular expression with one group."""

    pattern: Annotated[str, AfterValidator(_check_pattern)]


_Text = TypeVar("_Text", bound=str)


def _listed(value: _Text | tuple[_Text, ...] | None) -> tuple[_Text, ...]:
    """One or more as several."""
    if value is None:
        return ()
    return value if isinstance(value, tuple) else (value,)


class TraceSource(StudyTable):
    """A series of numbers that a run wrote: frame times, or values over time.

    ``file`` names the file that the workload wrote (a pattern like "frames-*.csv" names
    several captures), ``output`` says that they stand in its output, a number per line or
    as CSV. Of a table, ``column`` holds the numbers, ``time`` the time of each (s), and
    ``second`` another channel such as temperature, in ``second-unit``, which is not judged
    unless ``second-better`` says which way; several channels are lists. Values without times
    follow each other after ``interval``, a second unless given. With ``stamps`` the numbers
    are the times at which frames were shown, instead of how long each lasted. The first
    ``skip`` numbers are warm-up, and are left out.
    """

    file: str | None = None
    output: Literal["lines", "csv"] | None = None
    column: str | None = None
    time: str | None = None
    second: str | tuple[str, ...] | None = None
    second_unit: str | tuple[str, ...] | None = None
    second_better: Direction | tuple[Direction, ...] = "none"
    stamps: bool = False
    skip: int = Field(default=0, ge=0)
    interval: Seconds | None = None

    @model_validator(mode="after")
    def _one_place(self) -> TraceSource:
        if (self.file is None) == (self.output is None):
            raise ValueError("a trace needs either a file or the output as its source")
        if self.column is None and (self.time or self.second):
            raise ValueError("time and second name columns of a table: add column")
        if (self.second is None) != (self.second_unit is None):
            raise ValueError("second and second-unit need each other")
        names, units = _listed(self.second), _listed(self.second_unit)
        if len(names) != len(units) or len(_listed(self.second_better)) not in (1, len(names)):
            raise ValueError("second, second-unit and second-better need lists of equal length")
        if len(set(names)) < len(names):
            raise ValueError("second names a column twice")
        return self

    @property
    def channels(self) -> tuple[Channel, ...]:
        """The other channels, in order; the roles of their columns are "second", "second-2", …."""
        names, units = _listed(self.second), _listed(self.second_unit)
        ways: tuple[Direction, ...] = _listed(self.second_better)
        ways = ways if len(ways) == len(names) else ways * len(names)
        return tuple(
            Channel(name, unit, way, "second" if n == 1 else f"second-{n}")
            for n, (name, unit, way) in enumerate(zip(names, units, ways, strict=True), 1)
        )

    @property
    def columns(self) -> dict[str, str]:
        """The names of columns by what they hold; none where there is a number per line."""
        named = {"value": self.column, "time": self.time}
        known = {role: name for role, name in named.items() if name is not None}
        return known | {channel.role: channel.name for channel in self.channels}


# Stands for the source of a trace that nothing but loaded captures has.
LOADED = TraceSource(file="*")

ProcessSource = Literal["wall-time", "cpu-time", "peak-memory"]


@dataclass(frozen=True)
class SourceEntry:
    """A source of metrics.

    ``key`` is the word that names it in the study file and ``meaning`` what it reads.
    ``model`` is the table that it is written as, None where the word alone is the source.
    ``units`` are the sizes of the units in which it can be read, empty for any unit.
    """

    key: str
    meaning: str
    model: type[StudyTable] | None = None
    units: Mapping[str, float] = field(default_factory=dict)

    @property
    def tag(self) -> str:
        """The name of its form among all forms of a source."""
        form = "Process" if self.model is None else self.model.__name__.removesuffix("Source")
        return f"a-{form.lower()}-source"


SOURCES: dict[str, SourceEntry] = {
    entry.key: entry
    for entry in (
        SourceEntry("json", "a number in JSON output, by a JSON Pointer (RFC 6901)", JsonSource),
        SourceEntry(
            "pattern", "a number in textual output, by a regular expression", PatternSource
        ),
        SourceEntry("file", "a trace in a file that the workload wrote", TraceSource),
        SourceEntry("output", "a trace in the output of the workload", TraceSource),
        SourceEntry("wall-time", "how long the run took", units=TIME),
        SourceEntry("cpu-time", "processor time of all processes of the run", units=TIME),
        SourceEntry("peak-memory", "largest resident memory of a process of the run", units=DATA),
    )
}


def form_of_source(value: Any) -> str:
    """The tag of the form that a value has: a word, a table of the file, or its model."""
    if isinstance(value, str):
        return "a-process-source"
    # Values are models, instead of tables of the file, when the study is written out.
    for entry in SOURCES.values():
        if isinstance(value, dict) and entry.key in value:
            return entry.tag
        if entry.model is not None and isinstance(value, entry.model):
            return entry.tag
    return SOURCES["pattern"].tag


Source = Annotated[
    Annotated[ProcessSource, Tag("a-process-source")]
    | Annotated[JsonSource, Tag("a-json-source")]
    | Annotated[PatternSource, Tag("a-pattern-source")]
    | Annotated[TraceSource, Tag("a-trace-source")],
    Discriminator(form_of_source),
]

CountSource = Annotated[
    Annotated[JsonSource, Tag("a-json-source")] | Annotated[PatternSource, Tag("a-pattern-source")],
    Discriminator(form_of_source),
]
