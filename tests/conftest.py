"""The installed program, and small studies for it to work on."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from filelock import FileLock

from ferocal.cli import main
from ferocal.ledger.integrity.seals import seal_all
from ferocal.ledger.opening import LEDGER_FILE

# Outputs are as wide as they are without a terminal, whatever the one is that runs the tests.
os.environ.pop("COLUMNS", None)

PROGRAM = str(Path(sys.executable).with_name("ferocal"))

# How long something is waited for, in seconds: the machine may stand still for minutes.
PATIENCE = 600
# Where the tests were started in the background, what they start would ignore these.
signal.signal(signal.SIGINT, signal.default_int_handler)
signal.signal(signal.SIGHUP, signal.SIG_DFL)

# What is called in this process locks benches there too, apart from other workers.
for name in ("FEROCAL_LOCKS", "XDG_CACHE_HOME"):
    os.environ[name] = tempfile.mkdtemp(prefix="tests-of-ferocal-")


def surroundings() -> dict[str, str]:
    """The environment of the program under test.

    Byte code is kept, as it is where the program is installed: it saves a minute in all.
    """
    return {name: v for name, v in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


class Ferocal:
    """Runs the installed program in a directory, as a user would."""

    def __init__(self, directory: Path, *, patience: float = PATIENCE) -> None:
        self.directory = directory
        self._patience = patience

    def __call__(
        self, *arguments: str, status: int = 0, **environment: str
    ) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(
            [PROGRAM, *arguments],
            cwd=self.directory,
            env={**surroundings(), **environment},
            capture_output=True,
            encoding="utf-8",
            timeout=self._patience,
            check=False,
        )
        message = f"{arguments}\n--- out\n{done.stdout}\n--- err\n{done.stderr}"
        assert done.returncode == status, f"exit status {done.returncode}: {message}"
        assert "Traceback" not in done.stderr and "Warning:" not in done.stderr, message
        return done

    def json(self, *arguments: str) -> Any:
        """What a command prints with --json.

        It is called in this process: starting one takes ten times as long, and tests ask often.
        """
        with contextlib.chdir(self.directory):
            done = CliRunner().invoke(main.ferocal, [*arguments, "--json"])
        assert done.exit_code == 0, f"{arguments}: {done.output}{done.exception!r}"
        return json.loads(done.stdout)

    def quick(self, *arguments: str, status: int = 0) -> str:
        """What a command prints; in this process, like `json`."""
        with contextlib.chdir(self.directory):
            done = CliRunner().invoke(main.ferocal, [*arguments])
        assert done.exit_code == status, f"{arguments}: {done.exit_code} {done.output}"
        return done.output

    def attempt(self, *arguments: str) -> tuple[int, str, str]:
        """Exit status, output and errors of a command that may fail; in this process too."""
        with contextlib.chdir(self.directory):
            done = CliRunner().invoke(main.ferocal, [*arguments])
        assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
        return done.exit_code, done.stdout, done.stderr

    def effect(self, *arguments: str) -> Any:
        """The only effect that `compare` has."""
        (effect,) = self.json("compare", *arguments)["effects"]
        return effect

    def refusal(self, *arguments: str) -> str:
        """What a command says that is refused as a mistake in the call; in this process too."""
        with contextlib.chdir(self.directory):
            done = CliRunner().invoke(main.ferocal, [*arguments])
        assert done.exit_code == 2, f"{arguments}: {done.exit_code} {done.output}"
        return done.stderr

    def edit(self, *statements: str, sealed: bool = True) -> None:
        """Change the ledger behind Ferocal's back, sealed as if it had written that itself."""
        with contextlib.closing(sqlite3.connect(self.directory / LEDGER_FILE)) as driver, driver:
            for sql in statements:
                driver.execute(sql)
            if sealed:
                seal_all(driver)

    def write(self, text: str) -> None:
        (self.directory / "study.toml").write_text(text, encoding="utf-8")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Have the demo study measured at the beginning, and needed again at the end.

    One worker measures it while the others do something else; see `demo`.
    """
    needing = [item for item in items if "demo" in getattr(item, "fixturenames", ())]
    others = [item for item in items if item not in needing]
    items[:] = needing[:1] + others + needing[1:]


@pytest.fixture
def ferocal(tmp_path: Path) -> Ferocal:
    return Ferocal(tmp_path)


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Ferocal, str]:
    """The demo study, measured once by all workers; the program there, and what it printed."""
    shared = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    directory, output = shared / "demo", shared / "demo.txt"
    with FileLock(shared / "demo.lock"):
        if not output.exists():
            if measured := os.environ.get("MEASURED_DEMO"):
                # What runs a few tests a thousand times has measured it once for all.
                shutil.copytree(Path(measured) / "demo", directory)
                shutil.copy(Path(measured) / "demo.txt", output)
            else:
                directory.mkdir(exist_ok=True)
                done = Ferocal(directory, patience=600)("demo", ".")
                output.write_text(done.stdout, encoding="utf-8")
    return Ferocal(directory), output.read_text(encoding="utf-8")


# A workload in `sh`, which starts fast; its score depends on the level and a little on the visit.
SCORE = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
rounds = {rounds}
runs = {runs}
[factor.mode.level.off]
environment = {{ GAIN = "100" }}
[factor.mode.level.on]
environment = {{ GAIN = "{gain}" }}
{verify}
[workload.flight]
shell = true
command = '''{command}'''
{workload}
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = "score ([0-9.]+)" }}
"""


@pytest.fixture
def small_study(ferocal: Ferocal) -> Callable[..., Ferocal]:
    """Writes a study with one factor and one workload."""

    def write(**values: Any) -> Ferocal:
        defaults = {
            "rounds": 4,
            "runs": 1,
            "gain": 120,
            "verify": "",
            "command": "echo score $GAIN.$((FEROCAL_VISIT % 3))",
            "workload": "",
        }
        ferocal.write(SCORE.format(**{**defaults, **values}))
        return ferocal

    return write
