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
from typing import IO, Any

EXAMPLES = Path(__file__).parent
OUTPUT = EXAMPLES.parent / "build" / "examples"
FEROCAL = Path(sys.executable).with_name("ferocal")
LEDGER = "ledger.sqlite"
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


class ExampleError(Exception):
    """An example that could not be carried out."""


def ferocal(example: Example, *words: str, watched: bool = False) -> str:
    """Run Ferocal in the directory of an example; its output, unless that is watched.

    What is watched is shown where there is a terminal, and else kept in a file.

    Raises
    ------
    ExampleError
        When it fails.
    """
    told: int | IO[str] | None = subprocess.PIPE
    with contextlib.ExitStack() as stack:
        if watched:
            log = stack.enter_context((OUTPUT / f"{example.name}.log").open("a+"))
            told = None if sys.stderr.isatty() else log
        done = subprocess.run(
            [FEROCAL, *words],
            cwd=example.directory,
            stdout=told,
            stderr=told,
            text=True,
            check=False,
        )
        if done.returncode:
            log_text = Path(log.name).read_text() if watched else f"{done.stdout}{done.stderr}"
            raise ExampleError(f"ferocal {' '.join(words)} failed\n{log_text[-2000:].strip()}")
    return done.stdout or ""


def compare(example: Example, *where: str) -> Any:
    """The comparison of an example as an object."""
    return json.loads(ferocal(example, "compare", "--json", *where))


def take_readings(example: Example, rounds: int | None) -> None:
    """Measure or load what is not there yet."""
    (OUTPUT / f"{example.name}.log").write_text("")
    more = () if rounds is None else ("--rounds", str(rounds))
    steps = example.steps or (("measure", *more),)
    if example.steps and (example.directory / LEDGER).exists():
        return
    for step in steps:
        try:
            ferocal(example, *step, watched=True)
        except ExampleError:
            if example.steps:
                raise
            # Once more from where it stopped: a check may have failed on a stalling machine.
            ferocal(example, *step, watched=True)


def put_aside(example: Example) -> Path | None:
    """Put the ledger of an example aside, with its study file; where, if there was one."""
    if not (example.directory / LEDGER).exists():
        return None
    earlier = OUTPUT / "earlier" / f"{example.name}-{time.strftime('%Y%m%dT%H%M%S')}"
    earlier.mkdir(parents=True)
    shutil.copy(example.directory / "study.toml", earlier)
    for file in example.directory.glob(f"{LEDGER}*"):
        shutil.move(file, earlier)
    return earlier


def repeated(example: Example, earlier: Path) -> tuple[str, list[str]]:
    """Which verdicts of an earlier time repeated, in words, and those that contradict."""
    first, second = (
        {(e["workload"], e["metric"], e["configuration"]): e["verdict"] for e in found["effects"]}
        for found in (compare(example, "--study", str(earlier)), compare(example))
    )
    counts: Counter[str] = Counter()
    contradicting = []
    for place in sorted(first.keys() & second.keys()):
        pair = {first[place], second[place]}
        if len(pair) == 1:
            counts["repeated"] += 1
        elif pair == CHANGED:
            contradicting.append(" ".join(place))
        else:
            counts["open in one" if "inconclusive" in pair else "equal in one"] += 1
    told = ", ".join(f"{count} {kind}" for kind, count in counts.most_common())
    text = f"verdicts of both times: {told}, {len(contradicting)} contradicting"
    return text, contradicting


def carry_out(example: Example, rounds: int | None, *, again: bool) -> bool:
    """Take the readings of an example, write its report and tell its answer.

    Whether no verdict contradicts that of an earlier time.
    """
    start = time.monotonic()
    earlier = put_aside(example) if again else None
    print(f"{example.name} …", file=sys.stderr, flush=True)
    take_readings(example, rounds)
    ferocal(example, "report", "-o", str(OUTPUT / f"{example.name}.html"))
    seconds = time.monotonic() - start
    lines = compare(example)["answer"]
    answer = " | ".join(f"{x['about']}: {x['text']}" if x["about"] else x["text"] for x in lines)
    print(f"{example.name} ({seconds:.0f} s): {answer}", flush=True)
    if earlier is None:
        return True
    text, contradicting = repeated(example, earlier)
    lines = [f"  {text}", *(f"  contradicting: {place}" for place in contradicting)]
    print("\n".join(lines), flush=True)
    return not contradicting


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
    well = True
    for example in TABLE:
        if options.names and example.name not in options.names:
            continue
        missing = list(example.missing())
        if missing:
            print(f"{example.name}: left out, {', '.join(missing)} missing: make examples-install")
            continue
        try:
            well &= carry_out(example, options.rounds, again=options.again)
        except ExampleError as error:
            well = False
            print(f"{example.name}: {error}", flush=True)
    sys.exit(not well)


if __name__ == "__main__":
    main()
