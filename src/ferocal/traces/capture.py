"""Captures of a trace, and what a study says of the trace."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal

from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    import numpy as np

# Which values are better; of some quantities neither is.
Direction = Literal["higher", "lower", "none"]
# Columns of equal length by their role: "value", and where known "time" (s) and other channels.
CaptureColumns = Mapping[str, "np.ndarray"]


class RowError(ValueError):
    """A number of a capture that cannot be true: in which row, from 0, of the column of a role."""

    def __init__(self, text: str, row: int, role: str = "value") -> None:
        super().__init__(text)
        self.row = row
        self.role = role


class TraceError(ValueError):
    """A trace that cannot be read, or that cannot be true.

    Where that is known, ``capture`` is the place of the capture among those of the run, ``row``
    counts from 0 in its columns, and ``role`` is that of the column.
    """

    def __init__(
        self, text: str, *, capture: int | None = None, row: int | None = None, role: str = "value"
    ) -> None:
        super().__init__(text)
        self.capture = capture
        self.row = row
        self.role = role

    @classmethod
    def of(cls, error: ValueError, capture: int | None) -> TraceError:
        """What is wrong with a capture."""
        if isinstance(error, RowError):
            return cls(str(error), capture=capture, row=error.row, role=error.role)
        return cls(str(error), capture=capture)


@dataclass(frozen=True)
class Channel:
    """Another quantity beside the values of a trace: its name, unit and role in the capture."""

    name: str
    unit: str
    better: Direction
    role: str

    @property
    def label(self) -> str:
        """What it is called, with its unit."""
        return f"{self.name}, {self.unit}" if self.unit else self.name


@dataclass(frozen=True)
class TraceSpec:
    """What a study says of a trace.

    ``limit`` is a frame time in seconds; sessions are ``short`` up to some time and ``long`` from
    some time on, both in seconds. With ``stamps`` the numbers are times at which
    frames were shown. Values without times follow each other after ``interval`` (s).
    ``channels`` are what else was read beside the values.
    """

    unit: str
    better: Direction
    limit: float | None = None
    stamps: bool = False
    interval: float | None = None
    channels: tuple[Channel, ...] = ()
    short: float | None = None
    long: float | None = None


@dataclass(frozen=True)
class Trace:
    """A series that a run wrote, as one capture of a metric of some kind."""

    metric: str
    kind: str
    unit: str
    columns: CaptureColumns
