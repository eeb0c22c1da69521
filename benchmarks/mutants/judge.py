"""Mutants: how many small faults in the code the tests notice, with the tests that reach the line.

First every test is run once and its lines are kept (an hour or more), then fault after fault is
made in a copy of the repository, and the tests that reach its line are run, the quickest first,
until one fails. What was found is kept in ``build/mutants``; when it is called again it goes on
where it was, and finds the lines of modules that were edited since by their text. ``--sample N``
takes so many faults by chance, always the same; ``--only PART`` those of modules with this in their
path; ``--seconds N`` leaves out the slow tests beyond so many seconds; ``--report`` only tells what
is known. Faults that change nothing that can be seen are listed in ``equivalent.txt`` beside this
file, one key a line with the reason.
"""

from __future__ import annotations

import argparse
import concurrent.futures
import difflib
import functools
import hashlib
import json
import math
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import xml.etree.ElementTree as ET
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

from sites import Site, sites_of, with_fault

ROOT = Path(__file__).resolve().parents[2]
PACKAGE = Path("src/ferocal")
PARTS = ("analysis", "answers", "documents", "intake")
KEPT = ROOT / "build" / "mutants"
TARGET = 0.9
WORKERS = 2
_COPIED = (
    "src", "tests", "benchmarks", "docs", "examples", "pyproject.toml", "README.md",
    "CONTRIBUTING.md", "CHANGELOG.md", "Makefile", "constraints.txt",
)  # fmt: skip
# A test with parameters that takes so many seconds in all is run with those that reach a line.
_LONG = 20.0
# A fault may have a program go on for ever.
PATIENCE, SLOWER = 60.0, 4.0
CONFIGURATION = """
[run]
source =
{parts}
data_file = {data}
parallel = true
context = ${{PYTEST_CURRENT_TEST-}}
patch = subprocess, _exit
"""


@dataclass(frozen=True)
class Fault:
    """A fault, by a key that stays while the module does; the path is within the package."""

    key: str
    path: str
    site: Site


def all_faults() -> list[Fault]:
    """Every fault that can be made, in the order of modules and lines."""
    found = []
    for part in PARTS:
        for path in sorted((ROOT / PACKAGE / part).rglob("*.py")):
            source = path.read_text(encoding="utf-8")
            name = str(path.relative_to(ROOT / PACKAGE))
            lines = source.splitlines()
            for site in sites_of(source):
                text = f"{name}|{lines[site.line - 1]}|{site.node}|{site.change}|{site.text}"
                found.append(Fault(hashlib.sha256(text.encode()).hexdigest()[:12], name, site))
    return found


def map_tests(chosen: list[str]) -> None:
    """Run all tests, or those chosen, and keep which lines each reaches and how long it takes.

    What is known of other tests stays, at the lines of the modules as they were mapped first.
    """
    KEPT.mkdir(parents=True, exist_ok=True)
    data = KEPT / "data"
    shutil.rmtree(data, ignore_errors=True)
    data.mkdir()
    parts = "\n".join(f"    {ROOT / PACKAGE / part}" for part in PARTS)
    configuration = KEPT / "coverage.ini"
    configuration.write_text(CONFIGURATION.format(parts=parts, data=data / "lines"))
    coverage = [sys.executable, "-m", "coverage"]
    option = f"--rcfile={configuration}"
    times = KEPT / "times.xml"
    tests = [
        "-m", "pytest", "-q", "-n", str(WORKERS), f"--junitxml={times}", "-p", "no:cacheprovider",
        "-p", "contexts", *chosen,
    ]  # fmt: skip
    searched = os.pathsep.join([str(ROOT / "src"), str(Path(__file__).parent)])
    environment = {**os.environ, "PYTHONPATH": searched}
    done = subprocess.run(
        [*coverage, "run", option, *tests], cwd=ROOT, env=environment, check=False
    )
    if done.returncode not in (0, 1):
        raise SystemExit("the tests did not run")
    subprocess.run([*coverage, "combine", option, "-q"], cwd=ROOT, check=True)
    taken = _times(times)
    reached = _reached(data / "lines", taken)
    if (KEPT / "reached.json").exists():
        reached, taken = (
            _merged(reached),
            {**json.loads((KEPT / "times.json").read_text()), **taken},
        )
    else:
        shutil.copytree(ROOT / PACKAGE, KEPT / "mapped", dirs_exist_ok=True)
    (KEPT / "reached.json").write_text(json.dumps(reached))
    (KEPT / "times.json").write_text(json.dumps(taken))
    shutil.rmtree(data)


