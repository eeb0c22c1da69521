"""The tasks of CONTRIBUTING.md, each made in a copy of the sources as it says there."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pandas as pd
import pytest

from conftest import Ferocal

ROOT = Path(__file__).parents[1]
# "A new file `x.py`:" or "At the end of `x.py`:", a block of code below it.
STEP = re.compile(r"(new\s+file|end\s+of)\s+`([\w/]+\.py)`:\n+```python\n(.*?)```", re.DOTALL)


def steps_of(title: str) -> list[tuple[str, str, str]]:
    """The steps under a title: whether a file is new, which, and the code."""
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    section = text.split(f"### {title}")[1].split("\n##")[0]
    return [(kind.split()[0], name, code) for kind, name, code in STEP.findall(section)]


class Copy:
    """A copy of the sources in which tasks are made."""

    def __init__(self, place: Path) -> None:
        self.place = place
        shutil.copytree(ROOT / "src", place, ignore=shutil.ignore_patterns("__pycache__"))

    def make(self, title: str, files: int) -> None:
        """Make a task, which touches so many files."""
        steps = steps_of(title)
        assert len({name for _, name, _ in steps}) == len(steps) == files
        for kind, name, code in steps:
            file = self.place / "ferocal" / name
            assert file.exists() == (kind == "end")
            with file.open("a", encoding="utf-8") as opened:
                opened.write(f"\n\n{code}" if kind == "end" else code)

    def run(self, directory: Path, *words: str) -> str:
        """What a command of the copy prints."""
        environment = {**os.environ, "PYTHONPATH": str(self.place), "PYTHONSAFEPATH": "1"}
        done = subprocess.run(
            [sys.executable, "-m", "ferocal", *words],
            cwd=directory, env=environment, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout


@pytest.fixture
def sources(tmp_path: Path) -> Copy:
    return Copy(tmp_path / "sources")


def test_a_caveat_is_one_file(sources: Copy, demo: tuple[Ferocal, str]) -> None:
    sources.make("A caveat", 1)
    found = json.loads(sources.run(demo[0].directory, "compare", "--json"))
    assert "many-rounds" in {c["code"] for e in found["effects"] for c in e["caveats"]}


def test_an_input_format_is_one_file(sources: Copy, demo: tuple[Ferocal, str]) -> None:
    rows = {"configuration": ["r61+opengl"], "workload": ["show-export"], "value": [212.0]}
    directory = sources.place.parent
    shutil.copy(demo[0].directory / "study.toml", directory)
    pd.DataFrame(rows).to_feather(directory / "scores.feather")
    sources.make("An input format", 1)
    assert "recorded 1 reading" in sources.run(directory, "load", "scores.feather")


def test_a_reading_command_is_four_files_and_a_chart_one(
    sources: Copy, demo: tuple[Ferocal, str]
) -> None:
    sources.make("A reading command", 4)
    sources.make("A chart", 1)
    directory, target = demo[0].directory, sources.place.parent
    assert "extent" in sources.run(directory, "--help")
    visits = json.loads(sources.run(directory, "extent", "--json"))["visits"]
    assert visits["r61+opengl"] == 5
    for form in ("text", "markdown", "html"):
        assert "r61+opengl" in sources.run(directory, "extent", "--format", form)
    sources.run(directory, "extent", "-o", str(target / "extent.svg"))
    assert "r61+opengl" in (target / "extent.svg").read_text(encoding="utf-8")
