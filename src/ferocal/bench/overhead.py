"""What measuring adds to what is measured."""

from __future__ import annotations

import statistics
import sys

from ferocal.bench.execution import Executor, Invocation
from ferocal.terms.frozen import dataclass

_TIMES = 15


@dataclass(frozen=True)
class Overhead:
    """What a program that does nothing reads as: an upper bound on what is added.

    ``wall`` and ``cpu`` are medians in seconds; ``peak_memory``, in bytes, is the least
    that can be measured of any program. None where the system does not say.
    """

    wall: float
    cpu: float | None
    peak_memory: float | None
    runs: int


def measure_overhead(executor: Executor) -> Overhead:
    """Run a program that does nothing a few times."""
    words = ("cmd", "/c", "exit") if sys.platform == "win32" else ("true",)
    invocation = Invocation(words, executor.place.directory)
    runs = [executor.run(invocation) for _ in range(_TIMES)]
    cpu = [run.cpu for run in runs if run.cpu is not None]
    memory = [run.peak_memory for run in runs if run.peak_memory is not None]
    return Overhead(
        wall=statistics.median(run.wall for run in runs),
        cpu=statistics.median(cpu) if cpu else None,
        peak_memory=statistics.median(memory) if memory else None,
        runs=_TIMES,
    )
