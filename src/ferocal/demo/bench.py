"""A simulated render node that stands in for hardware that is not here.

It is driven like a real bench, by commands: ``python -m ferocal.demo.bench identify``
tells what is active, ``… run WORKLOAD`` prints a score as JSON. It answers in virtual
time: a run of a minute takes as long as starting a program. Its state lives in one
file, so that nothing depends on a process that survives.

The scores have variation from run to run and from visit to visit, and drift slowly.
All of it follows from the seed, the visit and the count of runs.
"""

from __future__ import annotations

import json
import math
import os
import random
import sys
from pathlib import Path
from typing import Any

SEED = 20
RUN_SD = 0.008  # standard deviation of runs, on the log scale
VISIT_SD = 0.004  # standard deviation of visits, on the log scale
DRIFT_PER_HOUR = -0.002  # on the log scale
RUN_SECONDS = 60.0  # virtual time that a run takes
SWITCH_SECONDS = 240.0  # virtual time that a visit takes to begin

VERSIONS = {
    "driver": {"r61": "61.4", "r64": "64.0"},
    "api": {"opengl": "OpenGL", "vulkan": "Vulkan"},
}
# Score of the baseline, and true effects of levels as changes of its logarithm.
WORKLOADS: dict[str, tuple[str, float, dict[str, float]]] = {
    "dome-flight": ("fps", 58.0, {"r64": math.log(1.06), "vulkan": math.log(1.09)}),
    "show-export": ("seconds", 212.0, {"vulkan": math.log(0.95)}),
    "catalogue-query": ("queries_per_s", 1840.0, {"r64": math.log(0.96)}),
}


def true_change(workload: str, levels: dict[str, str], baseline: dict[str, str]) -> float:
    """The true change of a score between two configurations, as a share."""
    effects = WORKLOADS[workload][2]
    return math.expm1(
        sum(effects.get(levels[f], 0.0) - effects.get(baseline[f], 0.0) for f in levels)
    )


def _load(path: Path) -> dict[str, Any]:
    if not path.exists():
        return {"clock": 0.0, "runs": 0, "visit": ""}
    state: dict[str, Any] = json.loads(path.read_text())
    return state


def _save(path: Path, state: dict[str, Any]) -> None:
    partial = path.with_suffix(".part")
    partial.write_text(json.dumps(state))
    partial.replace(path)


def _normal(sd: float, *what: object) -> float:
    """A normal deviate that depends on nothing but the seed and what it is for."""
    return random.Random("/".join(map(str, (SEED, *what)))).gauss(0.0, sd)


def score(workload: str, active: list[str], state: dict[str, Any]) -> float:
    """The score of the next run of a workload; ``active`` are the active levels."""
    _, base, effects = WORKLOADS[workload]
    logarithm = math.log(base) + sum(effects.get(level, 0.0) for level in active)
    logarithm += _normal(VISIT_SD, "visit", workload, state["visit"])
    logarithm += _normal(RUN_SD, "run", workload, state["runs"])
    return math.exp(logarithm + DRIFT_PER_HOUR * state["clock"] / 3600)


def main(arguments: list[str]) -> None:
    """Answer one command."""
    active = {"driver": os.environ["DOME_DRIVER"], "api": os.environ["DOME_API"]}
    verb, subject = arguments
    if verb == "identify":
        print(VERSIONS[subject][active[subject]])
        return
    path = Path("bench-state.json")
    state = _load(path)
    visit = os.environ.get("FEROCAL_VISIT", "")
    if visit != state["visit"]:
        state.update(visit=visit, clock=state["clock"] + SWITCH_SECONDS)
    state["runs"] += 1
    state["clock"] += RUN_SECONDS
    name = WORKLOADS[subject][0]
    print(json.dumps({name: score(subject, list(active.values()), state)}))
    _save(path, state)


if __name__ == "__main__":
    main(sys.argv[1:])
