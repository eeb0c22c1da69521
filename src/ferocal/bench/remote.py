"""A bench on another machine, reached with the system's own `ssh`.

What runs there (`bench.far`) is sent over the connection; nothing is installed. A connection that
is lost is no failing command: the far side ends what it runs, the bench is connected again, and
who asked learns that the run was interrupted.
"""

from __future__ import annotations

import base64
import contextlib
import getpass
import os
import platform
import shlex
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import Any

from ferocal.bench._linux import ProcessSight
from ferocal.bench.conditions import SOURCES, BusyMeter, ByProcess, Times
from ferocal.bench.conversation import PATIENCE, Conversation, EndedError
from ferocal.bench.execution import (
    OUTPUT_LIMIT,
    READ_LIMIT,
    Completed,
    Invocation,
    Place,
    why_spoiled,
)
from ferocal.bench.facts import Fact, FactKind
from ferocal.bench.limits import FILE_LIMIT
from ferocal.errors import FerocalError
from ferocal.study.masking import Mask
from ferocal.terms.conditions import label_of
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import listed

# So often (s) the far side hears of this one while a command runs there.
_BEAT = 10.0
# Other questions are answered within so many seconds.
_ANSWERS_WITHIN = 120.0
# Between attempts to connect again (s), ever longer.
_FIRST_PAUSE, _LONGEST_PAUSE = 0.5, 15.0
_PIECE = 2**20
# Of so many looks at the clock the one with the quickest answer counts.
_CLOCK_LOOKS = 5
_CARRIED = ("_linux", "launcher", "files", "far")
_OPTIONS = ("ServerAliveInterval=10", "ServerAliveCountMax=3", "ConnectTimeout=20")
_PYTHONS = ("python3", *(f"python3.{n}" for n in range(20, 8, -1)), "python")
# Reads the program, as long as its first ten characters say, and runs it.
_TAKE = """import os, sys
def take(n):
    b = b""
    while len(b) < n:
        c = os.read(0, n - len(b))
        if not c: sys.exit(1)
        b += c
    return b
exec(compile(take(int(take(10))), "ferocal", "exec"))"""
# On one line and without odd signs, as every shell understands it.
_BOOT = f'import base64; exec(base64.b64decode("{base64.b64encode(_TAKE.encode()).decode()}"))'
_NEW_ENOUGH = "import sys; sys.exit(sys.version_info < (3, 9))"
_FIND = (
    'for p in {pythons}; do command -v "$p" >/dev/null 2>&1 && "$p" -c "$2" 2>/dev/null '
    '&& exec "$p" -I -S -c "$1"; done; echo "{{}}"'
)
_LOADER = """import sys, types
for name in ("ferocal", "ferocal.bench"):
    sys.modules[name] = types.ModuleType(name); sys.modules[name].__path__ = []
for name, text in {sources}:
    full = "ferocal.bench." + name
    module = sys.modules[full] = types.ModuleType(full)
    setattr(sys.modules["ferocal.bench"], name, module)
    exec(compile(text, name + ".py", "exec"), module.__dict__)
print('{{"ready": true}}', flush=True)
sys.modules["ferocal.bench.far"].main()
"""


def program() -> bytes:
    """What is run on the far side, as one text."""
    here = Path(__file__)
    sources = [(n, here.with_name(f"{n}.py").read_text(encoding="utf-8")) for n in _CARRIED]
    return _LOADER.format(sources=repr(sources)).encode()


class Connection(Conversation):
    """A connection to the far side, through one `ssh`."""

    def __init__(self, host: str, command: tuple[str, ...]) -> None:
        self.host = host
        self._end = self._beaten = 0.0
        try:
            super().__init__(
                subprocess.Popen(
                    command,
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    bufsize=0,
                    start_new_session=True,
                )
            )
        except OSError as error:
            raise FerocalError(f"{command[0]}: cannot be run: {error.strerror}") from None

    def ask(self, request: dict[str, Any], seconds: float = _ANSWERS_WITHIN) -> dict[str, Any]:
        """The answer to a request.

        Raises
        ------
        EndedError
            When the connection is lost, or there is no answer within so many seconds.
        """
        self._end, self._beaten = time.monotonic() + seconds, time.monotonic()
        self.tell(request)
        return self.read()

    def watch(self) -> None:
        """Let the far side hear of this one; give it up where it does not answer."""
        now = time.monotonic()
        if now > self._end:
            raise EndedError
        if now - self._beaten > _BEAT:
            self._beaten = now
            self.send(b"\n")

    def complaint(self) -> str:
        """What `ssh` says, once it has ended."""
        assert self.process.stderr is not None
        said = self.process.stderr.read() or b""
        return said.decode("utf-8", "replace").strip()[-400:]

    def drop(self) -> None:
        """End it without waiting for the far side."""
        self.process.kill()
        with contextlib.suppress(OSError):
            self.close()


@dataclass(frozen=True)
class FarBench:
    """How a bench is reached, and for how long (s) it is tried to reach it again.

    ``token`` tells whoever measures from others; ``variables`` are given to every command.
    ``reboot`` are the words that start it anew, within so many seconds; ``through`` those that
    come before every command.
    """

    name: str
    host: str
    directory: str
    patience: float
    token: str
    variables: Mapping[str, str]
    reboot: tuple[str, ...]
    reboots_within: float
    through: tuple[str, ...]

    def command(self) -> tuple[str, ...]:
        """The words that reach it: the user's own `ssh`, which asks only in a terminal."""
        find = _FIND.format(pythons=" ".join(_PYTHONS))
        there = shlex.join(("exec", "sh", "-c", find, "ferocal", _BOOT, _NEW_ENOUGH))
        ask = () if sys.stdin.isatty() else ("BatchMode=yes",)
        options = (word for option in (*_OPTIONS, *ask) for word in ("-o", option))
        return (shutil.which("ssh") or "ssh", "-T", *options, "--", self.host, there)


