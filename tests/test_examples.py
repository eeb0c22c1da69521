"""The examples: what each must catch, on real software where it is installed."""

from __future__ import annotations

import platform
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ferocal

EXAMPLES = Path(__file__).parent.parent / "examples"
Copy = Callable[..., str]


@pytest.fixture
def example(ferocal: Ferocal) -> Copy:
    """Copies an example, with texts of its study file replaced; returns that file's text."""

    def copy(name: str, *changes: tuple[str, str]) -> str:
        shutil.copytree(
            EXAMPLES / name,
            ferocal.directory,
            dirs_exist_ok=True,
            ignore=shutil.ignore_patterns("build", "ledger*"),
        )
        text = (ferocal.directory / "study.toml").read_text(encoding="utf-8")
        for old, new in changes:
            assert old in text
            text = text.replace(old, new)
        ferocal.write(text)
        return text

    return copy


def needs(*programs: str) -> pytest.MarkDecorator:
    """Skips a test where one of these programs is missing."""
    missing = [name for name in programs if not shutil.which(name)]
    return pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}")


@needs("cc")
def test_a_preloaded_library_that_is_not_found_is_found_out(
    ferocal: Ferocal, example: Copy
) -> None:
    example("allocators", ('LD_PRELOAD = "libjemalloc.so.2"', 'LD_PRELOAD = "/opt/libjemalloc.so"'))
    error = ferocal("measure", "--configuration", "jemalloc", status=1).stderr
    assert "allocator=jemalloc is not active: expected libraries of the running workload" in error
    # The run itself went well, as far as it says.
    (run,) = ferocal.json("runs")["run_list"]
    assert run["outcome"] == "not active" and run["wall"] > 0.1
    ferocal("measure", "--configuration", "c-library", "--rounds", "1")


@needs("cc", f"qemu-{platform.machine()}")
def test_a_program_that_is_not_emulated_is_found_out(ferocal: Ferocal, example: Copy) -> None:
    example("emulation", ("emulate.sh", "plain.sh"), ("warmups = 1", "warmups = 0"))
    plain = ferocal.directory / "plain.sh"
    plain.write_text('#!/bin/sh\nexec "$@"\n')
    plain.chmod(0o755)
    error = ferocal("measure", "--configuration", "emulated", status=1).stderr
    assert "execution=emulated is not active" in error and "build/parts" in error


@pytest.mark.skipif(sys.platform != "linux", reason="needs the C library of GNU")
def test_a_library_that_ignores_its_settings_is_found_out(ferocal: Ferocal, example: Copy) -> None:
    example("this-machine", ("MALLOC_", "IGNORED_"))
    error = ferocal("measure", "--configuration", "keep+rollback", status=1).stderr
    assert 'allocator=keep is not active: expected equals "kept", seen "handed back"' in error


@needs("chromium")
def test_a_browser_that_compiles_all_the_same_is_found_out(ferocal: Ferocal, example: Copy) -> None:
    example("browsers")
    drive = ferocal.directory / "drive.py"
    drive.write_text(drive.read_text().replace("--js-flags=--jitless", "--js-flags=--no-jit"))
    error = ferocal("measure", "--configuration", "chromium+off", status=1).stderr
    assert "compiler=off is not active: expected reported /loop_over_sort at least 1.5" in error


@pytest.mark.skipif(not Path("/usr/bin/python3").exists(), reason="needs a Python of the system")
def test_another_build_that_says_the_same_version_is_found_out(
    ferocal: Ferocal, example: Copy
) -> None:
    example("runtimes", ('RUNTIME = "/usr/bin/python3-dbg"', 'RUNTIME = "/usr/bin/python3"'))
    error = ferocal("measure", "--configuration", "python-debug", status=1).stderr
    assert "runtime=python-debug is not active: expected program of the running workload" in error
    assert 'd$", seen "' in error and "/usr/bin/python3" in error


@needs("node")
def test_both_languages_do_the_same_work() -> None:
    found = [
        subprocess.run([*words, part], cwd=EXAMPLES / "runtimes", capture_output=True, check=True)
        for part in ("strings", "memory")
        for words in ([sys.executable, "parts.py"], ["node", "parts.js"])
    ]
    results = [done.stdout.decode().rpartition('"result":')[2].strip(" }\n") for done in found]
    assert results[0] == results[1] != results[2] == results[3]


def test_what_people_bring_is_taken_in_as_the_page_says(ferocal: Ferocal, example: Copy) -> None:
    example("notebook-and-stopwatch")
    page = (ferocal.directory / "README.md").read_text(encoding="utf-8")
    commands = re.findall(r"^ferocal (.*?)(?:  +#.*)?$", page, re.MULTILINE)
    assert len(commands) > 8
    printed = {command: ferocal.quick(*shlex.split(command)) for command in commands}
    answer = printed["compare"]
    for told in ("cold-start +7.8 %", "55..58", ">480", "absent", "no driver for the meter"):
        assert told in answer
    assert ">3590" in printed["soak"]
    ends = re.findall(r"\(([−+\d.]+) to ([−+\d.]+)(?: %)?\)", page)
    detail = re.findall(r"([−+\d.]+) … ([−+\d.]+) %", ferocal.quick("compare", "--detail"))
    said = {frozenset(re.sub("[−+]", "", end) for end in pair) for pair in detail}
    assert len(ends) == 3
    assert {frozenset(re.sub("[−+]", "", end) for end in pair) for pair in ends} <= said


def test_examples_are_run_again(tmp_path: Path) -> None:
    place = tmp_path / "examples" / "notebook-and-stopwatch"
    ignored = shutil.ignore_patterns("ledger*")
    shutil.copytree(EXAMPLES / place.name, place, ignore=ignored)
    run = shutil.copy(EXAMPLES / "run.py", place.parent)
    Ferocal(place).quick("load", "scores.xlsx")
    command = [sys.executable, str(run), "--again", place.name]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert "halden-5: worse: cold-start +7.8 %, kiosk-page −4.5 %; 4 seen once" in told
    assert "verdicts of both times: 3 repeated, 0 contradicting" in told
    assert (tmp_path / "build" / "examples" / "notebook-and-stopwatch.html").exists()
