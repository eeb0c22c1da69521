"""A bench on another machine, reached with the system's own `ssh`.

What runs there (`bench.far`) is sent over the connection; nothing is installed. A connection that
is lost is no failing command: the far side ends what it runs, the bench is connected again, and
who asked learns that the run was interrupted.
"""

from __future__ import annotations

import base64
import contextlib
import os
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Any

from ferocal.bench._linux import ProcessSight
from ferocal.bench.conditions import SOURCES, BusyMeter, ByProcess, Times
from ferocal.bench.connection import FarBench, FarError, LostError, connect
from ferocal.bench.conversation import PATIENCE, EndedError
from ferocal.bench.execution import (
    OUTPUT_LIMIT,
    READ_LIMIT,
    Completed,
    Invocation,
    Place,
    why_spoiled,
)
from ferocal.bench.facts import Fact, FactKind
from ferocal.bench.limits import FILE_LIMIT, OddFileError
from ferocal.errors import FerocalError
from ferocal.study.masking import Mask
from ferocal.terms.conditions import label_of
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import listed

# Between attempts to connect again (s), ever longer.
_FIRST_PAUSE, _LONGEST_PAUSE = 0.5, 15.0
_PIECE = 2**20
# Of so many looks at the clock the one with the quickest answer counts.
_CLOCK_LOOKS = 5
_STREAMS = ("stdout", "stderr")
_AS_TOLD = (
    "exit_status", "wall", "cpu", "peak_memory", "memory_floor", "ended_for", "processors",
)  # fmt: skip


