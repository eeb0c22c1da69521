"""Mutated inputs of every kind, as whole commands.

Inputs are seeded: a number names one, and ``inputs.py KIND:NUMBER`` shows what it does. Commands
run in this program's workers, as `ferocal` would run them, each with ten seconds. Targets: no
traceback, no load of which a part was recorded though it was refused, no hang.
"""

from __future__ import annotations

import contextlib
import faulthandler
import hashlib
import io
import multiprocessing
import os
import random
import re
import shutil
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path

from material import LEDGER, make_folder
from mutations import (
    TOKENS,
    leave,
    mutate_archive,
    mutate_bytes,
    mutate_json,
    mutate_json_lines,
    mutate_ledger,
    mutate_parquet,
)

# What reads a ledger afterwards, whatever was accepted.
AFTER = tuple(
    tuple(words.split())
    for words in (
        "compare", "compare --detail", "table", "runs --all", "chart", "rank", "factors",
        "series mode",
        "claims", "plan", "note", "frames", "inspect", "inspect --kept", "compare --json",
        "table --json", "runs --json", "claims --json", "rank --json", "inspect --integrity",
    )
)  # fmt: skip
NUMBERS = (0, -1, 1, 2**31, 2**63 - 1, 2**63, 10**30, 1e308, 1e50, 1e-50, 1e-300, 20260512)
PATIENCE = 10  # seconds for a command
LOAD_TRACE = ("load-trace", "--configuration", "on", "--workload", "show", "--column", "frame")
NEW = (
    ("new", "made", "--from"),
    ("new", "made", "--factor", "configuration", "--from"),
    ("new", "made", "--factor", "workload", "--baseline", "on", "--from"),
    ("new", "made", "--column", "configuration=workload", "--from"),
)
CALLS = (
    ["enter", "flight", "--configuration", "off", "--round", "4", "--date", "2026-05-01", "99"],
    ["enter", "flight", "--configuration", "on", "--visit", "a", "--samples", "5", "120..130"],
    ["load", "rows.csv", "--column", "value=value", "--again"],
    ["load-trace", "--configuration", "on", "--workload", "show", "--round", "9", "--skip", "1",
     "--column", "frame", "frames.csv"],
    ["note", "no sound", "--configuration", "on", "--date", "2026-05-01", "--source", "a film"],
    ["exclude", "RUN", "--reason", "dark"], ["correct", "RUN", "score", "99", "--reason", "typing"],
    ["reference", "add", "--device", "Halden 5", "--metric", "flight score", "--value", "118",
     "--unit", "points", "--source", "a poster", "--date", "2026-01"],
    ["measure", "--rounds", "3", "--level", "mode=on"], ["measure", "--seek", "mode"],
    ["plan", "--detect", "2%", "--sd", "3%", "--rounds", "9"], ["inspect", "--kept"],
    ["compare", "--metric", "score", "--against", "on", "--gate", "worse", "--detail"],
    ["table", "--configuration", "on", "--role", "primary"], ["rank", "--per", "price"],
    ["runs", "--round", "2", "--outcome", "ok", "--all"], ["chart", "-o", "chart.svg"],
    ["report", "-o", "page.html", "--force"], ["export", "out.csv", "--traces", "out"],
    ["new", "made", "--by-hand"], ["combine", "copy", "made"], ["merge", "copy"],
    ["series", "mode"], ["factors", "--json"], ["frames", "-o", "frames.png"],
)  # fmt: skip
READING = ("compare", "runs", "table", "claims", "frames", "note", "inspect --integrity", "rank")


@dataclass(frozen=True)
class Kind:
    """A kind of inputs: what is mutated and how, and the commands that read it, one each time.

    A command without words has its words in the file, a JSON list.
    """

    name: str
    file: str
    mutate: Callable[[bytes, random.Random], bytes]
    commands: tuple[tuple[str, ...], ...]


