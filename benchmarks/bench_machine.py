"""Effects of known size on this machine: the same program with a little more work.

Configuration A is the baseline and B0 is A under another name; B2, B5 and B10 do 2, 5 and
10 % more of the same work. What `ferocal compare` finds stands beside what is true. The
machine may be noisy: rounds in mirrored pairs have to carry it.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
EXTRA = {"A": 0, "B0": 0, "B2": 2, "B5": 5, "B10": 10}
UNITS = scaled(600, 5)  # of work, each about 0.1 ms
ROUNDS, RUNS = scaled(60, 3), scaled(3, 1)
WORK = """
import json, os, time
count = UNITS * (100 + int(os.environ["EXTRA"])) // 100
def unit():
    total = 0
    for n in range(2_000):
        total += n * n % 7
    return total
start = time.perf_counter()
for _ in range(count):
    unit()
print(json.dumps({"seconds": time.perf_counter() - start}))
"""


def write_study(folder: Path) -> None:
    """Write the study of a program with more and less work."""
    text = '[study]\nquestion = "Is more work found to take longer?"\nmargin = "2 %"\n'
    text += f"rounds = {ROUNDS}\nruns = {RUNS}\n"
    for name, extra in EXTRA.items():
        text += f'[factor.work.level.{name}]\nenvironment = {{ EXTRA = "{extra}" }}\n'
    text += '[workload.loop]\ncommand = ["{python}", "work.py"]\n\n'
    text += '[workload.loop.metric.duration]\nunit = "s"\nbetter = "lower"\n'
    text += 'source = { json = "/seconds" }\n'
    (folder / "study.toml").write_text(text)
    (folder / "work.py").write_text(WORK.replace("UNITS", str(UNITS)))


def main() -> None:
    """Print what was found beside what is true."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_study(folder)
        start = time.perf_counter()
        subprocess.run([PROGRAM, "measure"], cwd=folder, check=True, capture_output=True)
        print(f"{ROUNDS} rounds of {RUNS} runs in {time.perf_counter() - start:.0f} s")
        command = [PROGRAM, "compare", "--json"]
        done = subprocess.run(command, cwd=folder, check=True, capture_output=True, text=True)
        held = 0
        for effect in json.loads(done.stdout)["effects"]:
            true = EXTRA[effect["configuration"]] / 100
            holds = effect["low"] <= true <= effect["high"]
            held += holds
            print(
                f"{effect['configuration']:4} true {true:+6.1%}  found {effect['change']:+6.1%} "
                f"({effect['low']:+.1%} to {effect['high']:+.1%})  {effect['verdict']:12} "
                f"interval {'holds it' if holds else 'MISSES it'}"
            )
        print(f"{held} of {len(EXTRA) - 1} intervals hold the truth")
        table = [PROGRAM, "table", "--json"]
        done = subprocess.run(table, cwd=folder, check=True, capture_output=True, text=True)
        cells = json.loads(done.stdout)["cells"]
        print(
            "CV of single runs: " + ", ".join(f"{c['configuration']} {c['cv']:.1%}" for c in cells)
        )


if __name__ == "__main__":
    main()