class FarMachine:
    """The machine of a bench that is reached over a connection."""

    def __init__(
        self, bench: FarBench, scratch: Path, mask: Mask, tell: Callable[[str], None]
    ) -> None:
        self._bench, self._scratch, self._mask, self._tell = bench, scratch, mask, tell
        self._connection, hello = connect(self._bench)
        python = "python3" if bench.through else hello["python"]
        place = PurePosixPath(hello["directory"])
        self.place = Place(place, python, bench.through, mask)
        self._boot, self._system = hello["boot"], hello["system"]
        self.losses = self._copies = 0
        known = self._ask("conditions")["conditions"]
        self._readable = [name for name in SOURCES if known.get(name) is not None]

    def _connect_again(self) -> None:
        """Connect again, for as long as that is tried.

        Raises
        ------
        FerocalError
            When it does not succeed, or the machine was started anew meanwhile.
        """
        self.losses += 1
        self._tell(f"the connection to {self._bench.host} is lost; connecting again")
        end, known = time.monotonic() + self._bench.patience, self._boot
        self._reach(end)
        if self._boot != known:
            raise FerocalError(
                f"{self._bench.host} was started anew while a visit was under way: run "
                "`ferocal measure` again, which proves the configuration and resumes"
            )

    def _reach(self, end: float) -> None:
        """Drop the connection and make a new one, as soon as that succeeds."""
        self._connection.drop()
        pause = _FIRST_PAUSE
        while True:
            try:
                self._connection, hello = connect(self._bench)
                break
            except LostError:
                if time.monotonic() > end:
                    raise
                time.sleep(pause)
                pause = min(2 * pause, _LONGEST_PAUSE)
        self._boot = hello["boot"]

    def restart(self) -> float:
        """Start the machine anew, and wait until it is there again; how long that took (s).

        Raises
        ------
        FerocalError
            When the command fails, or it is not there within the time for it.
        """
        began, known = time.monotonic(), self._boot
        end = began + self._bench.reboots_within
        words = self._bench.reboot
        asked = Invocation(words, self.place.directory, timeout=60.0, then="keep")
        request = self._request(asked)
        with contextlib.suppress(EndedError):  # as the machine goes down
            answer = self._connection.ask(request, asked.timeout + PATIENCE)
            completed = self._completed(answer, observed=False) if "error" not in answer else None
            why = answer.get("error") if completed is None else completed.failure
            if why is not None:
                said = completed.complaint if completed is not None else ""
                raise FerocalError(f"`{' '.join(words)}` {why}: {said}; set `reboot` of the bench")
        self.losses += 1
        while True:
            self._reach(end)
            if self._boot != known:
                return time.monotonic() - began
            if time.monotonic() > end:
                raise FerocalError(
                    f"{self._bench.host} was not started anew within "
                    f"{self._bench.reboots_within:g} s after `{' '.join(words)}`"
                )
            time.sleep(_FIRST_PAUSE)

    @contextlib.contextmanager
    def _understood(self) -> Iterator[None]:
        """Within, an answer is taken apart; it may be anything."""
        try:
            yield
        except (KeyError, TypeError, ValueError, AttributeError):
            raise FarError(f"{self._bench.host} gives answers that make no sense") from None

    def _ask(self, what: str, **details: Any) -> dict[str, Any]:
        """The answer to a question, asked again where the connection is lost."""
        while True:
            try:
                answer = self._connection.ask({"ask": what, **details})
                break
            except EndedError:
                self._connect_again()
        if "error" in answer:
            raise FarError(answer["error"])
        return answer

    def link(self) -> dict[str, float]:
        """By how much the clock there is ahead (s), and how long an answer takes (s)."""
        tries = []
        for _ in range(_CLOCK_LOOKS):
            sent = time.time()
            there = self._ask("time")["time"]
            back = time.time()
            tries.append((back - sent, there - (sent + back) / 2))
        round_trip, offset = min(tries)
        return {"clock_offset": offset, "round_trip": round_trip}

    @property
    def unreadable(self) -> list[str]:
        """Conditions that cannot be read there, in words."""
        return [label_of(key).partition(",")[0] for key in SOURCES if key not in self._readable]

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end; its times are those of the clock there.

        A command during which the connection was lost was ended there; it is run again, unless
        it is to be run ``once``: then it was interrupted.
        """
        while True:
            completed = self._run(invocation)
            if completed.ended_for != "connection" or invocation.once:
                return completed

    def _run(self, invocation: Invocation) -> Completed:
        started = time.monotonic()
        try:
            request = self._request(invocation)
            answer = self._connection.ask(request, invocation.timeout + PATIENCE)
        except EndedError:
            self._connect_again()
            wall = time.monotonic() - started
            # What was seen of its processes is lost with it.
            return Completed(
                exit_status=None, wall=wall, ended_for="connection", mask=self._mask, processes=()
            )
        if "error" in answer:
            return Completed(exit_status=None, error=f"could not be started: {answer['error']}")
        with self._understood():
            return self._completed(answer, observed=invocation.observe)

    def _request(self, invocation: Invocation) -> dict[str, Any]:
        return {
            "words": invocation.words,
            "shell": invocation.shell,
            "cwd": str(invocation.directory),
            "environment": {**self._bench.variables, **invocation.environment},
            "timeout": invocation.timeout,
            "output_limit": OUTPUT_LIMIT,
            "inline": READ_LIMIT,
            "then": invocation.then,
            "announce": invocation.observe,
        }

    def _completed(self, answer: dict[str, Any], *, observed: bool) -> Completed:
        stdout, stderr = (base64.b64decode(answer[f"{name}_content"]) for name in _STREAMS)
        seen = tuple(ProcessSight(**_tuples(sight)) for sight in answer["seen"])
        return Completed(
            stdout=stdout,
            stderr=stderr,
            stdout_size=answer["stdout_size"],
            mask=self._mask,
            processes=seen if observed else None,
            left_behind=tuple(answer["left_behind"]) if answer["adopts"] else None,
            unended=tuple(answer["unended"]),
            spoiled=why_spoiled(False, answer["holding"]),
            **{name: answer[name] for name in _AS_TOLD},
        )

    def end_guests(self) -> tuple[str, ...]:
        """End what was left running as guests; a lost connection has ended them, too."""
        try:
            return tuple(self._connection.ask({"end_guests": True})["unended"])
        except EndedError:
            self._connect_again()
            return ()

    def facts(self) -> list[Fact]:
        """The facts that can be read there; none of what is only reached through words."""
        if self._bench.through:
            return []
        told = self._ask("facts")
        found: dict[str, Fact] = {}
        with self._understood():
            sources = (("portable", told["portable"]), (f"{self._system} files", told["special"]))
            for source, kinds in sources:
                for kind, facts in kinds.items():
                    known = {n: str(v) for n, v in facts.items() if v}
                    found |= {n: Fact(n, v, _kind(kind), source) for n, v in known.items()}
        return list(found.values())

    def conditions(self) -> dict[str, Any]:
        """The conditions there."""
        if self._bench.through:
            return {}
        told = self._ask("conditions")
        with self._understood():
            return {name: told["conditions"].get(name) for name in self._readable}

    def meter(self) -> BusyMeter:
        """A meter of how busy others are there."""
        return BusyMeter(self._times, self._by_process)

    def _times(self) -> Times | None:
        told = self._ask("times")
        with self._understood():
            if told["times"] is None:
                return None
            at, busy, ferocal, stolen = map(float, told["times"])
            return Times(at, busy, ferocal, stolen, int(told["processors"]))

    def _by_process(self) -> ByProcess:
        told = self._ask("processes")
        with self._understood():
            others = [row for row in told["processes"] if row[0] != told["own"]]
            return {(int(pid), str(name)): float(seconds) for pid, name, seconds in others}

    def digest(self, name: str) -> str:
        """The SHA-256 of a file there, or why it cannot be read."""
        try:
            told = self._ask("digest", directory=str(self.place.directory), name=name,
                             limit=FILE_LIMIT)  # fmt: skip
        except FarError as error:
            return f"not read: {str(error).rpartition(':')[0]}"
        if "odd" in told:
            size = told["odd"]
            what = "no regular file" if size is None else f"{grouped(size)} bytes"
            return f"not read: {what}"
        return str(told["digest"])

    def times_of(self, patterns: Iterable[str]) -> dict[str, int]:
        """The time now (ns) by the file system there."""
        asked = list(patterns)
        if not asked:
            return {}
        told = self._ask("file_times", directory=str(self.place.directory), patterns=asked)
        with self._understood():
            return {str(pattern): int(time_ns) for pattern, time_ns in told["times"].items()}

    def gather(self, pattern: str) -> list[Path]:
        """Copies of the files that a pattern names there, as old as these.

        Raises
        ------
        OddFileError
            When one is no file to be read, or is still written.
        """
        try:
            told = self._ask("files", directory=str(self.place.directory), pattern=pattern)
            with self._understood():
                rows = told["files"]
                files = [(str(f), int(n), int(t), bool(r), list(w)) for f, n, t, r, w in rows]
            return [self._fetch(*file) for file in files]
        except FarError as error:  # gone meanwhile, or of another user
            raise OddFileError(str(error)) from None

    def _fetch(self, path: str, size: int, time_ns: int, regular: bool, writers: list[str]) -> Path:
        name = PurePosixPath(path).name
        if not regular or size > FILE_LIMIT:
            raise OddFileError(f"{name} is not a regular file, or has more than "
                               f"{grouped(FILE_LIMIT)} bytes")  # fmt: skip
        if writers:
            raise OddFileError(f"{name} is still open for writing in {listed(writers)}: have it "
                               "closed before the command ends")  # fmt: skip
        # No part of a path is taken from elsewhere but a plain name.
        self._copies += 1
        copy = self._scratch / str(self._copies) / (name if name not in ("", "..") else "file")
        copy.parent.mkdir()
        with copy.open("wb") as file:
            for begin in range(0, size, _PIECE):
                piece = self._ask("piece", path=path, begin=begin, size=min(_PIECE, size - begin))
                with self._understood():
                    file.write(base64.b64decode(piece["piece"]))
        os.utime(copy, ns=(time_ns, time_ns))
        return copy

    def close(self) -> None:
        """End the connection, and with it what runs there."""
        self._connection.close()


def _kind(kind: str) -> FactKind:
    kinds: dict[str, FactKind] = {"hardware": "hardware", "resource": "resource"}
    return kinds.get(kind, "software")


def _tuples(sight: dict[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in sight.items()}


@contextlib.contextmanager
def far_machine(
    bench: FarBench, scratch: Path, mask: Mask, tell: Callable[[str], None]
) -> Iterator[FarMachine]:
    """A far machine, connected; the connection ends afterwards, with what still runs there."""
    machine = FarMachine(bench, scratch, mask, tell)
    try:
        yield machine
    finally:
        machine.close()
