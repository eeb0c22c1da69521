"""A simulated render node that stands in for hardware that is not here.

It is driven like a real bench, by commands: ``python bench.py`` followed by
``switch driver r64``, ``reboot``, ``restart``, ``identify driver``, ``fact memory``,
``run dome-flight``, ``soak`` or ``watch cold-start``. It answers in virtual time: a run of
a minute takes as long as starting a program. Its state lives in one file,
``bench-state`` in the directory from which it is called, so that nothing depends on a
process that survives.

A driver is active only after a reboot. Boots and restarts of the player shift all scores
a little, single runs vary, and the scores drift slowly. The node heats up while it
renders, cools down while it is switched, and throttles when it is hot. Now and then a
background job slows a run, a switch silently takes no effect, or memory is gone after a
boot. All of it follows from the seed (environment variable DOME_SEED) and from what was
done before, never from the clock on the wall.
"""

from __future__ import annotations

import marshal
import math
import os
import random
import sys

# It is started a thousand times in the demo: nothing that takes long to import.

STATE_FILE = "bench-state"
DEFAULT_SEED = "21"  # with which one switch of the demo study is ignored

RUN_SD = 0.008  # standard deviation of runs, on the log scale
VISIT_SD = 0.004  # standard deviation of boots and restarts, on the log scale
DRIFT_PER_HOUR = -0.002  # on the log scale
SECONDS = {"run": 60.0, "switch": 150.0, "reboot": 90.0, "restart": 30.0}  # virtual time

AMBIENT, HOTTEST = 24.0, 88.0  # degrees Celsius, at rest and after hours of rendering
WARMING, COOLING = 1500.0, 120.0  # time constants in seconds
THROTTLES_AT, THROTTLED = 80.0, 0.88  # degrees Celsius, share of the score that is left

CHANCE_OF_JOB, SLOWED = 0.01, 0.80  # of a background job in a run, and what it leaves
CHANCE_OF_IGNORED_SWITCH = 0.05
CHANCE_OF_LOST_MEMORY = 0.002  # at a boot

VERSIONS = {
    "driver": {"r61": "61.4", "r64": "64.0"},
    "api": {"opengl": "OpenGL", "vulkan": "Vulkan"},
    "firmware": {"fw-1.02": "1.02", "fw-1.11": "1.11"},
}
FRAMES_FILE = "frames.csv"
FRAMES_SECONDS = 60.0
# Hitches per second while rendering: shaders are compiled late under Vulkan.
HITCHES = {"opengl": 0.35, "vulkan": 1.1}
# The older driver lets the node throttle after so many minutes of a soak, and for so long.
SOAK_SECONDS, SOAK_RATE = 3600, 44.0
SOAK_THROTTLES, SOAK_RECOVERS, SOAK_LEFT = 38 * 60, 52 * 60, 0.80

# Score of the baseline, and true effects of levels as changes of its logarithm.
WORKLOADS: dict[str, tuple[str, float, dict[str, float]]] = {
    "dome-flight": ("fps", 58.0, {"r64": math.log(1.06), "vulkan": math.log(1.09)}),
    "show-export": ("seconds", 212.0, {"vulkan": math.log(0.95), "fw-1.11": math.log(1.04)}),
    "catalogue-query": ("queries_per_s", 1840.0, {"r64": math.log(0.96)}),
    "cold-start": ("seconds", 14.2, {"r64": math.log(0.93)}),
}


def true_change(workload: str, levels: dict[str, str], baseline: dict[str, str]) -> float:
    """The true change of a score between two configurations, as a share."""
    effects = WORKLOADS[workload][2]
    return math.expm1(
        sum(effects.get(levels[f], 0.0) - effects.get(baseline[f], 0.0) for f in levels)
    )


