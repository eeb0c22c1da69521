"""What reads files, called on bytes: refused in words or read, and nothing else.

Three sources of bytes: mutations of good files, documents that Hypothesis makes of rows, keys and
odd values, and a fuzzer guided by the lines that are reached. Each input has ten seconds and a
gigabyte of memory.
"""

from __future__ import annotations

import faulthandler
import importlib.util
import json
import os
import random
import resource
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
import warnings
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from material import LEDGER, STUDY
from mutations import (
    TOKENS,
    VALUES,
    mutate_archive,
    mutate_bytes,
    mutate_json,
    mutate_json_lines,
    mutate_ledger,
    mutate_parquet,
)

PATIENCE = 10
MEMORY = 2**30
_MOST_BYTES = 20_000
_SHOWN = 40
_FEWEST = 10


@dataclass(frozen=True)
class Reader:
    """Files of a kind: an example, what reads one, and how it is mutated."""

    name: str
    file: str
    read: Callable[[Path], object]
    mutate: Callable[[bytes, random.Random], bytes]


def _read_study(path: Path) -> object:
    from ferocal.study.load import load_study

    return load_study(path.parent)


def _read_readings(path: Path) -> object:
    from ferocal.intake.loading import read_source
    from ferocal.study.load import load_study

    return read_source(load_study(Path("study")), path, "")


def _begin(path: Path) -> object:
    from ferocal.intake.tables.entry import read_readings
    from ferocal.intake.tables.options import TableOptions

    return read_readings(path, TableOptions(), None)


def _read_trace(path: Path) -> object:
    from ferocal.intake.placed import ReadingPlace
    from ferocal.intake.trace_loading import load_traces
    from ferocal.intake.trace_patterns import PlacedFiles
    from ferocal.intake.trace_roles import CaptureForm
    from ferocal.study.load import load_study

    place = ReadingPlace(configuration="on", workload="show", metric="frames")
    placed = [PlacedFiles(place, (path,))]
    return load_traces(load_study(Path("study")), placed, CaptureForm(), again=True, preview=True)


def _open_bundle(path: Path) -> object:
    from ferocal.intake.bundle import open_bundle, restore_bundle

    made = path.with_name("opened")
    try:
        with open_bundle(path) as bundle:
            restore_bundle(bundle, made)
        return None
    finally:
        shutil.rmtree(made, ignore_errors=True)


def _read_ledger(path: Path) -> object:
    from ferocal.ledger.opening import read_ledger
    from ferocal.ledger.reading.history import read_changes, read_sessions
    from ferocal.ledger.reading.integrity import read_integrity

    with read_ledger(path.parent) as ledger:
        return read_integrity(ledger), read_sessions(ledger), read_changes(ledger)


READERS = (
    Reader("study file", "study.toml", _read_study, mutate_bytes),
    Reader("CSV", "rows.csv", _read_readings, mutate_bytes),
    Reader("new CSV", "long.csv", _begin, mutate_bytes),
    Reader("JSON", "rows.json", _read_readings, mutate_json),
    Reader("JSON Lines", "rows.jsonl", _read_readings, mutate_json_lines),
    Reader("Parquet", "rows.parquet", _read_readings, mutate_parquet),
    Reader("XLSX", "rows.xlsx", _read_readings, mutate_archive),
    Reader("ODS", "rows.ods", _read_readings, mutate_archive),
    Reader("trace", "frames.csv", _read_trace, mutate_bytes),
    Reader("bundle", "bundle.zip", _open_bundle, mutate_archive),
    Reader("ledger", LEDGER, _read_ledger, mutate_ledger),
)


