"""A look at the noise of this machine: a fixed loop in many short processes."""

from __future__ import annotations

import json
import math
import time
from collections.abc import Callable
from typing import Any

from ferocal.bench.conditions import BusyMeter
from ferocal.bench.execution import Invocation
from ferocal.bench.machine import Machine
from ferocal.errors import FerocalError
from ferocal.terms.frozen import dataclass

# About 15 ms of whole numbers on a processor of today, told in seconds of wall and processor time.
_LOOP = """
import json, time
wall, cpu, total = time.perf_counter(), time.process_time(), 0
for n in range(200_000):
    total += n * n % 7
print(json.dumps([time.perf_counter() - wall, time.process_time() - cpu]))
"""
# Stretches stand for visits: long enough for a few processes, many enough to differ.
_STRETCHES = 20
LEAST_STRETCHES = 3
_FEWEST_RUNS = 3


@dataclass(frozen=True)
class Stretch:
    """Some seconds of the look: times of the loop (s), and what was seen meanwhile.

    ``others`` and ``stolen`` are shares of the processors, None where the system does not say;
    ``conditions`` are those at its end.
    """

    walls: tuple[float, ...]
    others: float | None
    stolen: float | None
    names: tuple[str, ...]
    conditions: dict[str, Any]


@dataclass(frozen=True)
class NoiseLook:
    """What was seen of this machine; ``timer`` is the smallest step of its clock (s)."""

    seconds: float
    stretches: tuple[Stretch, ...]
    timer: float
    unreadable: tuple[str, ...]


def look_at_noise(machine: Machine, seconds: float, progress: Callable[[float], None]) -> NoiseLook:
    """Run the loop for so many seconds; ``progress`` is told how many have passed since last.

    Raises
    ------
    FerocalError
        When the loop does not run, or no three stretches could be made of the time.
    """
    meter = machine.meter()
    invocation = Invocation((machine.place.python, "-c", _LOOP), machine.place.directory)
    machine.run(invocation)  # the first has to load what the others find loaded
    began = time.monotonic()
    stretches: list[Stretch] = []
    while time.monotonic() - began < seconds or len(stretches) < LEAST_STRETCHES:
        started = time.monotonic()
        stretches.append(_take(machine, invocation, meter, seconds / _STRETCHES))
        progress(time.monotonic() - started)
    passed = time.monotonic() - began
    return NoiseLook(passed, tuple(stretches), timer_step(), tuple(machine.unreadable))


def _take(
    machine: Machine,
    invocation: Invocation,
    meter: BusyMeter,
    seconds: float,
) -> Stretch:
    """One stretch of processes, one after the other."""
    began = time.monotonic()
    meter.begin()
    walls: list[float] = []
    used: float | None = 0.0
    while time.monotonic() - began < seconds or len(walls) < _FEWEST_RUNS:
        completed = machine.run(invocation)
        if completed.failure is not None:
            raise FerocalError(f"the loop {completed.failure}: {completed.complaint}")
        walls.append(float(json.loads(completed.text)[0]))
        used = None if used is None or completed.cpu is None else used + completed.cpu
    busy = meter.end(used)
    return Stretch(tuple(walls), busy.others, busy.stolen, busy.names, machine.conditions())


def timer_step(tries: int = 2000) -> float:
    """The smallest step that the clock of this machine shows (s)."""
    smallest = math.inf
    for _ in range(tries):
        first = time.perf_counter_ns()
        second = first
        while second == first:
            second = time.perf_counter_ns()
        smallest = min(smallest, second - first)
    return smallest / 1e9
