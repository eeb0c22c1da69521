"""Simulated kiosks and rented hosts, for the later chapters of the demo.

They are driven by commands, ``python lobby.py`` followed by ``carry foyer``,
``flash fw-1.06``, ``rent tarn-8``, ``identify firmware``, ``fact fan``, ``run kiosk-page`` or
``soak``, and answer in virtual time. The state lives in ``lobby-state`` in the directory from
which they are called. Visits and single runs vary; all of it follows from the seed
(environment variable LOBBY_SEED) and from what was done before.
"""

from __future__ import annotations

import marshal
import math
import os
import random
import sys

# It is started a thousand times in the demo: nothing that takes long to import.

STATE_FILE = "lobby-state"
DEFAULT_SEED = "4"
RUN_SD, VISIT_SD = 0.004, 0.006  # standard deviations on the log scale

FIRMWARE = tuple(f"fw-1.{number:02d}" for number in range(12))
# How much faster than the foyer's each kiosk is.
DEVICES = {"foyer": 0.0, "gallery": -0.02}
FAN = {"foyer": "80 mm", "gallery": "92 mm"}
# What falls at one release, and what creeps up over several, as changes of the logarithm.
PAGE_FALLS_AT, PAGE_FALLS_BY = "fw-1.06", math.log(0.95)
MEMORY_CREEPS, MEMORY_GROWS_BY = ("fw-1.02", "fw-1.09"), math.log(1.08)
# From this release on the fan waits: slower at first, and faster when it is hot.
FAN_WAITS_AT, SHORT_CHANGE, LONG_CHANGE = "fw-1.09", math.log(0.96), math.log(1.09)
SOAK_SECONDS, SOAK_STEP, SOAK_RATE, GETS_HOT = 3000, 5, 58.0, 20 * 60

# Scores of a kiosk with the first firmware: value and key.
KIOSK = {"kiosk-page": ("points", 312.0), "idle-memory": ("mib", 410.0)}
# Scores of the rented hosts: queries per second, seconds, MB/s.
HOSTS = {
    "oxbow-s": {"catalogue-query": 880.0, "show-export": 420.0, "archive-copy": 210.0},
    "oxbow-m": {"catalogue-query": 1690.0, "show-export": 236.0, "archive-copy": 380.0},
    "oxbow-l": {"catalogue-query": 1706.0, "show-export": 233.0, "archive-copy": 384.0},
    "tarn-4": {"catalogue-query": 1520.0, "show-export": 262.0, "archive-copy": 205.0},
    "tarn-8": {"catalogue-query": 2740.0, "show-export": 148.0, "archive-copy": 215.0},
}
HOST_KEYS = {
    "catalogue-query": "queries_per_s",
    "show-export": "seconds",
    "archive-copy": "mb_per_s",
}


def true_kiosk(workload: str, device: str, firmware: str) -> float:
    """The logarithm of what is true of a kiosk, beside all chance."""
    log = math.log(KIOSK[workload][1])
    place = FIRMWARE.index(firmware)
    if workload == "kiosk-page":
        # Only the foyer's loses by it, whose lead is gone from then on.
        falls = place >= FIRMWARE.index(PAGE_FALLS_AT) and device == "foyer"
        return log + DEVICES[device] + (PAGE_FALLS_BY if falls else 0.0)
    begin, end = (FIRMWARE.index(name) for name in MEMORY_CREEPS)
    share = min(1.0, max(0.0, (place - begin) / (end - begin)))
    return log + share * MEMORY_GROWS_BY


# By kiosk ("" for both), workload and metric: the kind of the true change, the releases before and
# after it, and its logarithm.
TRUE_STEPS = (
    ("foyer", "kiosk-page", "score", "step", "fw-1.05", "fw-1.06", PAGE_FALLS_BY),
    ("", "idle-memory", "used", "creep", *MEMORY_CREEPS, MEMORY_GROWS_BY),
    ("", "attract-loop", "rendering/first-10-min", "step", "fw-1.08", "fw-1.09", SHORT_CHANGE),
    ("", "attract-loop", "rendering/after-40-min", "step", "fw-1.08", "fw-1.09", LONG_CHANGE),
)


