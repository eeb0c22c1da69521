"""Conditions around the runs: what they are called, and which differences matter."""

from __future__ import annotations

from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Condition:
    """A condition that is read before and after every run.

    ``key`` names it in the ledger and in JSON, ``label`` in sentences. Differences below
    ``least`` are not worth a word, however certain they are.
    """

    key: str
    label: str
    least: float = 0.0


BUSY_SHARE_OF_OTHERS = "busy_share_of_others"
# Others that take more than this share of the processors may have slowed a run.
BUSY_LIMIT = 0.10
BUSY_RESOLUTION = "busy_resolution"
BUSIEST_OTHERS = "busiest_others"
STOLEN_SHARE = "stolen_share"
TEMPERATURE = "temperature_celsius"
AMBIENT = "ambient_celsius"
PROCESSORS_ALLOWED = "processors_allowed"
UTILISATION = "utilisation"
LEFT_BEHIND = "left_behind"
CONDITIONS: dict[str, Condition] = {
    condition.key: condition
    for condition in (
        Condition("load", "load", 0.25),
        Condition("free_memory_mib", "free memory, MiB", 256.0),
        Condition(TEMPERATURE, "temperature, °C", 1.0),
        Condition(AMBIENT, "ambient temperature, °C", 1.0),
        Condition("battery_percent", "battery, %", 5.0),
        Condition("on_mains", "power source"),
        Condition("clock_mhz", "clock, MHz", 50.0),
        Condition("governor", "CPU governor"),
        Condition(BUSY_SHARE_OF_OTHERS, "processor share of other processes", 0.02),
        Condition(STOLEN_SHARE, "steal (share taken by the host)", 0.02),
    )
}


def label_of(key: str) -> str:
    """What a condition is called in sentences; probes of the study by their names."""
    return CONDITIONS[key].label if key in CONDITIONS else key


def least_difference(key: str) -> float:
    """The smallest difference of a condition that matters, in its unit."""
    return CONDITIONS[key].least if key in CONDITIONS else 0.0