def _merged(reached: dict[str, dict[int, list[str]]]) -> dict[str, dict[int, list[str]]]:
    """Which tests reach which lines, with what was known before."""
    kept = json.loads((KEPT / "reached.json").read_text())
    anew = {_function(test) for of in reached.values() for tests in of.values() for test in tests}
    known = {
        m: {int(n): {t for t in tests if _function(t) not in anew} for n, tests in of.items()}
        for m, of in kept.items()
    }
    for module, of in reached.items():
        mapped = KEPT / "mapped" / module
        if not mapped.exists():  # it was made since
            mapped.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(ROOT / PACKAGE / module, mapped)
        then = _lines_when_mapped(module)
        for line, tests in of.items():
            if line in then:
                known.setdefault(module, {}).setdefault(then[line], set()).update(tests)
    return {m: {n: sorted(tests) for n, tests in of.items()} for m, of in known.items()}


def _reached(path: Path, times: dict[str, float]) -> dict[str, dict[int, list[str]]]:
    """By module and line, the tests that reach it, called as they are timed."""
    from coverage.numbits import numbits_to_nums

    reached: dict[str, dict[int, set[str]]] = defaultdict(lambda: defaultdict(set))
    query = (
        "SELECT file.path, context.context, line_bits.numbits FROM line_bits "
        "JOIN file ON file.id = file_id JOIN context ON context.id = context_id"
    )
    for name, context, bits in sqlite3.connect(path).execute(query):
        if test := _test_of(context):
            test = test if test in times else _function(test)
            module = str(Path(name).relative_to(ROOT / PACKAGE))
            for line in numbits_to_nums(bits):
                reached[module][line].add(test)
    return {m: {n: sorted(tests) for n, tests in of.items()} for m, of in reached.items()}


def _test_of(context: str) -> str:
    """The test that a context names, with its parameters; that of a program began in one."""
    last = context.rpartition("|")[2] or context.partition("|")[0]
    found = re.match(r"tests/\w+\.py::\w+(\[.*\])?", last)
    return found[0] if found else ""


def _function(test: str) -> str:
    return test.partition("[")[0]


def _times(path: Path) -> dict[str, float]:
    """The seconds of tests: with all of their parameters, or with each where that is long."""
    times: dict[str, float] = {}
    for case in ET.parse(path).iter("testcase"):
        module = case.get("classname", "").rpartition(".")[2]
        times[f"tests/{module}.py::{case.get('name', '')}"] = float(case.get("time", 0))
    whole: Counter[str] = Counter()
    for test, seconds in times.items():
        whole[_function(test)] += seconds  # type: ignore[assignment]
    long = {test: s for test, s in times.items() if whole[_function(test)] > _LONG}
    return {t: s for t, s in whole.items() if s <= _LONG} | long