class Node:
    """The state of the node; what is installed or flashed becomes active at the next boot."""

    # Plain, for a data class takes longer to import than all that a command does here.
    driver: str = "r61"
    api: str = "opengl"
    firmware: str = "fw-1.02"
    installed: str = "r61"
    flashed: str = "fw-1.02"
    memory: int = 32
    clock: float = 0.0
    temperature: float = AMBIENT
    runs: int = 0
    boots: int = 0
    restarts: int = 0
    switches: int = 0
    soaks: int = 0
    watched: int = 0

    def __init__(self, seed: str, **state: float | str) -> None:
        self.seed = seed
        vars(self).update(state)

    def _chance(self, *purpose: object) -> random.Random:
        """Randomness that depends on nothing but the seed and what it is for."""
        return random.Random("/".join(map(str, (self.seed, *purpose))))

    def switch(self, part: str, level: str) -> None:
        """Bring another driver, firmware or API; now and then it silently stays as it was."""
        if level not in VERSIONS[part]:
            raise SystemExit(f"there is no {part} {level}")
        self.switches += 1
        self._pass(SECONDS["switch"], busy=False)
        if self._chance("switch", self.switches).random() < CHANCE_OF_IGNORED_SWITCH:
            return
        if part == "driver":
            self.installed = level
        elif part == "firmware":
            self.flashed = level
        else:
            self.api = level
            self.restart()

    def reboot(self) -> None:
        """Boot: what was installed or flashed becomes active."""
        self.boots += 1
        self.driver, self.firmware = self.installed, self.flashed
        self._pass(SECONDS["reboot"], busy=False)
        if self._chance("memory", self.boots).random() < CHANCE_OF_LOST_MEMORY:
            self.memory = 16

    def restart(self) -> None:
        """Start the player anew."""
        self.restarts += 1
        self._pass(SECONDS["restart"], busy=False)

    def run(self, workload: str) -> float:
        """The score of the next run of a workload."""
        self.runs += 1
        self._pass(SECONDS["run"], busy=True)
        _, base, effects = WORKLOADS[workload]
        log = math.log(base) + self._effect(effects)
        log += self._chance("visit", workload, self.boots, self.restarts).gauss(0.0, VISIT_SD)
        log += self._chance("run", self.runs).gauss(0.0, RUN_SD)
        log += DRIFT_PER_HOUR * self.clock / 3600
        worse = 1 if WORKLOADS[workload][0] == "seconds" else -1
        if self._chance("job", self.runs).random() < CHANCE_OF_JOB:
            log -= worse * math.log(SLOWED)
        if self.temperature > THROTTLES_AT:
            log -= worse * math.log(THROTTLED)
        return math.exp(log)

    def _effect(self, effects: dict[str, float]) -> float:
        """What is active does to the logarithm of a score."""
        return sum(effects.get(level, 0.0) for level in (self.driver, self.firmware, self.api))

    def watch(self, workload: str) -> float:
        """What an operator with a stopwatch reads; the node is not disturbed by it."""
        self.watched += 1
        _, base, effects = WORKLOADS[workload]
        log = math.log(base) + self._effect(effects)
        log += self._chance("visit", workload, self.boots, self.restarts).gauss(0.0, VISIT_SD)
        chance = self._chance("watch", self.watched)
        return math.exp(log + chance.gauss(0.0, RUN_SD)) + chance.uniform(-0.1, 0.1)

    def frames(self, rate: float) -> list[float]:
        """Frame times (ms) of a flight at an average rate (fps), hitches among them."""
        chance = self._chance("frames", self.runs)
        count = int(rate * FRAMES_SECONDS)
        times = [math.exp(chance.gauss(0.0, 0.05)) for _ in range(count)]
        for _ in range(round(HITCHES[self.api] * FRAMES_SECONDS * math.exp(chance.gauss(0, 0.15)))):
            begin = chance.randrange(count)
            factor = chance.uniform(1.6, 3.2)
            for place in range(begin, min(count, begin + chance.randrange(1, 5))):
                times[place] *= factor
        # The hitches are part of the average that the flight reports.
        scale = 1000 / rate * count / sum(times)
        return [time * scale for time in times]

    def soak(self) -> list[tuple[int, float, float]]:
        """Second, rate (fps) and temperature (degrees Celsius) over an hour.

        The node is left to cool down before and after, so that nothing else feels it.
        """
        self.soaks += 1
        chance = self._chance("soak", self.soaks)
        level = SOAK_RATE * math.exp(chance.gauss(0.0, 0.01))
        begin, end = SOAK_THROTTLES + chance.gauss(0, 60), SOAK_RECOVERS + chance.gauss(0, 60)
        rows = []
        for second in range(SOAK_SECONDS):
            heat = AMBIENT + (HOTTEST - AMBIENT) * -math.expm1(-second / WARMING)
            value = level * (1 - 0.02 * second / SOAK_SECONDS) * math.exp(chance.gauss(0, 0.015))
            if self.driver == "r61" and begin <= second < end:
                value *= SOAK_LEFT
            rows.append((second, value, heat + chance.gauss(0, 0.3)))
        return rows

    def _pass(self, seconds: float, *, busy: bool) -> None:
        """Let virtual time pass, rendering or not."""
        self.clock += seconds
        goal, constant = (HOTTEST, WARMING) if busy else (AMBIENT, COOLING)
        self.temperature += (goal - self.temperature) * -math.expm1(-seconds / constant)


def _answer(node: Node, verb: str, subjects: list[str]) -> str:
    if verb == "identify":
        part = subjects[0]
        return VERSIONS[part][getattr(node, part)]
    if verb == "fact":
        return str(getattr(node, subjects[0]))
    if verb == "run":
        score = node.run(subjects[0])
        if subjects[0] == "dome-flight":
            lines = [f"{time:.4f}" for time in node.frames(score)]
            with open(FRAMES_FILE, "w") as file:
                file.write("\n".join(["frame_ms", *lines, ""]))
        return f'{{"{WORKLOADS[subjects[0]][0]}": {score!r}}}'
    if verb == "watch":
        return f"{node.watch(subjects[0]):.2f}"
    if verb == "soak":
        rows = [f"{second},{value:.3f},{heat:.2f}" for second, value, heat in node.soak()]
        return "\n".join(["second,fps,celsius", *rows])
    if verb == "switch":
        node.switch(*subjects)
    elif verb == "reboot":
        node.reboot()
    elif verb == "restart":
        node.restart()
    else:
        raise SystemExit(f"there is no command {verb}")
    return "done"


def main(arguments: list[str]) -> None:
    """Answer one command."""
    if os.path.exists(STATE_FILE):
        with open(STATE_FILE, "rb") as file:
            node = Node(**marshal.load(file))
    else:
        node = Node(os.environ.get("DOME_SEED", DEFAULT_SEED))
    print(_answer(node, arguments[0], arguments[1:]))
    with open(f"{STATE_FILE}.part", "wb") as file:
        marshal.dump(vars(node), file)
    os.replace(f"{STATE_FILE}.part", STATE_FILE)


if __name__ == "__main__":
    main(sys.argv[1:])
