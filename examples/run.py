"""Run the examples whose software is installed: a line each with the answer, a report each.

Usage: run.py [--rounds N] [--again] [NAME...]. What was measured before is not measured again:
an example goes on where it stopped. With --again its ledger is put aside and it is measured anew;
then it is said which verdicts repeated. Reports are left in build/examples.
"""

from __future__ import annotations

import argparse
import contextlib
import importlib.util
import json
import platform
import shutil
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

EXAMPLES = Path(__file__).parent
OUTPUT = EXAMPLES.parent / "build" / "examples"
FEROCAL = Path(sys.executable).with_name("ferocal")
CHANGED = {"better", "worse"}


@dataclass(frozen=True)
class Example:
    """An example, and what has to be there for it.

    Of ``programs`` one of those that "|" separates, ``libraries`` that are linked to, Python
    ``modules``, and ``files`` of its directory (patterns). ``steps`` are commands of Ferocal in the
    place of measuring.
    """

    name: str
    programs: tuple[str, ...] = ()
    libraries: tuple[str, ...] = ()
    modules: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    steps: tuple[tuple[str, ...], ...] = ()

    @property
    def directory(self) -> Path:
        """Where it is."""
        return EXAMPLES / self.name

    def missing(self) -> Iterator[str]:
        """What has to be installed first."""
        known = linked_libraries() if self.libraries else ""
        for choice in self.programs:
            if not any(map(shutil.which, choice.split("|"))):
                yield choice.replace("|", " or ")
        yield from (name for name in self.libraries if f"{name} " not in known)
        yield from (name for name in self.modules if importlib.util.find_spec(name) is None)
        for pattern in self.files:
            if not any(self.directory.glob(pattern)):
                yield f"{self.name}/{pattern}"


def linked_libraries() -> str:
    """What the dynamic linker finds, a line for each library."""
    linker = shutil.which("ldconfig") or "/sbin/ldconfig"
    return subprocess.run([linker, "-p"], capture_output=True, text=True, check=True).stdout


def load_log(release: str) -> tuple[str, ...]:
    """The command that takes in the log of an evening."""
    words = ("load-trace", f"evening-{release}.csv", "--configuration", release)
    return (*words, "--workload", "evening-loop")


TABLE = (
    Example("browsers", programs=("chromium", "firefox-esr|firefox")),
    Example(
        "system-releases",
        files=tuple(f"build/{r}/etc/os-release" for r in ("bullseye", "bookworm", "trixie")),
    ),
    Example(
        "runtimes",
        programs=("/usr/bin/python3", "/usr/bin/python3-dbg", "/usr/bin/pypy3"),
        files=("build/node-18", "build/node-26"),
    ),
    Example(
        "allocators",
        programs=("cc",),
        libraries=("libjemalloc.so.2", "libtcmalloc_minimal.so.4", "libmimalloc.so.2"),
    ),
    Example(
        "virtual-machine",
        programs=("cc", f"qemu-system-{platform.machine()}", "busybox", "cpio"),
        files=("build/kernel/boot/vmlinuz-*",),
    ),
    Example(
        "notebook-and-stopwatch",
        modules=("openpyxl",),
        steps=(
            ("load", "scores.xlsx"),
            ("load", "page.csv"),
            load_log("halden-4"),
            load_log("halden-5"),
        ),
    ),
    Example("this-machine"),
    Example("emulation", programs=("cc", f"qemu-{platform.machine()}")),
    Example("graphics-drivers", modules=("moderngl",)),
)


def call(example: Example, *words: str, log: Path | None = None) -> tuple[int, str]:
    """Run Ferocal in the directory of an example; exit status, and output unless that is logged."""
    with contextlib.ExitStack() as stack:
        told = subprocess.PIPE if log is None else stack.enter_context(log.open("a"))
        done = subprocess.run(
            [FEROCAL, *words],
            cwd=example.directory,
            stdout=told,
            stderr=told if log else subprocess.PIPE,
            text=True,
            check=False,
        )
    return done.returncode, (done.stdout or "") if done.returncode == 0 else f"{done.stderr}"


