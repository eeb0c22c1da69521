"""Conditions around a run: load, memory, temperature, power, and who else is busy."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from typing import Any

import psutil

from ferocal.bench import _linux
from ferocal.study.benches import Quiet
from ferocal.terms.conditions import BUSY_LIMIT, label_of
from ferocal.terms.frozen import dataclass

# Processor times are counted in ticks of 10 ms, so that a stretch is known to two of them.
_TICKS = 0.02
_MOST_NAMED = 3


def _load() -> float:
    return psutil.getloadavg()[0]


def _free_memory() -> float:
    return float(psutil.virtual_memory().available) / 2**20


def _temperature() -> float | None:
    read: Callable[[], dict[str, Any]] = getattr(psutil, "sensors_temperatures", dict)
    return max((sensor.current for group in read().values() for sensor in group), default=None)


def _battery(field: str) -> Callable[[], Any]:
    def read() -> Any:
        battery = getattr(psutil, "sensors_battery", lambda: None)()
        return None if battery is None else getattr(battery, field)

    return read


def _clock() -> float | None:
    frequency = psutil.cpu_freq()
    return None if frequency is None else frequency.current


SOURCES: dict[str, Callable[[], Any]] = {
    "load": _load,
    "free_memory_mib": _free_memory,
    "temperature_celsius": _temperature,
    "battery_percent": _battery("percent"),
    "on_mains": _battery("power_plugged"),
    "clock_mhz": _clock,
    "governor": _linux.governor,
}


class ConditionReader:
    """Reads the conditions that can be read on this machine; finds out once which these are."""

    def __init__(self) -> None:
        self._readable = {name: read for name, read in SOURCES.items() if _try(read) is not None}

    @property
    def unreadable(self) -> list[str]:
        """Conditions that cannot be read on this machine."""
        return [label_of(key).partition(",")[0] for key in SOURCES if key not in self._readable]

    def read(self) -> dict[str, Any]:
        """The conditions now; None for what cannot be read this once."""
        return {name: _try(read) for name, read in self._readable.items()}


def _try(read: Callable[[], Any]) -> Any:
    try:
        return read()
    except (OSError, NotImplementedError, AttributeError):
        return None  # the reader names it once among its `unreadable` ones


@dataclass(frozen=True)
class Busy:
    """What others took of the processors during a stretch of time, as shares of all of them.

    ``others`` is the share of other processes, None where the run's own is unknown, and
    ``stolen`` that which the host of a virtual machine withheld, None where the system does
    not say. Both are known to ``resolution``; ``names`` are the busiest of the others, if
    they were busy.
    """

    others: float | None
    stolen: float | None
    resolution: float
    names: tuple[str, ...]


def disturbance(quiet: Quiet, busy: Busy) -> str | None:
    """Why a run with so busy others is disturbed, None if it is not.

    Only what surely was above the limit counts, by more than its resolution.
    """
    rules = (
        (busy.others, quiet.others_below, "others took"),
        (busy.stolen, quiet.stolen_below, "the host withheld"),
    )
    for share, below, verb in rules:
        if share is not None and below is not None and share - busy.resolution >= below:
            who = f": {', '.join(busy.names)}" if busy.names and verb == "others took" else ""
            return f"{verb} {share:.0%} of the processors, not below {below:.0%}{who}"
    return None


@dataclass(frozen=True)
class Times:
    """Processor times (s) of a machine at one time, by its clock: of all, of Ferocal, withheld.

    ``stolen`` is None where the system does not say.
    """

    at: float
    busy: float
    ferocal: float
    stolen: float | None
    processors: int


def read_times() -> Times:
    """The processor times of this machine now."""
    times = psutil.cpu_times()
    idle = times.idle + getattr(times, "iowait", 0.0)
    total = sum(getattr(times, field) for field in times._fields if not field.startswith("guest"))
    stolen = getattr(times, "steal", None)
    # What the host withholds, no process of this machine has used.
    busy = total - idle - (stolen or 0.0)
    return Times(time.monotonic(), busy, time.process_time(), stolen, psutil.cpu_count() or 1)


# Processor time (s) by number and name of a process.
ByProcess = Mapping[tuple[int, str], float]


def read_by_process() -> ByProcess:
    """What every other process of this machine has used so far."""
    found = {}
    for process in psutil.process_iter(["pid", "name", "cpu_times"]):
        times = process.info["cpu_times"]
        if times is not None and process.info["pid"] != os.getpid():
            found[process.info["pid"], process.info["name"]] = times.user + times.system
    return found


class BusyMeter:
    """Tells which share of a machine others used during a stretch of time."""

    def __init__(
        self,
        times: Callable[[], Times | None] = read_times,
        by_process: Callable[[], ByProcess] = read_by_process,
    ) -> None:
        self._read_times, self._read_by_process = times, by_process
        self._by_process = by_process()
        self._start = times()

    def begin(self) -> None:
        """Begin a stretch."""
        self._start = self._read_times()

    def end(self, cpu_of_run: float | None) -> Busy:
        """What others took since; ``cpu_of_run`` is the run's own processor time (s)."""
        now, start = self._read_times(), self._start
        if now is None or start is None:
            return Busy(None, None, 0.0, ())
        processors = now.processors
        capacity = max(now.at - start.at, 1e-6) * processors
        share, resolution = None, _TICKS * processors / capacity
        if cpu_of_run is not None:
            others = now.busy - start.busy - (now.ferocal - start.ferocal) - cpu_of_run
            share = min(1.0, max(0.0, others / capacity))
        busy = share is not None and share - resolution > BUSY_LIMIT
        stolen = None
        if now.stolen is not None and start.stolen is not None:
            stolen = min(1.0, max(0.0, (now.stolen - start.stolen) / capacity))
        return Busy(share, stolen, resolution, self._name_busiest() if busy else ())

    def _name_busiest(self) -> tuple[str, ...]:
        before, self._by_process = self._by_process, self._read_by_process()
        used = [
            (seconds - before.get(key, 0.0), key[1]) for key, seconds in self._by_process.items()
        ]
        busiest = sorted(used, reverse=True)[:_MOST_NAMED]
        return tuple(name for seconds, name in busiest if seconds > 0.1)