KINDS = (
    Kind("study file", "study.toml", mutate_bytes, (("plan",), ("compare",), ("table",))),
    Kind("CSV", "rows.csv", mutate_bytes, (("load", "rows.csv"),)),
    Kind("references", "refs.csv", mutate_bytes, (("reference", "add", "refs.csv"),)),
    Kind("JSON", "rows.json", mutate_json, (("load", "rows.json"),)),
    Kind("JSON Lines", "rows.jsonl", mutate_json_lines, (("load", "rows.jsonl"),)),
    Kind("Parquet", "rows.parquet", mutate_parquet, (("load", "rows.parquet"),)),
    Kind("XLSX", "rows.xlsx", mutate_archive, (("load", "rows.xlsx"),)),
    Kind("ODS", "rows.ods", mutate_archive, (("load", "rows.ods"),)),
    Kind("trace", "frames.csv", mutate_bytes, ((*LOAD_TRACE, "frames.csv"),)),
    Kind("exported trace", "trace.parquet", mutate_parquet, (("load", "trace.parquet"),)),
    Kind("ledger", LEDGER, mutate_ledger, tuple(tuple(c.split()) for c in READING)),
    Kind("ledger merged", "copy/ledger.sqlite", mutate_ledger, (("merge", "copy"),)),
    Kind("new from CSV", "long.csv", mutate_bytes, tuple((*n, "long.csv") for n in NEW)),
    Kind("new from JSON", "rows.json", mutate_json, tuple((*n, "rows.json") for n in NEW)),
    Kind("new from XLSX", "rows.xlsx", mutate_archive, tuple((*n, "rows.xlsx") for n in NEW)),
    Kind(
        "new from Parquet", "rows.parquet", mutate_parquet, tuple((*n, "rows.parquet") for n in NEW)
    ),
    Kind("journal", "measure.journal", mutate_json, (("measure",),)),
    Kind("options", "call.json", leave, ((),)),
)


