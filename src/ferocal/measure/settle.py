"""Waiting until the bench has settled, up to a timeout."""

from __future__ import annotations

import time
from typing import Any

from ferocal.bench.conditions import BusyMeter
from ferocal.bench.machine import Machine
from ferocal.measure.progress import Observer
from ferocal.study.benches import Settle
from ferocal.terms.conditions import BUSY_LIMIT, label_of

_LOOK_EVERY = 0.5


def settle(rules: Settle, machine: Machine, observer: Observer) -> list[str]:
    """Wait as the rules say; returns what was not reached within the timeout."""
    if rules.pause is not None:
        observer.doing(f"pausing {rules.pause:g} s")
        time.sleep(rules.pause)
    end = time.monotonic() + rules.timeout
    meter, quiet_since = machine.meter(), time.monotonic()
    busy: tuple[str, ...] = ()
    while True:
        unmet = _unmet_conditions(rules, machine.conditions())
        if rules.idle_for is not None:
            busy, quiet_since = _look_for_others(meter, busy, quiet_since)
            if time.monotonic() - quiet_since < rules.idle_for:
                who = f" ({', '.join(busy)})" if busy else ""
                unmet.append(f"others{who} used more than {BUSY_LIMIT:.0%} of the machine")
        if not unmet:
            return []
        if time.monotonic() >= end:
            return [f"not settled within {rules.timeout:g} s: {text}" for text in unmet]
        observer.doing(f"settling: {unmet[0]}")
        meter.begin()
        time.sleep(_LOOK_EVERY)


def _unmet_conditions(rules: Settle, now: dict[str, Any]) -> list[str]:
    wanted = {"load": rules.load_below, "temperature_celsius": rules.temperature_below}
    unmet = []
    for key, below in wanted.items():
        if below is None:
            continue
        name, value = label_of(key), now.get(key)
        if value is None:
            unmet.append(f"{name} cannot be read here")
        elif value >= below:
            unmet.append(f"{name} {value:.3g} is not below {below:g}")
    return unmet


def _look_for_others(
    meter: BusyMeter, busy: tuple[str, ...], quiet_since: float
) -> tuple[tuple[str, ...], float]:
    """Who was busy, and since when none has been."""
    seen = meter.end(0.0)
    if seen.others is not None and seen.others - seen.resolution > BUSY_LIMIT:
        return seen.names, time.monotonic()
    return busy, quiet_since
