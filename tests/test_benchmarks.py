"""Benchmarks run, if only for a moment: what is not run rots."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import surroundings

ROOT = Path(__file__).parents[1]
BENCHMARKS = sorted((ROOT / "benchmarks").glob("bench_*.py"))
CAMPAIGN = ROOT / "benchmarks" / "faults" / "campaign.py"


@pytest.mark.parametrize("script", [*BENCHMARKS, CAMPAIGN], ids=lambda script: script.stem)
def test_a_benchmark_runs_with_tiny_sizes(script: Path, request: pytest.FixtureRequest) -> None:
    given = []
    if script.stem == "bench_startup":
        given = [str(request.getfixturevalue("demo")[0].directory)]
    done = subprocess.run(
        [sys.executable, str(script), "--tiny", *given],
        env=surroundings(), capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert "target" in done.stdout or "%" in done.stdout
    assert "Traceback" not in done.stderr


def test_make_runs_every_benchmark() -> None:
    text = (ROOT / "Makefile").read_text()
    recipe = re.search(r"^bench:.*\n\tfor script in (.*?); do ", text, re.MULTILINE)
    assert recipe is not None
    named = {path for pattern in recipe[1].split() for path in ROOT.glob(pattern)}
    assert named == set(BENCHMARKS)


def test_faults_are_of_code_that_decides_and_change_it(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(str(ROOT / "benchmarks" / "mutants"))
    from sites import sites_of, with_fault

    source = (
        "def f(x: int = 3) -> list[int]:\n"
        '    """At least 3."""\n'
        "    return [min(n, 2) + 1 for n in range(x) if n >= 3 and not n % 2]\n"
    )
    found = sites_of(source)
    texts = [site.text.partition(": ")[0] for site in found]
    assert sorted(texts) == sorted(
        [*["has another number"] * 5, "counts otherwise", "counts otherwise", "joins otherwise",
         "drops a condition", "compares otherwise", "turns round", "takes another function",
         "does not filter"]
    )  # fmt: skip
    faulty = {with_fault(source, site) for site in found}
    assert len(faulty) == len(found) and ast.unparse(ast.parse(source)) not in faulty
    for text in faulty:
        compile(text, "faulty", "exec")
    assert {site.line for site in found} == {1, 3}