class Bed:
    """A folder of a worker, in which one input after the other is tried."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._good = {kind.file: (folder / kind.file).read_bytes() for kind in KINDS}
        os.chdir(folder)

    def attempt(self, kind: Kind, number: int, *debug: str) -> tuple[str, str]:
        """What went wrong with an input, "" if nothing did, and what the command printed."""
        rng = random.Random(f"{kind.name} {number}")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            content = kind.mutate(self._good[kind.file], rng)
        self._put(kind.file, content)
        before = self._ledger()
        words = rng.choice(kind.commands) or self._call(rng)
        status, printed = _run(words, *debug)
        fault = ""
        if status == 70 or "Traceback" in printed or "Warning:" in printed:
            fault = "traceback"
        elif status not in (0, 1, 2, 3, 4):
            fault = f"status {status}"
        elif status != 0 and self._ledger() != before and kind.file != LEDGER:
            fault = "partial load"
        elif not printed.strip():
            fault = "nothing said"
        elif status == 0 and kind.file != LEDGER:
            fault, said = self._read_after(
                rng, "made" if words[:1] in (("new",), ("combine",)) else "."
            )
            printed += said
        shutil.rmtree(self._folder / "made", ignore_errors=True)
        shutil.rmtree(self._folder / "out", ignore_errors=True)
        for left in self._folder.glob("measure.journal.*"):
            left.unlink()
        self._put(kind.file, self._good[kind.file])
        for name in (LEDGER, "measure.journal"):
            self._put(name, self._good[name])
        return fault, f"{' '.join(words)}: exit {status}\n{printed}"

    def _call(self, rng: random.Random) -> tuple[str, ...]:
        """The words of a call, of which one or two are others."""
        run = (self._folder / "run").read_text()
        words = [run if word == "RUN" else word for word in rng.choice(CALLS)]
        for _ in range(rng.choice((1, 1, 2))):
            place = rng.randrange(1, len(words)) if len(words) > 1 else 0
            odd = rng.choice(TOKENS).decode("utf-8", "surrogateescape")
            odd = rng.choice((odd, odd, words[place] + odd, str(rng.choice(NUMBERS))))
            words[place] = odd.replace("\0", "") if rng.random() < 0.9 else words[place]
            if rng.random() < 0.1:
                del words[place]
        # Many rounds are no fault, and take longer than there is time.
        much = words[:1] == ["measure"]
        return tuple("3" if much and re.fullmatch("[0-9]{2,7}", word) else word for word in words)

    def _read_after(self, rng: random.Random, directory: str) -> tuple[str, str]:
        """Whether what was accepted can be read: a fault, and what was printed."""
        words = (*rng.choice(AFTER), "--study", directory)
        width = os.environ.pop("COLUMNS", None)
        os.environ["COLUMNS"] = str(rng.choice((20, 40, 80, 100, 200)))
        status, printed = _run(words)
        del os.environ["COLUMNS"]
        if width is not None:
            os.environ["COLUMNS"] = width
        said = f"\nthen {' '.join(words)}: exit {status}\n{printed}"
        if status == 70 or "Traceback" in printed or "Warning:" in printed:
            return "traceback", said
        refused = status == 1 and "nothing recorded yet" not in printed
        return "refused afterwards" if refused else "", said

    def _put(self, name: str, content: bytes) -> None:
        path = self._folder / name
        if name == LEDGER:
            for left in self._folder.glob(f"{LEDGER}-*"):
                left.unlink()
            if path.exists() and path.read_bytes() == content:
                return
        path.write_bytes(content)

    def _ledger(self) -> str:
        return hashlib.sha256((self._folder / LEDGER).read_bytes()).hexdigest()


def _run(words: tuple[str, ...], *debug: str) -> tuple[int, str]:
    """Run a command as the program does, without the start of an interpreter."""
    from ferocal.cli import main

    written = io.BytesIO()
    printed = io.TextIOWrapper(written, encoding="utf-8", errors="strict")
    sys.argv = ["ferocal", *debug, *words]
    with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(printed):
        try:
            status = main.run()
        except SystemExit as end:
            status = int(end.code or 0)
        printed.flush()
    return status, written.getvalue().decode()


def work(folder: Path, jobs: list[tuple[Kind, int]], answers: Connection) -> None:
    """Try one input after the other; each is announced before, and answered after."""
    log = (folder / "worker.log").open("w")
    for stream in (1, 2):  # also what libraries in C write
        os.dup2(log.fileno(), stream)
    os.environ["XDG_CACHE_HOME"] = str(folder)
    bed = Bed(folder)
    for kind, number in jobs:
        answers.send((kind.name, number, None, ""))
        faulthandler.dump_traceback_later(PATIENCE, exit=True, file=log)
        answers.send((kind.name, number, *bed.attempt(kind, number)))
        faulthandler.cancel_dump_traceback_later()


def try_inputs(good: Path, jobs: list[tuple[Kind, int]]) -> Iterator[tuple[str, int, str]]:
    """What went wrong, by kind and number; a worker that ends has hung or was aborted."""
    left = jobs
    while left:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name) / "bed"
            shutil.copytree(good, folder)
            spawning = multiprocessing.get_context("spawn")
            ours, theirs = spawning.Pipe()
            worker = spawning.Process(target=work, args=(folder, left, theirs))
            worker.start()
            theirs.close()
            current, done = ("", 0), 0
            with contextlib.suppress(EOFError):
                while True:
                    kind, number, fault, _ = ours.recv()
                    current = (kind, number)
                    if fault is not None:
                        done += 1
                        yield kind, number, fault
            worker.join()
            if worker.exitcode:
                text = (folder / "worker.log").read_text(errors="replace")
                print(text[-2000:], file=sys.stderr)
                yield (*current, "hang" if "Timeout (" in text else f"abort {worker.exitcode}")
                done += 1
            left = left[done:]


def _share_of(count: int, seed: int, share: tuple[int, int]) -> list[tuple[Kind, int]]:
    """A worker's share of so many inputs, spread evenly over the kinds."""
    place, workers = share
    jobs = [(KINDS[i % len(KINDS)], seed * 10**7 + i // len(KINDS)) for i in range(count)]
    return jobs[place::workers]


def _collect(job: tuple[Path, int, int, tuple[int, int]]) -> list[tuple[str, int, str]]:
    good, count, seed, share = job
    return list(try_inputs(good, _share_of(count, seed, share)))


def inputs(good: Path, count: int, seed: int) -> int:
    """Try so many inputs on all processors; the number of faults."""
    from concurrent.futures import ThreadPoolExecutor

    workers = os.cpu_count() or 1
    start = time.perf_counter()
    with ThreadPoolExecutor(workers) as pool:
        parts = pool.map(_collect, [(good, count, seed, (i, workers)) for i in range(workers)])
        found = [answer for part in parts for answer in part]
    wrong = [(kind, number, fault) for kind, number, fault in found if fault]
    seconds = time.perf_counter() - start
    print(f"{len(found)} mutated inputs of {len(KINDS)} kinds in {seconds:.0f} s")
    for fault in ("traceback", "partial load", "refused afterwards", "hang"):
        print(f"  {fault}: {sum(f == fault for *_, f in wrong)} (target 0)")
    for (kind, fault), times in sorted(Counter((k, f) for k, _, f in wrong).items()):
        first = next(n for k, n, f in wrong if (k, f) == (kind, fault))
        print(f"  {kind}: {fault}, {times} times, such as '{kind}:{first}'")
    return len(wrong)


def _main() -> None:
    """Try one input and show it; what `ferocal` itself takes may follow."""
    chosen, *debug = sys.argv[1:]
    kind, _, number = chosen.rpartition(":")
    (found,) = (k for k in KINDS if k.name == kind)
    with tempfile.TemporaryDirectory() as name:
        os.environ["FEROCAL_LOCKS"] = name
        make_folder(Path(name))
        print("\n".join(Bed(Path(name)).attempt(found, int(number), *debug)))


if __name__ == "__main__":
    _main()