class FarMachine:
    """The machine of a bench that is reached over a connection."""

    def __init__(
        self, bench: FarBench, scratch: Path, mask: Mask, tell: Callable[[str], None]
    ) -> None:
        self._bench, self._scratch, self._mask, self._tell = bench, scratch, mask, tell
        self._connection, hello = self._connect()
        python = "python3" if bench.through else hello["python"]
        place = PurePosixPath(hello["directory"])
        self.place = Place(place, python, bench.through, mask)
        self._boot, self._system = hello["boot"], hello["system"]
        self.losses = 0
        known = self._ask("conditions")["conditions"]
        self._readable = [name for name in SOURCES if known.get(name) is not None]

    def _connect(self) -> tuple[Connection, dict[str, Any]]:
        connection = Connection(self._bench.host, self._bench.command())
        try:
            text = program()
            connection.send(b"%10d" % len(text) + text)
            started = connection.ask({"ask": "time"}, 60.0)
            if "ready" not in started:
                connection.drop()
                raise FerocalError(
                    f"{self._bench.host}: no Python 3.9 or newer was found there: install one"
                )
            connection.read()
            who = f"{getpass.getuser()} on {platform.node()}"
            hello = connection.ask(
                {"ask": "hello", "token": self._bench.token, "who": who,
                 "directory": self._bench.directory}
            )  # fmt: skip
        except EndedError:
            said = connection.complaint()
            connection.drop()
            why = said or "no answer"
            raise LostError(f"{self._bench.host} cannot be reached: {why}") from None
        if "missing" in hello:
            connection.drop()
            raise FerocalError(f"{self._bench.host}: there is no directory {hello['missing']}")
        if hello["holder"] is not None:
            connection.drop()
            raise FerocalError(f"{self._bench.host}: {hello['holder']} measures there already")
        return connection, hello

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
                "`ferocal measure` again, which proves the configuration and goes on"
            )

    def _reach(self, end: float) -> None:
        """Drop the connection and make a new one, as soon as that succeeds."""
        self._connection.drop()
        pause = _FIRST_PAUSE
        while True:
            try:
                self._connection, hello = self._connect()
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
            return Completed(exit_status=None, wall=wall, ended_for="connection", mask=self._mask)
        if "error" in answer:
            return Completed(exit_status=None, error=f"could not be started: {answer['error']}")
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
        sources = (("portable", told["portable"]), (f"{self._system} files", told["special"]))
        for source, kinds in sources:
            for kind, facts in kinds.items():
                found |= {n: Fact(n, v, _kind(kind), source) for n, v in facts.items() if v}
        return list(found.values())

    def conditions(self) -> dict[str, Any]:
        """The conditions there."""
        if self._bench.through:
            return {}
        known = self._ask("conditions")["conditions"]
        return {name: known.get(name) for name in self._readable}

    def meter(self) -> BusyMeter:
        """A meter of how busy others are there."""
        return BusyMeter(self._times, self._by_process)

    def _times(self) -> Times | None:
        told = self._ask("times")
        if told["times"] is None:
            return None
        at, busy, ferocal, stolen = told["times"]
        return Times(at, busy, ferocal, stolen, told["processors"])

    def _by_process(self) -> ByProcess:
        told = self._ask("processes")
        return {(pid, name): s for pid, name, s in told["processes"] if pid != told["own"]}

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
        return dict(told["times"])

    def gather(self, pattern: str) -> list[Path]:
        """Copies of the files that a pattern names there, as old as these.

        Raises
        ------
        FarError
            When one is no file to be read, or is still written.
        """
        told = self._ask("files", directory=str(self.place.directory), pattern=pattern)
        return [self._fetch(*file) for file in told["files"]]

    def _fetch(self, path: str, size: int, time_ns: int, regular: bool, writers: list[str]) -> Path:
        name = PurePosixPath(path).name
        if not regular or size > FILE_LIMIT:
            raise FarError(f"{name} is not a regular file, or has more than {grouped(FILE_LIMIT)} "
                           "bytes")  # fmt: skip
        if writers:
            raise FarError(f"{name} is still open for writing in {listed(writers)}: have it closed "
                           "before the command ends")  # fmt: skip
        copy = self._scratch / path.lstrip("/")
        copy.parent.mkdir(parents=True, exist_ok=True)
        with copy.open("wb") as file:
            for begin in range(0, size, _PIECE):
                piece = self._ask("piece", path=path, begin=begin, size=min(_PIECE, size - begin))
                file.write(base64.b64decode(piece["piece"]))
        os.utime(copy, ns=(time_ns, time_ns))
        return copy

    def close(self) -> None:
        """End the connection, and with it what runs there."""
        self._connection.close()


_STREAMS = ("stdout", "stderr")
_AS_TOLD = (
    "exit_status", "wall", "cpu", "peak_memory", "memory_floor", "ended_for", "processors",
)  # fmt: skip


class LostError(FerocalError):
    """A bench that cannot be reached now."""


class FarError(FerocalError):
    """Something that could not be done on a far bench."""


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
