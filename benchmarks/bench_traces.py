"""Traces: false alarms and precision of onsets in soaks, and the unit of frame times.

Prints rate, target and whether it is met. Seeds are fixed.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time as clock
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from sizes import operands, scaled

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ferocal.analysis.data.segments import FloatArray
from ferocal.traces.events import find_level_shifts, main_event
from ferocal.traces.frames import summarise_frames
from ferocal.traces.packing import unpack_columns
from simulation import simulate_bursts, simulate_falls, simulate_soak

TRACES = scaled(200, 3)


def count_alarms(make: Callable[[np.random.Generator], tuple[FloatArray, FloatArray]]) -> int:
    """Of 200 traces, how many have a step."""
    rng = np.random.default_rng(1)
    return sum(bool(find_level_shifts(*make(rng))) for _ in range(TRACES))


def show_soaks() -> None:
    """Print false alarms, and how well drops are found."""
    kinds: dict[str, dict[str, float]] = {
        "drift of -10 %": {"drift": -0.10},
        "drift of -15 %": {"drift": -0.15},
        "AR(1) noise of 0.8": {"correlation": 0.8},
        "5 % of spikes": {"spikes": 0.05},
    }
    for name, settings in kinds.items():
        alarms = count_alarms(lambda rng, s=settings: simulate_soak(rng, **s))  # type: ignore[misc]
        met = "met" if not alarms else "NOT met"
        print(f"soak, {name}: {alarms} of {TRACES} false alarms  target 0  {met}")
    for drop in (0.12, 0.20, 0.40):
        rng = np.random.default_rng(2)
        errors = []
        for _ in range(TRACES):
            at = float(rng.integers(600, 3000))
            steps = find_level_shifts(*simulate_soak(rng, drop=drop, at=at))
            errors.append(abs(steps[0].at - at) if steps else np.inf)
        within = int(np.sum(np.array(errors) <= 5))
        met = "met" if within == TRACES else "NOT met"
        print(
            f"soak, drop of {drop:.0%}: {within} of {TRACES} within 5 s  target {TRACES}  {met}; "
            f"error median {np.median(errors):.1f} s, 95th percentile "
            f"{np.quantile(errors, 0.95):.1f} s"
        )


def show_courses() -> None:
    """Print how well all events of a course are found, and the one that costs most."""
    for drift in (0.0, -0.05, -0.10):
        rng = np.random.default_rng(7)
        right = whole = 0
        for _ in range(TRACES):
            time, value, events, main = simulate_falls(rng, drift=drift)
            found = find_level_shifts(time, value)
            place = main_event(found, time, value, "higher")
            right += place is not None and abs(found[place].at - main) <= 10
            whole += len(found) == len(events) and all(
                abs(shift.at - at) <= 10 for shift, at in zip(found, events, strict=True)
            )
        met = "met" if right == TRACES and whole >= 0.95 * TRACES else "NOT met"
        print(
            f"soak, two falls and a partial recovery, drift of {drift:.0%}: main event right in "
            f"{right} of {TRACES}  target {TRACES}; all events within 10 s and no other in {whole} "
            f"target 95 %  {met}"
        )


def show_frames() -> None:
    """Print what resampling frames claims of the 1 % low, and what runs tell."""
    rng = np.random.default_rng(3)
    captures = [simulate_bursts(rng, 10_000) for _ in range(scaled(200, 3))]
    lows = np.array([summarise_frames([run]).low_1 for run in captures])
    resampled = [
        summarise_frames([rng.choice(captures[0], 10_000)]).low_1 for _ in range(scaled(200, 3))
    ]
    print(
        "frames, bursty hitches, 10,000 frames: the 1 % low varies by "
        f"{lows.std() / lows.mean():.1%} between runs; resampled frames claim "
        f"{np.std(resampled) / np.mean(resampled):.1%}"
    )
    for frames in (1_000, 10_000, 60_000):
        low = [
            np.log(summarise_frames([simulate_bursts(rng, frames)]).low_1)
            for _ in range(scaled(200, 3))
        ]
        needed = 2 * (1.96 + 0.8416) ** 2 * np.var(low, ddof=1) / np.log(1.05) ** 2
        print(
            f"frames, {frames:,} a run: {max(2, round(needed))} runs a side for 5 % at 80 % power"
        )


def read_and_summarise(file: str) -> None:
    """Print the speed and the memory of reading a trace and of summarising it."""
    start = clock.perf_counter()
    column = unpack_columns(Path(file).read_bytes())["value"]
    read = clock.perf_counter() - start
    summarise_frames([column])
    whole = clock.perf_counter() - start
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e6
    print(
        f"ten million frames: read from Parquet at {10 / read:.0f} million/s (target above 5), "
        f"read and summarised in {whole:.1f} s; peak {peak:.0f} MB (target below 500)"
    )


def show_size() -> None:
    """Have a fresh process read a trace of ten million frames."""
    with tempfile.TemporaryDirectory() as folder:
        file = str(Path(folder) / "frames.parquet")
        times = np.random.default_rng(4).gamma(9, 16.7 / 9, scaled(10_000_000, 50_000))
        pq.write_table(pa.table({"value": times}), file, compression="zstd")
        subprocess.run([sys.executable, __file__, file], check=True)


def main() -> None:
    """Print all rows."""
    show_soaks()
    show_courses()
    show_frames()
    show_size()


if __name__ == "__main__":
    files = operands()
    if files:
        read_and_summarise(files[0])
    else:
        main()
