"""Benchmarks run, if only for a moment: what is not run rots."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Ferocal, surroundings

ROOT = Path(__file__).parents[1]
SCRIPTS = sorted((ROOT / "benchmarks").glob("*.py"))
# They are imported by others.
PARTS = ("mutations", "sizes")


@pytest.mark.parametrize(
    "script", [s for s in SCRIPTS if s.stem not in PARTS], ids=lambda s: s.stem
)
def test_a_benchmark_runs_with_tiny_sizes(script: Path, demo: tuple[Ferocal, str]) -> None:
    given = [str(demo[0].directory)] if script.stem == "bench_startup" else []
    done = subprocess.run(
        [sys.executable, str(script), "--tiny", *given],
        env=surroundings(), capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert "target" in done.stdout or "%" in done.stdout
    assert "Traceback" not in done.stderr


def test_make_runs_every_benchmark() -> None:
    recipe = re.search(
        r"^bench:.*\n\tfor script in (.*); do", (ROOT / "Makefile").read_text(), re.M
    )
    assert recipe is not None
    named = {path for pattern in recipe[1].split() for path in ROOT.glob(pattern)}
    assert named == {script for script in SCRIPTS if script.stem not in PARTS}