def ferocal(example: Example, *words: str, log: Path | None = None) -> str:
    """Run Ferocal in the directory of an example; its output, unless that is logged.

    Raises
    ------
    SystemExit
        When it fails.
    """
    status, output = call(example, *words, log=log)
    if status:
        said = output if log is None else log.read_text()
        sys.exit(f"{example.name}: ferocal {' '.join(words)} failed\n{said[-2000:]}")
    return output


def compare(example: Example, *where: str) -> Any:
    """The comparison of an example as an object."""
    return json.loads(ferocal(example, "compare", "--json", *where))


def carry_out(example: Example, rounds: int | None) -> None:
    """Measure or load what is not there yet."""
    log = OUTPUT / f"{example.name}.log"
    log.write_text("")
    if not example.steps:
        more = () if rounds is None else ("--rounds", str(rounds))
        if call(example, "measure", *more, log=log)[0]:
            # Once more from where it stopped: a check may have failed on a stalling machine.
            ferocal(example, "measure", *more, log=log)
    elif not (example.directory / "ledger.sqlite").exists():
        for step in example.steps:
            ferocal(example, *step, log=log)


def put_aside(example: Example) -> Path | None:
    """Put the ledger of an example aside, with its study file; where, if there was one."""
    if not (example.directory / "ledger.sqlite").exists():
        return None
    earlier = OUTPUT / "earlier" / example.name
    shutil.rmtree(earlier, ignore_errors=True)
    earlier.mkdir(parents=True)
    shutil.copy(example.directory / "study.toml", earlier)
    for file in example.directory.glob("ledger.sqlite*"):
        shutil.move(file, earlier)
    return earlier


def repeated(example: Example, earlier: Path) -> tuple[str, bool]:
    """Which verdicts of an earlier time repeated, and whether any contradicts."""
    first, second = (
        {(e["workload"], e["metric"], e["configuration"]): e["verdict"] for e in found["effects"]}
        for found in (compare(example, "--study", str(earlier)), compare(example))
    )
    counts: Counter[str] = Counter()
    places = []
    for place in first.keys() & second.keys():
        pair = {first[place], second[place]}
        kind = "repeated" if len(pair) == 1 else "contradict" if pair == CHANGED else "other"
        counts["open in one" if "inconclusive" in pair and kind == "other" else kind] += 1
        if kind == "contradict":
            places.append(" ".join(place))
    told = ", ".join(f"{count} {kind}" for kind, count in sorted(counts.items(), reverse=True))
    return f"verdicts of both times: {told}" + "".join(f"; {p}" for p in places), bool(places)


def main() -> None:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(description="Run the examples whose software is installed.")
    parser.add_argument("--rounds", type=int, help="so many rounds instead of those of the study")
    parser.add_argument("--again", action="store_true", help="measure anew, and say what repeated")
    parser.add_argument("names", nargs="*", metavar="NAME", help="these alone")
    options = parser.parse_args()
    unknown = set(options.names) - {example.name for example in TABLE}
    if unknown:
        parser.error(f"no example {', '.join(sorted(unknown))}")
    OUTPUT.mkdir(parents=True, exist_ok=True)
    contradicted = False
    for example in TABLE:
        if options.names and example.name not in options.names:
            continue
        missing = list(example.missing())
        if missing:
            print(f"{example.name}: left out, {', '.join(missing)} missing: make examples-install")
            continue
        start = time.monotonic()
        earlier = put_aside(example) if options.again else None
        carry_out(example, options.rounds)
        ferocal(example, "report", "-o", str(OUTPUT / f"{example.name}.html"))
        seconds = time.monotonic() - start
        print(f"{example.name} ({seconds:.0f} s): {compare(example)['answer'][0]}", flush=True)
        if earlier is not None:
            text, wrong = repeated(example, earlier)
            print(f"  {text}")
            contradicted |= wrong
    sys.exit(contradicted)


if __name__ == "__main__":
    main()
