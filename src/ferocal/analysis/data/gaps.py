"""Cells without a reading, and why each is empty."""

from __future__ import annotations

from enum import StrEnum

from ferocal.terms.frozen import dataclass


class GapMark(StrEnum):
    """Why a cell has no reading."""

    IMPOSSIBLE = "impossible"
    NOT_ACTIVE = "not active"
    FAILED = "failed"
    ABSENT = "absent"
    NOT_MEASURED = "not measured"


@dataclass(frozen=True)
class Gap:
    """A cell without a reading; ``reason`` is "" where nothing more is known."""

    bench: str
    workload: str
    metric: str
    configuration: str
    mark: GapMark
    reason: str = ""
