"""Reading commands and notes beside a measurement: each works, and no note is lost."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import tempfile
import time
from pathlib import Path

from material import LEDGER, PROGRAM, STUDY


def beside(count: int, seed: int) -> int:
    """Reading commands and notes beside runs that are being recorded; the number of failures."""
    rng, wrong, notes = random.Random(seed), 0, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quick = STUDY.replace("rounds = 3", "rounds = 10000").replace("runs = 1", "runs = 50")
        (folder / "study.toml").write_text(quick.replace("echo score", "sleep 0.01; echo score"))
        environment = {**os.environ, "FEROCAL_LOCKS": name, "TMPDIR": name}
        measuring = subprocess.Popen(
            [PROGRAM, "measure"],
            cwd=folder,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        while not (folder / LEDGER).exists():
            time.sleep(0.05)
        time.sleep(1)
        for number in range(count):
            note = number % 3 == 2
            words = ["note", "x"] if note else rng.choice((["table"], ["runs"], ["compare"]))
            done = subprocess.run(
                [PROGRAM, *words], cwd=folder, env=environment, capture_output=True, text=True
            )
            notes += note
            if done.returncode:
                wrong += 1
                print(f"  {words}: {done.returncode}: {done.stderr[-300:]}")
        wrong += measuring.poll() is not None
        measuring.send_signal(signal.SIGINT)
        measuring.communicate(timeout=60)
        listed = subprocess.run(
            [PROGRAM, "note", "--json"], cwd=folder, capture_output=True, text=True
        )
        wrong += abs(len(json.loads(listed.stdout)["notes"]) - notes)
    print(
        f"{count} commands beside a measurement, {notes} of them notes: {wrong} failed (target 0)"
    )
    return wrong
