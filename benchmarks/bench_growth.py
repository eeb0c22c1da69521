"""How commands grow with what they read: whole processes over three sizes, and the exponent.

The exponent is the slope of the logarithm of the seconds beyond those of a tiny study on the
logarithm of the number of readings. That of n log n between the last two sizes is the target.
"""

from __future__ import annotations

import math
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
TURNS = scaled(3, 1)
LONGEST = 3.0


def configurations(size: int) -> Iterator[str]:
    """So many configurations with 60 workloads in 5 rounds."""
    rng = np.random.default_rng(size)
    yield "driver,workload,metric,unit,round,value"
    for c in range(size):
        for w in range(60):
            for number in range(1, 6):
                value = 100 * (1 + 0.002 * c) * rng.normal(1, 0.01)
                yield f"r{c:02},w{w:02},rate,fps,{number},{value:.6g}"


def releases(size: int) -> Iterator[str]:
    """So many releases with 20 metrics, each visited once; half of the metrics change."""
    rng = np.random.default_rng(size)
    yield "release,workload,metric,unit,value"
    for r in range(size):
        for m in range(20):
            step = 1 + 0.05 * (m % 2) * (r >= size * (m + 1) / 24)
            yield f"v{r:03},flight,m{m:02},s,{100 * step * rng.normal(1, 0.01):.6g}"


def factors(size: int) -> Iterator[str]:
    """Twelve factors of two levels in so many configurations, 5 workloads, 6 rounds."""
    rng = np.random.default_rng(7)
    names = "abcdefghijkl"
    yield ",".join([*names, "workload", "metric", "unit", "round", "value"])
    chosen = {"0" * 12: None}
    while len(chosen) < size:
        chosen["".join(rng.choice(["0", "1"], 12).tolist())] = None
    for levels in chosen:
        named = ",".join(f"{n}{level}" for n, level in zip(names, levels, strict=True))
        for w in range(5):
            for number in range(1, 7):
                value = 100 * (1 + 0.05 * int(levels[0])) * rng.normal(1, 0.01)
                yield f"{named},w{w},rate,fps,{number},{value:.6g}"


CASES = (
    ("rank", ["rank"], configurations, ["driver"], scaled(10, 3)),
    ("table", ["table"], configurations, ["driver"], 10),
    ("series release", ["series", "release"], releases, ["release"], 100),
    ("factors", ["factors"], factors, [*"abcdefghijkl"], 16),
)[: scaled(4, 1)]


def make_study(place: Path, lines: Iterator[str], names: list[str]) -> int:
    """A study of a table; the number of its readings."""
    rows = list(lines)
    file = place.with_suffix(".csv")
    file.write_text("\n".join(rows), encoding="utf-8")
    named = [word for name in names for word in ("--factor", name)]
    new = [PROGRAM, "new", str(place), "--from", str(file), *named]
    subprocess.run(new, check=True, capture_output=True)
    if names == ["release"]:
        study = place / "study.toml"
        text = study.read_text(encoding="utf-8")
        study.write_text(f'{text}\n[factor.release]\norder = "file"\n', encoding="utf-8")
    return len(rows) - 1


def seconds(words: list[str], place: Path) -> float:
    """The median of whole processes, after the first, which checks the ledger."""
    found = []
    for _ in range(TURNS + 1):
        start = time.perf_counter()
        subprocess.run([PROGRAM, *words], cwd=place, check=True, capture_output=True)
        found.append(time.perf_counter() - start)
    return statistics.median(found[1:])


def main() -> None:
    """Print the figures against their targets."""
    with tempfile.TemporaryDirectory() as folder:
        for name, words, lines, columns, smallest in CASES:
            sizes = [2, *(smallest * 2**k for k in range(scaled(3, 2)))]
            counts, times = [], []
            for size in sizes:
                place = Path(folder, f"{words[0]}-{size}")
                counts.append(make_study(place, lines(size), columns))
                times.append(seconds(words, place))
            beyond = [max(t - times[0], 0.001) for t in times[1:]]
            slope = np.polyfit(np.log(counts[1:]), np.log(beyond), 1)[0]
            steepest = 1 + math.log(math.log(counts[-1]) / math.log(counts[-2])) / math.log(2)
            shown = ", ".join(
                f"{count:,} readings {t:.2f} s" for count, t in zip(counts, times, strict=True)
            )
            print(
                f"ferocal {name}: {shown}; the last in {times[-1]:.1f} s (target {LONGEST:.0f} s), "
                f"exponent {slope:.2f} (target {steepest:.2f})"
            )


if __name__ == "__main__":
    main()