class Judge:
    """Makes faults in copies of the repository, one in each thread."""

    def __init__(self, seconds: float) -> None:
        self._reached = json.loads((KEPT / "reached.json").read_text())
        self._times: dict[str, float] = json.loads((KEPT / "times.json").read_text())
        self._own = threading.local()
        self._seconds = seconds
        _measure_demo()

    def _copy(self) -> Path:
        """The copy of this thread."""
        if not hasattr(self._own, "place"):
            self._own.place = KEPT / "copies" / str(threading.get_ident())
            shutil.rmtree(self._own.place, ignore_errors=True)
            self._own.place.mkdir(parents=True)
            for name in _COPIED:
                source = ROOT / name
                if source.is_dir():
                    shutil.copytree(source, self._own.place / name)
                elif source.exists():
                    shutil.copy(source, self._own.place / name)
        place: Path = self._own.place
        return place

    def judge(self, fault: Fault) -> dict[str, object]:
        """Whether the tests that reach a line notice a fault in it: caught, survived, unreached."""
        on_line, of_module = self._tests_of(fault)
        tests = self._affordable(on_line or of_module)
        if not tests:
            return self._found(fault, "unreached", "")
        place = self._copy()
        module = place / PACKAGE / fault.path
        before = module.read_text(encoding="utf-8")
        module.write_text(with_fault(before, fault.site), encoding="utf-8")
        try:
            verdict, by = self._run(place, tests)
            if verdict == "survived" and not on_line:
                verdict = "unreached"
            return self._found(fault, verdict, by)
        finally:
            module.write_text(before, encoding="utf-8")

    def _tests_of(self, fault: Fault) -> tuple[list[str], list[str]]:
        """The tests that reach the line of a fault, and those that reach any of its module.

        What runs as a module is loaded, such as a constant, is on no test's account.
        """
        mapped, lines = _lines_when_mapped(fault.path), self._reached.get(fault.path, {})
        places = (str(mapped.get(line)) for line in (fault.site.line, fault.site.statement))
        on_line: list[str] = next((lines[place] for place in places if place in lines), [])
        return on_line, list({test for tests in lines.values() for test in tests})

    def _affordable(self, tests: list[str]) -> list[str]:
        """Tests for the seconds that there are, the quickest first, one at least."""
        chosen: list[str] = []
        left = self._seconds
        for test in sorted(tests, key=lambda test: self._times.get(test, 0.0)):
            left -= self._times.get(test, 0.0)
            if chosen and left < 0:
                break
            chosen.append(test)
        return chosen

    def _run(self, place: Path, tests: list[str]) -> tuple[str, str]:
        environment = {
            **os.environ, "PYTHONPATH": str(place / "src"), "MEASURED_DEMO": str(KEPT)
        }  # fmt: skip
        arguments = place / "these-tests"
        arguments.write_text("\n".join(tests))
        command = [
            sys.executable, "-m", "pytest", "-q", "-x", "-n", "0", "--tb=no", "-p",
            "no:cacheprovider", f"@{arguments}",
        ]  # fmt: skip
        patience = PATIENCE + SLOWER * sum(self._times.get(test, 1.0) for test in tests)
        with subprocess.Popen(
            command, cwd=place, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            text=True, start_new_session=True,
        ) as running:  # fmt: skip
            try:
                said, _ = running.communicate(timeout=patience)
            except subprocess.TimeoutExpired:
                os.killpg(running.pid, signal.SIGKILL)
                return "caught", "does not end"
        if running.returncode == 0:
            return "survived", f"{len(tests)} tests"
        failed = re.search(r"^(?:FAILED|ERROR) (\S+)", said, re.MULTILINE)
        return "caught", failed[1] if failed else said[-200:]

    @staticmethod
    def _found(fault: Fault, verdict: str, by: str) -> dict[str, object]:
        return {**asdict(fault), "verdict": verdict, "by": by}


def _measure_demo() -> None:
    """Measure the demo for all tests, without a fault: each fault would wait a minute for it."""
    said = KEPT / "demo.txt"
    if not said.exists():
        shutil.rmtree(KEPT / "demo", ignore_errors=True)
        program = str(Path(sys.executable).with_name("ferocal"))
        command = [program, "demo", "."]
        (KEPT / "demo").mkdir()
        done = subprocess.run(command, cwd=KEPT / "demo", stdout=subprocess.PIPE, check=True)
        said.write_bytes(done.stdout)