class Lobby:
    """Which device is on the table, what it runs, and how often it was visited."""

    device: str = "foyer"
    firmware: str = FIRMWARE[0]
    host: str = "oxbow-s"
    visits: int = 0
    runs: int = 0

    def __init__(self, seed: str, **state: str | int) -> None:
        self.seed = seed
        vars(self).update(state)

    def _chance(self, *purpose: object) -> random.Random:
        """Randomness that depends on nothing but the seed and what it is for."""
        return random.Random("/".join(map(str, (self.seed, *purpose))))

    def _noise(self, workload: str) -> float:
        visit = self._chance("visit", workload, self.visits).gauss(0.0, VISIT_SD)
        return visit + self._chance("run", self.runs).gauss(0.0, RUN_SD)

    def run(self, workload: str) -> dict[str, float]:
        """What the next run of a workload says."""
        self.runs += 1
        if workload in KIOSK:
            log = true_kiosk(workload, self.device, self.firmware)
            return {KIOSK[workload][0]: math.exp(log + self._noise(workload))}
        return {HOST_KEYS[workload]: HOSTS[self.host][workload] * math.exp(self._noise(workload))}

    def soak(self) -> list[tuple[int, float, float]]:
        """Second, rate (fps) and clock (MHz) over fifty minutes."""
        self.runs += 1
        level = math.log(SOAK_RATE) + DEVICES[self.device] + self._noise("soak")
        waits = FIRMWARE.index(self.firmware) >= FIRMWARE.index(FAN_WAITS_AT)
        chance = self._chance("soak", self.runs)
        rows = []
        for second in range(0, SOAK_SECONDS, SOAK_STEP):
            hot = 1 / (1 + math.exp(-(second - GETS_HOT) / 120))
            change = SHORT_CHANGE + (LONG_CHANGE - SHORT_CHANGE) * hot if waits else 0.0
            slowed = level - 0.12 * hot + change
            clock = 1800 * math.exp(slowed - level) + chance.gauss(0, 8)
            rows.append((second, math.exp(slowed + chance.gauss(0, 0.012)), clock))
        return rows


def _answer(lobby: Lobby, verb: str, subject: str) -> str:
    if verb == "identify":
        return str(getattr(lobby, subject))
    if verb == "fact":
        return FAN[lobby.device]
    if verb == "run":
        ((key, value),) = lobby.run(subject).items()
        return f'{{"{key}": {value!r}}}'
    if verb == "soak":
        rows = [f"{second},{rate:.3f},{clock:.1f}" for second, rate, clock in lobby.soak()]
        return "\n".join(["second,fps,mhz", *rows])
    parts = {"carry": ("device", DEVICES), "flash": ("firmware", FIRMWARE), "rent": ("host", HOSTS)}
    if verb not in parts:
        raise SystemExit(f"there is no command {verb}")
    part, known = parts[verb]
    if subject not in known:
        raise SystemExit(f"there is no {part} {subject}")
    lobby.visits += 1
    setattr(lobby, part, subject)
    return "done"


def main(arguments: list[str]) -> None:
    """Answer one command."""
    if os.path.exists(STATE_FILE):
        with open(STATE_FILE, "rb") as file:
            lobby = Lobby(**marshal.load(file))
    else:
        lobby = Lobby(os.environ.get("LOBBY_SEED", DEFAULT_SEED))
    print(_answer(lobby, arguments[0], (arguments[1:] or [""])[0]))
    with open(f"{STATE_FILE}.part", "wb") as file:
        marshal.dump(vars(lobby), file)
    os.replace(f"{STATE_FILE}.part", STATE_FILE)


if __name__ == "__main__":
    main(sys.argv[1:])
