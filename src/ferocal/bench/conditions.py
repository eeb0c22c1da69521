"""Conditions around a run: load, memory, temperature, power, and who else is busy."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import psutil

from ferocal.bench import _linux
from ferocal.terms.conditions import label_of

# Other processes that use more than this share of the machine are named.
BUSY_SHARE = 0.10
# Processor times are counted in ticks of 10 ms: shorter runs say nothing of others.
_SHORTEST = 0.2
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
        return [label_of(key) for key in SOURCES if key not in self._readable]

    def read(self) -> dict[str, Any]:
        """The conditions now; None for what cannot be read this once."""
        return {name: _try(read) for name, read in self._readable.items()}


def _try(read: Callable[[], Any]) -> Any:
    try:
        return read()
    except (OSError, NotImplementedError, AttributeError):
        return None  # the reader names it once among its `unreadable` ones


@dataclass(frozen=True)
class _Times:
    at: float
    busy: float
    ferocal: float


class BusyMeter:
    """Tells which share of the machine others used during a stretch of time."""

    def __init__(self) -> None:
        self._by_process = _process_times()
        self._start = _times()

    def begin(self) -> None:
        """Begin a stretch."""
        self._start = _times()

    def end(self, cpu_of_run: float | None) -> tuple[float | None, list[str]]:
        """Share of the machine that others used since, and who they are if it is much.

        ``cpu_of_run`` is the processor time of the run itself, in seconds.
        """
        now = _times()
        wall = now.at - self._start.at
        if wall < _SHORTEST or cpu_of_run is None:
            return None, []
        others = now.busy - self._start.busy - (now.ferocal - self._start.ferocal) - cpu_of_run
        share = max(0.0, others / wall / (psutil.cpu_count() or 1))
        return share, self._name_busiest() if share > BUSY_SHARE else []

    def _name_busiest(self) -> list[str]:
        before, self._by_process = self._by_process, _process_times()
        used = [
            (seconds - before.get(key, 0.0), key[1])
            for key, seconds in self._by_process.items()
            if key[0] != os.getpid()
        ]
        return [name for seconds, name in sorted(used, reverse=True)[:_MOST_NAMED] if seconds > 0.1]


def _times() -> _Times:
    times = psutil.cpu_times()
    idle = times.idle + getattr(times, "iowait", 0.0)
    total = sum(getattr(times, field) for field in times._fields if not field.startswith("guest"))
    return _Times(time.monotonic(), total - idle, time.process_time())


def _process_times() -> dict[tuple[int, str], float]:
    found = {}
    for process in psutil.process_iter(["pid", "name", "cpu_times"]):
        times = process.info["cpu_times"]
        if times is not None:
            found[process.info["pid"], process.info["name"]] = times.user + times.system
    return found