@functools.cache
def _lines_when_mapped(path: str) -> dict[int, int]:
    """By line of a module today the same line when the tests were mapped."""
    now = (ROOT / PACKAGE / path).read_text(encoding="utf-8").splitlines()
    kept = KEPT / "mapped" / path
    then = kept.read_text(encoding="utf-8").splitlines() if kept.exists() else []
    same = difflib.SequenceMatcher(None, then, now, autojunk=False).get_matching_blocks()
    return {b + i + 1: a + i + 1 for a, b, size in same for i in range(size)}


def known() -> dict[str, dict[str, object]]:
    """What was found before, by key."""
    path = KEPT / "found.jsonl"
    if not path.exists():
        return {}
    rows = map(json.loads, path.read_text(encoding="utf-8").splitlines())
    return {row["key"]: row for row in rows}


def judge_all(faults: list[Fault], seconds: float, workers: int) -> Iterator[dict[str, object]]:
    """Judge faults side by side; what was found is kept one by one."""
    judge = Judge(seconds)
    with (
        (KEPT / "found.jsonl").open("a", encoding="utf-8") as kept,
        concurrent.futures.ThreadPoolExecutor(workers) as pool,
    ):
        asked = [pool.submit(judge.judge, fault) for fault in faults]
        for done in concurrent.futures.as_completed(asked):
            found = done.result()
            kept.write(json.dumps(found, ensure_ascii=False) + "\n")
            kept.flush()
            yield found


def report(faults: list[Fault], found: dict[str, dict[str, object]]) -> None:
    """Print the score by part, and what was not noticed."""
    listed = Path(__file__).with_name("equivalent.txt").read_text(encoding="utf-8")
    equivalent = {line.split()[0] for line in listed.splitlines() if line.strip()}
    counts: dict[str, Counter[str]] = defaultdict(Counter)
    missed = []
    for fault in faults:
        if fault.key in found:
            verdict = str(found[fault.key]["verdict"])
            if verdict != "caught" and fault.key in equivalent:
                verdict = "equivalent"
            counts[fault.path.partition("/")[0]][verdict] += 1
            if verdict in ("survived", "unreached"):
                missed.append((fault, verdict))
    for fault, verdict in missed:
        print(f"{fault.key} {fault.path}:{fault.site.line} {verdict}: {fault.site.text[:120]}")
    for part, of_part in counts.items():
        judged = sum(of_part.values()) - of_part["equivalent"]
        score = of_part["caught"] / judged if judged else float("nan")
        print(f"{part}: {of_part['caught']} of {judged} noticed, {score:.0%} (target {TARGET:.0%}),"
              f" {of_part['equivalent']} equivalent")  # fmt: skip


def main() -> None:
    """Judge what is not judged yet, and report."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sample", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="")
    parser.add_argument("--tests", nargs="*", default=[], help="find out what these reach")
    parser.add_argument("--seconds", type=float, default=math.inf)
    parser.add_argument("--workers", type=int, default=WORKERS)
    parser.add_argument("--report", action="store_true")
    given = parser.parse_args()
    faults = [fault for fault in all_faults() if given.only in fault.path]
    if given.sample is not None:
        faults = random.Random(given.seed).sample(faults, min(given.sample, len(faults)))
    before = known()
    if not given.report:
        if given.tests or not (KEPT / "reached.json").exists():
            map_tests(given.tests)
        left = [fault for fault in faults if fault.key not in before]
        for found in judge_all(left, given.seconds, given.workers):
            site = found["site"]
            assert isinstance(site, dict)
            print(f"{found['verdict']}: {found['path']}:{site['line']} {site['text'][:80]}",
                  flush=True)  # fmt: skip
    report(faults, known())


if __name__ == "__main__":
    main()
