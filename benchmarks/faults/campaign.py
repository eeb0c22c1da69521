"""What must not happen, tried at length: damaged inputs, kills, failing writes, a stepping clock.

``--only PART`` for some of the parts, ``--scale N`` for N times as much of it. Everything is
seeded; figures go to the output, with their targets.
"""

from __future__ import annotations

import argparse
import functools
import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

sys.path.append(str(Path(__file__).resolve().parents[1]))

from beside import beside
from clock import steps
from disks import disks
from ends import ends
from exports import exports
from inputs import inputs
from jobs import Course, courses, make_studies
from material import make_good
from readers import readers
from writes import build_library, writes

from sizes import TINY, scaled


@dataclass(frozen=True)
class Ground:
    """Where a campaign takes place: good files, folders for it, and how much of it."""

    good: Path
    studies: Path
    scratch: Path
    scale: float
    seed: int
    workers: int

    @functools.cache  # noqa: B019
    def courses(self) -> list[Course]:
        """The jobs that are disturbed, each with what it does undisturbed."""
        return courses(self.studies, self.scratch, ["import"] if TINY else [])

    def times(self, full: int, tiny: int) -> int:
        """A number of attempts."""
        return max(1, round(scaled(full, tiny) * self.scale))


def _readers(g: Ground) -> int:
    return readers(g.good, g.times(110, 1), g.seed, g.workers, scaled(99, 1))


def _inputs(g: Ground) -> int:
    return inputs(g.good, g.times(20_000, 38), g.seed)


def _ends(g: Ground) -> int:
    return ends(g.courses(), g.times(1000, 1), g.scratch, g.workers)


def _writes(g: Ground) -> int:
    library = build_library(g.scratch)
    if library is None:
        print("without a compiler no write was made to fail")
        return 0
    names = [course.job.name for course in g.courses()]
    return writes(g.studies, names, g.times(60, 1), g.workers, library)


def _disks(g: Ground) -> int:
    return disks(g.courses(), g.times(10, 1), g.scratch) or 0


def _clock(g: Ground) -> int:
    library = build_library(g.scratch)
    if library is None:
        print("without a compiler the clock was not stepped")
        return 0
    (study,) = courses(g.studies, g.scratch, ["study"])
    return steps(study, g.times(100, 1), g.scratch, library)


def _beside(g: Ground) -> int:
    return beside(g.times(300, 3), g.seed)


def _exports(g: Ground) -> int:
    return exports(g.times(500, 1), g.scratch)


PARTS: dict[str, Callable[[Ground], int]] = {
    "readers": _readers, "inputs": _inputs, "ends": _ends, "writes": _writes, "disks": _disks,
    "clock": _clock, "beside": _beside, "exports": _exports,
}  # fmt: skip


def main() -> None:
    """Try everything, or some parts."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", choices=PARTS, action="append")
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--workers", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--tiny", action="store_true", help="just enough to run all of it")
    chosen = parser.parse_args()
    faults = 0
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        # Nothing is timed, so others may measure on this machine meanwhile.
        os.environ["FEROCAL_LOCKS"] = name
        ground = Ground(
            scratch / "good", scratch / "studies", scratch, chosen.scale, chosen.seed,
            chosen.workers,
        )  # fmt: skip
        ground.good.mkdir()
        ground.studies.mkdir()
        make_good(ground.good)
        make_studies(ground.studies)
        for part in chosen.only or PARTS:
            start = time.perf_counter()
            faults += PARTS[part](ground)
            print(f"  {part}: {time.perf_counter() - start:.0f} s", flush=True)
    sys.exit(faults != 0)


if __name__ == "__main__":
    main()
