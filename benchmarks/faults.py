"""What must not happen: mutated inputs of every kind, and kills and Ctrl-C while measuring.

Inputs are seeded: a number names one, and ``--only KIND:NUMBER`` shows what it does. Commands run
in this program's workers, as `ferocal` would run them, each with ten seconds. Targets: no
traceback, no load of which a part was recorded though it was refused, no hang; after all kills
and interrupts exactly the runs that were planned, each once.
"""

from __future__ import annotations

import argparse
import contextlib
import faulthandler
import hashlib
import io
import json
import multiprocessing
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path

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
from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
LEDGER = "ledger.sqlite"
# Where what a command makes is, by its first word.
_MAKES = {("new",): "made", ("combine",): "made"}
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
STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
rounds = 3
runs = 1
[bench.dome-node]
[factor.mode.level.off]
environment = { GAIN = "100" }
[factor.mode.level.on]
environment = { GAIN = "120" }
verify = [{ command = "true", equals = "" }]
[workload.flight]
shell = true
timeout = "5 s"
command = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9.]+)" }
[workload.show]
shell = true
command = "for i in 1 2 3 4 5 6; do echo $i; done"
[workload.show.metric.frames]
kind = "frames"
unit = "ms"
source = { output = "lines" }
[claim.faster]
says = "It is faster."
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""
ROWS = [
    {"configuration": name, "workload": "flight", "metric": "score", "round": number,
     "unit": "points", "value": value + number / 4, "started_at": f"2026-05-0{number}T14:30"}
    for number in (4, 5, 6, 7) for name, value in (("off", 100), ("on", 120))
]  # fmt: skip
FRAMES = ["time,frame"] + [f"{i / 60:.4f},{16 + i % 3}" for i in range(200)]
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


def make_folder(folder: Path) -> None:
    """A measured study, with a good file of every kind beside it."""
    import pandas as pd

    (folder / "study.toml").write_text(STUDY)
    for words in (["measure"], ["export", "all.csv", "--traces", "traces"]):
        subprocess.run([PROGRAM, *words], cwd=folder, check=True, capture_output=True)
    (folder / "copy").mkdir()
    for name in ("study.toml", LEDGER):
        shutil.copy(folder / name, folder / "copy" / name)
    frame = pd.DataFrame(ROWS)
    frame.to_csv(folder / "rows.csv", index=False)
    (folder / "rows.json").write_text(json.dumps({"readings": ROWS}))
    (folder / "rows.jsonl").write_text("\n".join(map(json.dumps, ROWS)))
    frame.to_parquet(folder / "rows.parquet")
    frame.to_excel(folder / "rows.xlsx", index=False)
    with pd.ExcelWriter(folder / "rows.ods", engine="odf") as writer:
        frame.to_excel(writer, index=False)
    (folder / "frames.csv").write_text("\n".join(FRAMES))
    (folder / "refs.csv").write_text(
        "device,workload,metric,value,unit,source,date\nHalden 5,flight,score,118,points,a poster,"
        "2026-01-03\nLarkspur 2,flight,score,90..95,points,a leaflet,2025-11\n"
    )
    shutil.copy(sorted((folder / "traces").glob("*.parquet"))[0], folder / "trace.parquet")
    frame.drop(columns="round").to_csv(folder / "long.csv", index=False)
    (folder / "call.json").write_text("[]")
    _make_journal(folder)


def _make_journal(folder: Path) -> None:
    """A run of which the ledger does not have the end, and the journal that has it."""
    import sqlite3

    from ferocal.ledger import tables
    from ferocal.ledger.records import Ending, Outcome, Value
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.ledger.writing.runs import Recorder
    from ferocal.measure.journal import keep_ending

    with sqlite3.connect(folder / LEDGER) as connection:
        visit, uid = connection.execute("SELECT visit_id, uid FROM run LIMIT 1").fetchone()
    with open_ledger(folder) as ledger:
        ledger.insert(
            tables.RUN, uid="0" * 31 + "1", visit_id=visit, workload="flight", number=9,
            warmup=False, position=9, started_at="2026-05-01T14:30:00.000+00:00",
            outcome=Outcome.RUNNING,
        )  # fmt: skip
        recorder = Recorder(ledger)
        recorder.begun = "0" * 31 + "1"
        values = [Value("flight", "score", "points", 101.0)]
        keep_ending(recorder, Ending(Outcome.OK, None, 0.5, values))
    (folder / "run").write_text(uid[:12])


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