class Bed:
    """A folder in which one input after the other is read, and what went wrong."""

    def __init__(self, reader: Reader, good: Path, folder: Path) -> None:
        self.reader, self.folder = reader, folder
        self.example = (good / reader.file).read_bytes()
        (folder / "study").mkdir(parents=True)
        (folder / "study" / "study.toml").write_text(STUDY)
        (folder / "input").mkdir()
        self._path = folder / "input" / Path(reader.file).name
        os.chdir(folder)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
        self.tried, self.read, self.slowest = 0, 0, 0.0
        self.faults: Counter[str] = Counter()

    def attempt(self, content: bytes) -> None:
        """Read an input; an error that is none of ours is a fault, kept by where it came from."""
        from ferocal.errors import FerocalError

        self._path.write_bytes(content)
        for left in self._path.parent.glob(f"{LEDGER}-*"):
            left.unlink()
        start = time.perf_counter()
        faulthandler.dump_traceback_later(PATIENCE, exit=True)
        try:
            self.reader.read(self._path)
            self.read += 1
        except FerocalError as error:
            if not str(error).strip():
                self._fault("nothing said", "", content)
        except Exception as error:
            last = traceback.extract_tb(error.__traceback__)
            ours = [f for f in last if "ferocal" in f.filename and "faults" not in f.filename]
            place = f"{Path(ours[-1].filename).name}:{ours[-1].lineno}" if ours else "elsewhere"
            self._fault(f"{type(error).__name__} in {place}", str(error), content)
        finally:
            faulthandler.cancel_dump_traceback_later()
        self.slowest = max(self.slowest, time.perf_counter() - start)
        self.tried += 1

    def _fault(self, text: str, said: str, content: bytes) -> None:
        """Count a fault; the first of its kind is told, and kept where FAULTS_KEPT says."""
        if text not in self.faults and len(self.faults) < _SHOWN:
            print(f"{text}: {said[:200]}", file=sys.stderr)
            kept = os.environ.get("FAULTS_KEPT")
            if kept:
                place = Path(kept) / f"{self.reader.name} {len(self.faults)}{self._path.suffix}"
                place.write_bytes(content)
        self.faults[text] += 1

    def answer(self) -> dict[str, Any]:
        """What was found, for JSON; memory in MiB."""
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**10
        return {
            "tried": self.tried, "read": self.read, "slowest": self.slowest, "memory": memory,
            "faults": dict(self.faults),
        }  # fmt: skip


def mutated(bed: Bed, seconds: float, seed: int) -> None:
    """Mutations of the example, and of what came of it before."""
    rng = random.Random(f"{bed.reader.name} {seed}")
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        content = bed.example
        for _ in range(rng.choice((1, 1, 1, 2, 3))):
            try:
                content = bed.reader.mutate(content, rng)
            except Exception:  # what is no such file any more is mutated as bytes
                content = mutate_bytes(content, rng)
        bed.attempt(content)


def made_up(bed: Bed, seconds: float, seed: int) -> None:
    """Documents that Hypothesis makes: rows of cells, nested values, lines of a study file."""
    import hypothesis
    from hypothesis import strategies as st

    def run(content: bytes) -> None:
        # The first ones take a while to be made.
        if time.monotonic() < end or bed.tried < _FEWEST:
            bed.attempt(content)

    documents = _documents(st, bed)
    end, portion = time.monotonic() + seconds, 0
    while time.monotonic() < end:
        portion += 1
        settings: Any = hypothesis.settings(
            max_examples=2000, deadline=None, database=None, phases=[hypothesis.Phase.generate],
            suppress_health_check=list(hypothesis.HealthCheck),
        )  # fmt: skip
        given: Any = hypothesis.given(documents)
        seeded: Any = hypothesis.seed(seed * 10**6 + portion)
        settings(seeded(given(run)))()


def _documents(st: Any, bed: Bed) -> Any:
    """Contents of a kind: text of cells, JSON, or lines of the example in another order."""
    words = [t.decode("utf-8", "replace") for t in TOKENS if len(t) < 100]
    lines = bed.example.decode("utf-8", "replace").splitlines()
    cells = st.one_of(
        st.sampled_from(words), st.floats().map(repr), st.integers().map(str), st.text(max_size=8),
        st.dates().map(str), st.sampled_from(["off", "on", "flight", "show", "score", "value"]),
    )  # fmt: skip
    rows = st.lists(st.lists(cells, max_size=6), max_size=12)
    table = st.builds(
        lambda found, sign: "\n".join(sign.join(row) for row in found), rows,
        st.sampled_from([",", ";", "\t", "|", " "]),
    )  # fmt: skip
    odd = st.one_of(st.sampled_from(VALUES), st.floats(), st.integers(), st.text(max_size=8))
    keys = st.sampled_from(["configuration", "workload", "metric", "value", "round", "unit", "x"])
    objects = st.lists(st.dictionaries(keys, odd, max_size=6), max_size=6)
    nested = st.recursive(
        odd, lambda part: st.lists(part) | st.dictionaries(keys, part), max_leaves=9
    )
    mixed = st.lists(st.one_of(st.sampled_from(lines or [""]), table), max_size=30).map("\n".join)
    document = st.one_of(objects, nested).map(lambda value: json.dumps(value, default=str))
    texts = {".json": document, ".jsonl": objects.map(lambda o: "\n".join(map(json.dumps, o)))}
    chosen = texts.get(Path(bed.reader.file).suffix)
    found = st.one_of(chosen, mixed) if chosen is not None else st.one_of(table, mixed)
    return st.one_of(found.map(lambda text: text.encode("utf-8", "surrogatepass")), st.binary())


