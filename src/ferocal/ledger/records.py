"""What goes into the ledger and what comes out, as plain values."""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import field
from enum import StrEnum
from typing import Any

from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.traces.capture import Trace

# Of a longer output, so many bytes of its beginning and of its end are kept.
KEPT_BYTES = 256 * 2**10


class Outcome(StrEnum):
    """How a run ended."""

    RUNNING = "running"
    OK = "ok"
    FAILED = "failed"
    TIMEOUT = "timeout"
    # What a timeout was called by earlier versions; only read, and shown as one.
    OVERRAN = "overran"
    INTERRUPTED = "interrupted"
    DISTURBED = "disturbed"
    NOT_ACTIVE = "not active"


# Outcomes after which a run is not taken again.
FAILURES = (Outcome.FAILED, Outcome.TIMEOUT, Outcome.OVERRAN)
SETTLED = (Outcome.OK, *FAILURES)


@dataclass(frozen=True)
class SessionRecord:
    """A call of `measure`, `enter` or `load` about to be recorded.

    ``study_file`` is the text of the study file, ``criteria`` what of it judges. ``bench``
    is None where readings of several benches are recorded together. ``merged`` are those that
    were recorded in another ledger. ``imported_as`` is how the tables of a file were understood,
    ``operator`` who did it, if that is stated.
    """

    version: str
    overhead: Mapping[str, Any]
    rounds: int
    decide: bool
    bench: str | None
    study_file: str
    criteria: Mapping[str, Any]
    kind: str = "measure"
    source: str | None = None
    digest: str | None = None
    merged: bool = False
    imported_as: Mapping[str, Any] | None = None
    operator: str | None = None


@dataclass(frozen=True)
class VisitRecord:
    """A visit about to be recorded.

    ``switching`` is how long it took to bring the bench there, in seconds; ``checks``,
    ``facts``, ``subjects`` and ``remarks`` are JSON values. ``padding`` is the random part of
    the size of the environment, in bytes, None where it is not padded.
    """

    bench: str
    configuration: str
    levels: Mapping[str, str]
    round: int
    position: int
    switching: float
    state: str
    checks: Sequence[Mapping[str, Any]]
    facts: Sequence[Mapping[str, Any]]
    subjects: Mapping[str, Any]
    remarks: Sequence[str]
    padding: int | None = None


@dataclass(frozen=True)
class StepRecord:
    """Something done to the bench: a switch, leave or renew step, or a hold.

    What prepares a session is of no factor and no level, both empty.

    ``state`` is "done" or "failed", for a hold "waiting", "continued" or "skipped".
    """

    bench: str
    kind: str
    factor: str
    level: str
    state: str
    text: str
    seconds: float | None = None
    output: bytes | None = None


@dataclass(frozen=True)
class NoiseFloorRecord:
    """A noise floor from another study, for one metric; see `analysis.inference.noise_floors`.

    ``measured_at`` is the time of the last visit behind it, ``source`` where it is from.
    """

    bench: str
    workload: str
    metric: str
    unit: str
    scale: str
    variance: float
    degrees: int
    runs: float
    run_variance: float | None
    run_degrees: int
    measured_at: str
    source: str


@dataclass(frozen=True)
class Value:
    """One reading of a run.

    ``samples`` counts the single values that it summarises; ``low`` and ``high`` are the
    ends of a range read off a moving display; ``resolution`` is in the unit. With a ``bound``
    ("<" or ">") the true value is below or above. ``statistic`` is what the number is of
    several values, None where the study file says it.
    """

    workload: str
    metric: str
    unit: str
    value: float
    samples: int | None = None
    low: float | None = None
    high: float | None = None
    resolution: float | None = None
    bound: str | None = None
    statistic: str | None = None


class Mark(StrEnum):
    """Why there is no reading where one was asked for."""

    ABSENT = "absent"
    NOT_ACTIVE = "not active"


@dataclass(frozen=True)
class Absence:
    """A reading that could not be taken: how that is called, and the reason if one was given."""

    workload: str
    metric: str
    unit: str
    mark: str
    reason: str | None = None


@dataclass(frozen=True)
class Note:
    """What numbers do not show, on what it names, or else on the whole study.

    ``date`` is when that was seen, as ISO 8601, and ``source`` where, as far as stated.
    """

    text: str
    configuration: str | None = None
    workload: str | None = None
    run: str | None = None
    date: str | None = None
    source: str | None = None

    @property
    def subject(self) -> str:
        """What it is on, in words."""
        kinds = ("configuration", "workload", "run")
        named = [f"{kind} {getattr(self, kind)}" for kind in kinds if getattr(self, kind)]
        return ", ".join(named) or "study"


@dataclass(frozen=True)
class Ending:
    """How a run ended, and what it yielded. ``wall`` is in seconds."""

    outcome: Outcome
    reason: str | None = None
    wall: float | None = None
    values: Sequence[Value] = ()
    traces: Sequence[Trace] = ()
    streams: Mapping[str, tuple[bytes, int]] = field(default_factory=dict)
    exit_status: int | None = None
    conditions: Mapping[str, Any] | None = None
    absences: Sequence[Absence] = ()


@dataclass(frozen=True)
class Slot:
    """The place of a run in the plan."""

    round: int
    configuration: str
    workload: str
    number: int


def pack(content: bytes) -> bytes:
    """Compress an output for keeping; the middle of a long one is left out."""
    if len(content) > 2 * KEPT_BYTES:
        left_out = len(content) - 2 * KEPT_BYTES
        gap = f"\n[… {grouped(left_out)} bytes left out …]\n".encode()
        content = content[:KEPT_BYTES] + gap + content[-KEPT_BYTES:]
    return zlib.compress(content, 6)


@dataclass(frozen=True)
class Reference:
    """A result from elsewhere, for context only: there are no runs behind it.

    ``value`` is in ``unit``; a range has ``low`` and ``high``, a ``bound`` (">" or "<") says that
    the true value is above or below. ``date`` is when it was measured or published, ``retrieved``
    when it was looked up, as ISO 8601, "" unless stated.
    """

    device: str
    workload: str
    metric: str
    unit: str
    value: float
    low: float | None
    high: float | None
    bound: str | None
    source: str
    date: str
    retrieved: str
