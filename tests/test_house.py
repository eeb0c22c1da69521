"""The house: its tables, its documents, its pins, and how the program leaves it."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from importlib import metadata
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from conftest import Ferocal, surroundings
from ferocal.cli.main import SECTIONS as COMMANDS
from ferocal.terms.units import QUANTITIES, convert

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "ferocal"
EXTRAS = {"dev", "spreadsheets"}


def test_every_package_is_pinned() -> None:
    """Every runtime, extra and development package, and what these need in turn."""
    pinned = {
        canonicalize_name(line.partition("==")[0])
        for line in (ROOT / "constraints.txt").read_text().splitlines()
        if "==" in line
    }
    wanted, seen = [Requirement(f"ferocal[{','.join(EXTRAS)}]")], set()
    while wanted:
        requirement = wanted.pop()
        name = canonicalize_name(requirement.name)
        for text in metadata.requires(name) or []:
            need = Requirement(text)
            extras = requirement.extras or {""}
            applies = need.marker is None or any(need.marker.evaluate({"extra": e}) for e in extras)
            key = (canonicalize_name(need.name), tuple(sorted(need.extras)))
            if applies and key not in seen:
                seen.add(key)
                wanted.append(need)
    missing = {name for name, _ in seen} - pinned - {"ferocal"}
    assert missing == set()
    assert {"pyarrow", "odfpy", "openpyxl", "pandas-stubs", "alembic"} <= {name for name, _ in seen}


def test_the_root_has_only_the_modules_that_belong_there() -> None:
    modules = {path.name for path in PACKAGE.glob("*.py")}
    assert modules == {"__init__.py", "__main__.py", "_version.py", "errors.py"}
    for package in PACKAGE.rglob("__init__.py"):
        docstring = ast.get_docstring(ast.parse(package.read_text(encoding="utf-8")))
        assert docstring and len(docstring) > 30, package


def test_analysis_imports_numpy_and_scipy_alone() -> None:
    roots = set()
    for path in (PACKAGE / "analysis").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            roots |= {name.partition(".")[0] for name in names}
    assert roots - sys.stdlib_module_names == {"numpy", "scipy", "ferocal"}


def test_reading_commands_load_no_more_than_they_need(demo: tuple[Ferocal, str]) -> None:
    program = (
        "import sys; from click.testing import CliRunner; from ferocal.cli.main import ferocal\n"
        "for name in ('compare', 'table', 'runs', 'inspect', 'plan', 'rank', 'factors'):\n"
        "    assert CliRunner().invoke(ferocal, [name]).exit_code == 0, name\n"
        "heavy = {'sqlalchemy', 'pandas', 'matplotlib', 'pyarrow', 'jinja2', 'scipy.special'}\n"
        "print(*sorted(heavy & sys.modules.keys()))"
    )
    done = subprocess.run(
        [sys.executable, "-c", program],
        cwd=demo[0].directory, env=surroundings(), capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert done.stdout.split() == []


@pytest.mark.parametrize("name", ["tables", "json"])
def test_pages_of_the_manual_are_made_from_the_code(name: str) -> None:
    made = subprocess.run(
        [sys.executable, ROOT / "docs" / f"make_{name}.py"],
        capture_output=True, encoding="utf-8", check=True,
    ).stdout  # fmt: skip
    assert made == (ROOT / "docs" / f"{name}.md").read_text(encoding="utf-8")


def test_units_convert_within_their_quantity_and_stand_in_one() -> None:
    units = [unit for quantity in QUANTITIES for unit in quantity.units]
    assert len(units) == len(set(units))
    for quantity in QUANTITIES:
        first = next(iter(quantity.units))
        for unit in quantity.units:
            assert convert(convert(3.0, unit, first), first, unit) == pytest.approx(3.0)
    assert convert(1.5, "h", "min") == 90 and convert(2.0, "µs", "ns") == pytest.approx(2000)
    assert convert(1.0, "GiB", "MiB") == 1024 and convert(60.0, "frames/s", "fps") == 60


@pytest.mark.parametrize("command", [name for section in COMMANDS.values() for name in section])
def test_help_is_set_as_paragraphs(command: str, ferocal: Ferocal) -> None:
    text = ferocal(command, "--help").stdout
    body = text.split("Options:")[0].splitlines()[2:]
    assert max(map(len, text.splitlines())) <= 80
    assert all(re.match(r"$|  \S", line) for line in body), "indented otherwise"
    assert not any(re.search(r"\S {2,}\S", line) for line in body), "gaps within lines"
    paragraphs = "\n".join(line.strip() for line in body).strip().split("\n\n")
    assert paragraphs[-1].startswith("Example: ferocal ") and len(paragraphs) >= 2


LEFT = """
import atexit, os, pathlib, sys
import pyarrow
from ferocal.__main__ import main

class Witness:
    def __del__(self, mkdir=os.mkdir):
        mkdir("finalised")

witness = Witness()
atexit.register(pathlib.Path("handled").touch)
sys.argv = ["ferocal", "compare"]
main()
"""


def test_a_process_with_threads_of_arrow_ends_before_the_interpreter_is_taken_down(
    ferocal: Ferocal,
) -> None:
    """Such threads abort the process when they meet an interpreter that is being finalised."""
    done = subprocess.run(
        [sys.executable, "-c", LEFT], cwd=ferocal.directory, env=surroundings(),
        capture_output=True, encoding="utf-8", check=False,
    )  # fmt: skip
    assert (done.returncode, done.stdout) == (2, "")
    assert "no study here" in done.stderr
    left = {path.name for path in ferocal.directory.iterdir()}
    assert left == {"handled"}


def test_no_module_names_two_things_alike() -> None:
    """The second would silently take the place of the first."""
    twice = []
    for path in PACKAGE.rglob("*.py"):
        names = [
            name.id
            for node in ast.parse(path.read_text(encoding="utf-8")).body
            if isinstance(node, ast.Assign | ast.AnnAssign)
            for target in (node.targets if isinstance(node, ast.Assign) else [node.target])
            for name in ast.walk(target)
            if isinstance(name, ast.Name)
        ]
        twice += [f"{path.name}: {name}" for name in set(names) if names.count(name) > 1]
    assert twice == []