def guided(bed: Bed, seconds: float, seed: int) -> None:
    """Inputs of a fuzzer that keeps those which reach new lines; it does not return."""
    import atheris

    corpus = bed.folder / "corpus"
    corpus.mkdir()
    (corpus / "good").write_bytes(bed.example)
    rng = random.Random(f"{bed.reader.name} {seed}")
    for number in range(50):
        (corpus / str(number)).write_bytes(bed.reader.mutate(bed.example, rng))
    end = time.monotonic() + seconds

    def attempt(content: bytes) -> None:
        bed.attempt(content)
        if time.monotonic() > end:
            _print_answer(bed)
            shutil.rmtree(bed.folder)
            os._exit(0)

    options = [f"-seed={seed}", f"-max_len={_MOST_BYTES}", "-rss_limit_mb=4096", "-verbosity=0"]
    atheris.Setup([sys.argv[0], *options, str(corpus)], attempt)
    atheris.Fuzz()


SOURCES: dict[str, Callable[[Bed, float, int], None]] = {
    "mutated": mutated, "made up": made_up, "guided": guided,
}  # fmt: skip


def _print_answer(bed: Bed) -> None:
    print(json.dumps(bed.answer()), flush=True)


def _work(good: Path, seconds: float, seed: int, task: tuple[Reader, str]) -> dict[str, Any]:
    """Inputs of one source for one kind of files, in a process with its own limits."""
    reader, source = task
    words = [sys.executable, __file__, str(good), reader.name, source, str(seconds), str(seed)]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    said = [line for line in done.stdout.splitlines() if line.startswith("{")]
    if done.returncode or not said:
        name = "hang" if "Timeout (" in done.stderr else f"ended with {done.returncode}"
        return {"tried": 0, "read": 0, "slowest": float(PATIENCE), "memory": 0.0,
                "faults": {f"{name}: {done.stderr[-600:]}": 1}}  # fmt: skip
    found: dict[str, Any] = json.loads(said[-1])
    return found


def readers(good: Path, seconds: float, seed: int, workers: int, most: int) -> int:
    """So many kinds from all sources, each for so many seconds; the number of faults."""
    sources = [s for s in SOURCES if s != "guided" or _has_fuzzer()]
    tasks = [(reader, source) for source in sources for reader in READERS[:most]]
    with ThreadPoolExecutor(workers) as pool:
        answers = []
        for (reader, source), answer in zip(
            tasks, pool.map(partial(_work, good, seconds, seed), tasks), strict=True
        ):
            answers.append(answer)
            print(f"  {reader.name}, {source}: {answer['tried']} inputs", file=sys.stderr)
            for text, times in answer["faults"].items():
                print(f"  {reader.name}, {source}: {times} times {text}", flush=True)
    wrong = 0
    for source in sources:
        of_source = [a for (_, s), a in zip(tasks, answers, strict=True) if s == source]
        tried, read = sum(a["tried"] for a in of_source), sum(a["read"] for a in of_source)
        slowest, memory = max(a["slowest"] for a in of_source), max(a["memory"] for a in of_source)
        faults = sum(sum(a["faults"].values()) for a in of_source)
        wrong += faults
        print(f"{tried} inputs {source}, {read} of them read: {faults} faults (target 0), slowest "
              f"{slowest:.1f} s (target {PATIENCE}), memory {memory:.0f} MiB (target 1024)",
              flush=True)  # fmt: skip
    if "guided" not in sources:
        print("  without atheris no input was guided")
    return wrong


def _has_fuzzer() -> bool:
    return importlib.util.find_spec("atheris") is not None


def _main() -> None:
    good, name, source, seconds, seed = sys.argv[1:6]
    (reader,) = (r for r in READERS if r.name == name)
    warnings.simplefilter("ignore")
    if source == "guided":
        import atheris

        with atheris.instrument_imports(include=["ferocal"]):
            _import_all()
    else:
        resource.setrlimit(resource.RLIMIT_AS, (4 * MEMORY, 4 * MEMORY))
    with tempfile.TemporaryDirectory() as folder:
        bed = Bed(reader, Path(good), Path(folder) / "bed")
        SOURCES[source](bed, float(seconds), int(seed))
        _print_answer(bed)


def _import_all() -> None:
    import ferocal.intake.beginning
    import ferocal.intake.bundle
    import ferocal.intake.loading
    import ferocal.intake.trace_loading
    import ferocal.ledger.reading.history
    import ferocal.ledger.reading.integrity  # noqa: F401


if __name__ == "__main__":
    _main()