def inputs(count: int, seed: int, share: tuple[int, int]) -> list[tuple[Kind, int]]:
    """A worker's share of so many inputs, spread evenly over the kinds."""
    place, workers = share
    jobs = [(KINDS[i % len(KINDS)], seed * 10**7 + i // len(KINDS)) for i in range(count)]
    return jobs[place::workers]


def _collect(job: tuple[Path, int, int, tuple[int, int]]) -> list[tuple[str, int, str]]:
    good, count, seed, share = job
    return list(try_inputs(good, inputs(count, seed, share)))


def mutated(good: Path, count: int, seed: int) -> int:
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
        print(f"  {kind}: {fault}, {times} times, such as --only '{kind}:{first}'")
    return len(wrong)


def ended(count: int, number: int, seed: int) -> tuple[int, int]:
    """End a study's measuring by a signal so many times; ends that were wrong, runs missing."""
    rng, wrong = random.Random(f"{seed} {number}"), 0
    rounds, name = scaled(24, 1), "SIGKILL" if number == signal.SIGKILL else "SIGINT"
    with tempfile.TemporaryDirectory() as folder:
        text = STUDY.replace("rounds = 3", f"rounds = {rounds}")
        slow = text.replace("echo score", "sleep 0.02; echo score")
        (Path(folder) / "study.toml").write_text(slow)
        environment = {**os.environ, "FEROCAL_LOCKS": folder, "TMPDIR": folder}
        for _ in range(count):
            process = subprocess.Popen(
                [PROGRAM, "measure"],
                cwd=folder,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                text=True,
                env=environment,
            )
            time.sleep(rng.uniform(0.02, 1.2))
            process.send_signal(number)
            _, error = process.communicate(timeout=60)
            expected = (-9, 0) if name == "SIGKILL" else (130, 0)
            if process.returncode not in expected or "Traceback" in error:
                wrong += 1
                print(f"  {name}: ended with {process.returncode}: {error[-300:]}")
        last = subprocess.run(
            [PROGRAM, "measure"], cwd=folder, capture_output=True, env=environment
        )
        # Nothing is left of the scratch directories either.
        wrong += (last.returncode != 0) + len(list(Path(folder).glob("ferocal-*-*")))
        return wrong, _off(Path(folder), 2 * 2 * rounds)


def _off(folder: Path, planned: int) -> int:
    """By how many the good runs of a ledger are not those that were planned, each once."""
    import sqlite3

    connection = sqlite3.connect(folder / LEDGER)
    runs = connection.execute(
        "SELECT v.round, v.configuration, r.workload, r.number FROM run r JOIN visit v "
        "ON v.id = r.visit_id WHERE r.outcome = 'ok' AND NOT r.warmup"
    ).fetchall()
    running = connection.execute("SELECT count(*) FROM run WHERE outcome = 'running'").fetchone()
    connection.close()
    return abs(len(set(runs)) - planned) + len(runs) - len(set(runs)) + int(running[0])


def ends(count: int, seed: int) -> int:
    """Kills and interrupts, twenty to a study; the number of faults."""
    from concurrent.futures import ThreadPoolExecutor

    faults = 0
    for number, name in ((signal.SIGKILL, "kills"), (signal.SIGINT, "Ctrl-C")):
        portions = [min(20, count - i) for i in range(0, count, 20)]
        seeds = range(seed, seed + len(portions))
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            found = list(pool.map(ended, portions, [number] * len(portions), seeds))
        wrong, off = sum(w for w, _ in found), sum(o for _, o in found)
        print(f"{count} {name}: {wrong} wrong ends, {off} runs too many or few (target 0)")
        faults += wrong + off
    return faults


def beside(count: int, seed: int) -> int:
    """Reading commands and notes beside runs that are being recorded; the number of failures."""
    rng, wrong, notes = random.Random(seed), 0, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quick = STUDY.replace("rounds = 3", "rounds = 10000").replace("runs = 1", "runs = 50")
        (folder / "study.toml").write_text(quick.replace("echo score", "sleep 0.01; echo score"))
        environment = {**os.environ, "FEROCAL_LOCKS": name, "TMPDIR": name}
        measuring = subprocess.Popen(
            [PROGRAM, "measure"],
            cwd=folder,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        while not (folder / LEDGER).exists():
            time.sleep(0.05)
        time.sleep(1)
        for number in range(count):
            note = number % 3 == 2
            words = ["note", "x"] if note else rng.choice((["table"], ["runs"], ["compare"]))
            done = subprocess.run(
                [PROGRAM, *words], cwd=folder, env=environment, capture_output=True, text=True
            )
            notes += note
            if done.returncode:
                wrong += 1
                print(f"  {words}: {done.returncode}: {done.stderr[-300:]}")
        wrong += measuring.poll() is not None
        measuring.send_signal(signal.SIGINT)
        measuring.communicate(timeout=60)
        listed = subprocess.run(
            [PROGRAM, "note", "--json"], cwd=folder, capture_output=True, text=True
        )
        wrong += abs(len(json.loads(listed.stdout)["notes"]) - notes)
    print(
        f"{count} commands beside a measurement, {notes} of them notes: {wrong} failed (target 0)"
    )
    return wrong


def main() -> None:
    """Try everything, or one input and show it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=scaled(50_000, 36))
    parser.add_argument("--ends", type=int, default=scaled(200, 1))
    parser.add_argument("--beside", type=int, default=scaled(300, 3))
    parser.add_argument("--tiny", action="store_true", help="just enough to run all of it")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", metavar="KIND:NUMBER")
    parser.add_argument("--debug", action="store_const", const=["--debug"], default=[])
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        good = Path(name)
        # Nothing is timed, so others may measure on this machine meanwhile.
        os.environ["FEROCAL_LOCKS"] = name
        make_folder(good)
        if chosen.only:
            kind, _, number = chosen.only.rpartition(":")
            (found,) = (k for k in KINDS if k.name == kind)
            print("\n".join(Bed(good).attempt(found, int(number), *chosen.debug)))
            return
        faults = mutated(good, chosen.inputs, chosen.seed) if chosen.inputs else 0
        faults += ends(chosen.ends, chosen.seed) if chosen.ends else 0
        faults += beside(chosen.beside, chosen.seed) if chosen.beside else 0
    sys.exit(faults != 0)


if __name__ == "__main__":
    main()
