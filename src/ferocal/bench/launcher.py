"""A small process that starts commands for Ferocal, waits for them and accounts for them.

It runs on its own (``python -I -S launcher.py``) with the standard library only, here and in
what is sent to far benches, for three reasons. The kernel counts the memory of a starting
process towards the peak of the program that it becomes, so a command started by a large process
would seem large: this one is small. When Ferocal dies, by whatever signal, the requests end,
and the launcher ends the command in progress instead of leaving it to disturb the next run. And
on Linux it adopts what a command leaves behind, in whatever session, so that all of it can be
found and ended.

One JSON object per line goes in (see `serve`) and one comes out. POSIX only.
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    raise ImportError("the launcher needs POSIX process groups")

import contextlib
import json
import os
import select
import signal
import subprocess
import time

# It stays small: what only a checker of types reads is not loaded.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator
    from typing import IO, Any

# How often the size of the output is looked at, in seconds.
_LOOK_EVERY = 1.0
# Whether what a process has open can be opened without its name.
_FINDS_OPEN_FILES = sys.platform == "linux" and os.path.isdir("/proc/self/fd")
# So long (s) is waited for what was killed: a process in the middle of a system call may last.
_PATIENCE = 5.0
# Linux and the BSDs count memory in KiB, Darwin in bytes.
_MEMORY_UNIT = 1 if sys.platform == "darwin" else 1024


class Side:
    """What more is done where requests come from far away; near, nothing.

    ``silence`` is for how long (s) a requester may be silent while a command runs before it is
    taken for gone; None where the end of the requests says so.
    """

    silence: float | None = None

    def prepare(self, request: dict[str, Any]) -> None:
        """Complete a request for a command."""

    def look(self, leader: int, seconds: float) -> float:
        """Look at a process that has run for so long; when to look again (s)."""
        return _LOOK_EVERY

    def complete(self, answer: dict[str, Any], outputs: tuple[IO[bytes], ...]) -> None:
        """Complete the answer to a request for a command."""

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        """The answer to a request for something else."""
        raise KeyError(request["ask"])


class _Waiter:
    """Wakes up when a child ends, when the requester is gone, or after a while."""

    def __init__(self, requests: int, silence: float | None) -> None:
        self.requests = requests
        self._silence, self._heard = silence, 0.0
        self.told_to_end = self.waits = False
        self.wake_end, write_end = os.pipe()
        os.set_blocking(self.wake_end, False)
        os.set_blocking(write_end, False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.set_wakeup_fd(write_end, warn_on_full_buffer=False)

    def wait(self, seconds: float) -> bool:
        """Wait at most so long; whether the requester is still there."""
        watched = [self.wake_end, self.requests]
        ready, _, _ = select.select(watched, [], [], max(0.0, seconds))
        if self.wake_end in ready:
            with contextlib.suppress(BlockingIOError):
                os.read(self.wake_end, 512)
        if self.told_to_end:
            return False
        if self._silence is None:
            # It writes nothing while it waits for an answer: readable means gone.
            return self.requests not in ready
        if self.requests in ready:
            # From far away it sends an empty line now and then.
            self._heard = time.monotonic()
            return bool(os.read(self.requests, 512))
        return time.monotonic() - self._heard < self._silence

    def end(self, *_: object) -> None:
        """End with all that was started, as when the requester is gone."""
        self.told_to_end = True
        if not self.waits:
            raise EOFError

    @contextlib.contextmanager
    def waiting(self) -> Iterator[None]:
        """Within, the end of a child is waited for."""
        self._heard, self.waits = time.monotonic(), True
        try:
            yield
        finally:
            self.waits = False


def _end_group(leader: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(leader, signal.SIGKILL)


class _Tree:
    """What descends from this process; only Linux lets it adopt what lost its parent.

    ``kept`` are sessions that a command was allowed to leave behind, such as services, ``guests``
    those that live until `end_guests`, such as what a run needs beside it. ``cpu``
    (s) and ``peak`` (as the kernel counts it) are what those used that lost their parent, and
    have ended since `begin`: no other process accounts for them.
    """

    def __init__(self) -> None:
        self.kept: set[int] = set()
        self.guests: set[int] = set()
        self.begin()
        self.adopts = sys.platform == "linux" and _become_subreaper()

    def begin(self) -> None:
        """Forget what was used so far."""
        self.cpu, self.peak = 0.0, 0

    def strays(self) -> dict[int, tuple[int, str]]:
        """Session and name of every descendant that is not to live on, by process id."""
        found = self._descendants()
        spared = self.kept | self.guests
        return {pid: (s.session, s.name) for pid, s in found.items() if s.session not in spared}

    def _descendants(self) -> dict[int, _Stat]:
        if not self.adopts or not self._take_leave():
            return {}
        table, own = processes(), os.getpid()
        found = {pid: table[pid] for pid in descendants(own, table)}
        # A child that ended just now is still to be waited for, and accounted for.
        return {pid: stat for pid, stat in found.items() if stat.parent == own or not stat.ended}

    def holding(self, files: tuple[IO[bytes], ...]) -> list[str]:
        """Names of descendants that live on and have one of the files open."""
        wanted = {(s.st_dev, s.st_ino) for s in (os.fstat(file.fileno()) for file in files)}
        return sorted({s.name for pid, s in self._descendants().items() if wanted & _opened(pid)})

    def end_guests(self) -> list[str]:
        """End what was left to live beside a run; names of what could not be ended in time."""
        self.guests.clear()
        return self.end_strays()

    def end_strays(self) -> list[str]:
        """End all descendants that are not kept, and those that they start meanwhile.

        What does not end in time is left alone from now on; its names are returned.
        """
        end, pause = time.monotonic() + _PATIENCE, 0.001
        while strays := self.strays():
            if time.monotonic() >= end:
                self.kept |= {session for session, _ in strays.values()}
                return sorted({name for _, name in strays.values()})
            for pid in strays:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.kill(pid, signal.SIGKILL)
            time.sleep(pause)
            pause = min(2 * pause, 0.1)
        return []

    def _take_leave(self) -> bool:
        """Take leave of children that have ended; whether any is left."""
        if sys.platform != "linux":  # nothing is adopted elsewhere
            return False
        ended = os.WEXITED | os.WNOHANG | os.WNOWAIT
        try:
            while (child := os.waitid(os.P_ALL, 0, ended)) is not None:
                self._reap(child.si_pid)
        except ChildProcessError:
            return False
        return True

    def _reap(self, pid: int) -> None:
        """Wait for a child, and account for it unless it was kept."""
        stat = _stat(pid)  # an ended process has it until it is waited for
        _, _, usage = os.wait4(pid, 0)
        if stat is None or stat.session not in self.kept | self.guests:
            self.cpu += usage.ru_utime + usage.ru_stime
            self.peak = max(self.peak, usage.ru_maxrss)

    def keep(self, *, guests: bool) -> None:
        """Leave everything that descends from this process alone, ``guests`` for a while only."""
        spared = self.guests if guests else self.kept
        spared |= {session for session, _ in self.strays().values()}


def _become_subreaper() -> bool:
    """Adopt orphaned descendants (prctl, PR_SET_CHILD_SUBREAPER); whether that is possible."""
    import ctypes

    try:
        return bool(ctypes.CDLL(None, use_errno=True).prctl(36, 1, 0, 0, 0) == 0)
    except (OSError, AttributeError):
        return False


class _Stat:
    """What /proc says of a process."""

    def __init__(self, parent: int, session: int, name: str, *, ended: bool) -> None:
        self.parent, self.session, self.name, self.ended = parent, session, name, ended


def _stat(pid: int | str) -> _Stat | None:
    """What /proc says of a process, None where it is gone or there is no such file."""
    try:
        with open(f"/proc/{pid}/stat") as file:
            name, _, rest = file.read().rpartition(")")
    except OSError:
        return None
    state, parent, _, session = rest.split()[:4]
    return _Stat(int(parent), int(session), name.partition("(")[2], ended=state in "ZX")


def processes() -> dict[int, _Stat]:
    """Every process by its id, also those that have ended and were not waited for."""
    found = ((entry, _stat(entry)) for entry in os.listdir("/proc") if entry.isdecimal())
    return {int(entry): stat for entry, stat in found if stat is not None}


def descendants(ancestor: int, table: dict[int, _Stat]) -> set[int]:
    """What a process has started, and what that has started in turn."""
    tree = {ancestor}
    # Parents may have higher numbers than their children.
    while grown := {pid for pid, stat in table.items() if stat.parent in tree} - tree:
        tree |= grown
    return tree - {ancestor}


def _opened(pid: int) -> set[tuple[int, int]]:
    """Device and number of every file that a process has open, as far as that can be seen."""
    found = set()
    with contextlib.suppress(OSError):  # ended meanwhile, or of another user
        for entry in os.listdir(f"/proc/{pid}/fd"):
            with contextlib.suppress(OSError):  # closed meanwhile
                facts = os.stat(f"/proc/{pid}/fd/{entry}")
                found.add((facts.st_dev, facts.st_ino))
    return found


def _own_peak() -> int:
    """The peak of this program in KiB, which the kernel counts for all that it starts too.

    Not that of getrusage, which has that of the program before it in this process. 0 where the
    system does not say.
    """
    try:
        with open("/proc/self/status") as file:
            return next(int(line.split()[1]) for line in file if line.startswith("VmHWM:"))
    except (OSError, StopIteration):
        return 0


def _processors_allowed(pid: int) -> int | None:
    """On how many processors a process may run; it may have ended, if it was not waited for."""
    if sys.platform != "linux":
        return None
    try:
        return len(os.sched_getaffinity(pid))
    except OSError:
        return None


class _Ended:
    """The end of a child: wait status, usage, wall time (s), and on how many processors it ran."""

    def __init__(self, status: int, usage: Any, wall: float, processors: int | None) -> None:
        self.status, self.usage, self.wall, self.processors = status, usage, wall, processors


def _look(child: subprocess.Popen[bytes], start: float, *, end_group: bool) -> _Ended | None:
    """The end of a child if it has come, and with it that of its group if that is to end."""
    if hasattr(os, "waitid"):
        # Before it is waited for, an ended process still says where it was allowed to run, and
        # no other process can have its number, which is that of its group.
        if os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT) is None:
            return None
        wall, processors = time.perf_counter() - start, _processors_allowed(child.pid)
        if end_group:
            _end_group(child.pid)
        _, status, usage = os.wait4(child.pid, 0)
        return _Ended(status, usage, wall, processors)
    pid, status, usage = os.wait4(child.pid, os.WNOHANG)
    if not pid:
        return None
    if end_group:
        _end_group(child.pid)
    return _Ended(status, usage, time.perf_counter() - start, None)


def _watch(
    child: subprocess.Popen[bytes],
    request: dict[str, Any],
    outputs: tuple[IO[bytes], ...],
    waiter: _Waiter,
    start: float,
    side: Side,
) -> tuple[_Ended, str | None]:
    """Wait for a child's end; how it ended, and why it was ended if it was."""
    ended_for = None
    while True:
        ended = _look(child, start, end_group=request["then"] == "end")
        now = time.perf_counter()
        if ended is not None:
            return ended, ended_for
        left = start + request["timeout"] - now
        size = sum(os.fstat(file.fileno()).st_size for file in outputs)
        if ended_for is None and left <= 0:
            ended_for = "timeout"
        elif ended_for is None and size > request["output_limit"]:
            ended_for = "output"
        if ended_for is not None:
            _end_group(child.pid)
        pause = side.look(child.pid, now - start) if request["announce"] else _LOOK_EVERY
        if not waiter.wait(min(left, pause) if left > 0 else pause):
            _end_group(child.pid)
            raise EOFError


def _open_output(path: str) -> IO[bytes]:
    """A new file for an output, without a name where that can be: nothing else finds it."""
    if sys.platform != "linux" or not _FINDS_OPEN_FILES:
        return open(path, "x+b", buffering=0)
    with contextlib.suppress(OSError):  # not every file system has it
        handle = os.open(os.path.dirname(path), os.O_TMPFILE | os.O_RDWR, 0o600)
        return os.fdopen(handle, "r+b", buffering=0)
    file = open(path, "x+b", buffering=0)  # noqa: SIM115 - it is closed before the next request
    os.unlink(path)
    return file


def _path_of(file: IO[bytes]) -> str:
    """Where Ferocal finds an output: a file without a name is found among what is open here."""
    return f"/proc/{os.getpid()}/fd/{file.fileno()}" if _FINDS_OPEN_FILES else str(file.name)


def _start(request: dict[str, Any], out: IO[bytes], err: IO[bytes]) -> subprocess.Popen[bytes]:
    words = request["words"]
    return subprocess.Popen(
        words[0] if request["shell"] else words,
        shell=request["shell"],
        cwd=request["cwd"],
        env=request["environment"],
        stdin=subprocess.DEVNULL,
        stdout=out,
        stderr=err,
        start_new_session=True,
    )


def _execute(
    request: dict[str, Any],
    outputs: tuple[IO[bytes], ...],
    waiter: _Waiter,
    tree: _Tree,
    side: Side,
) -> dict[str, Any]:
    tree.begin()
    start = time.perf_counter()
    try:
        child = _start(request, *outputs)
    except OSError as error:
        return {"error": f"{error.strerror}: {error.filename or request['words'][0]}"}
    if request["announce"] and side.silence is None:
        _tell({"started": child.pid})
    try:
        with waiter.waiting():
            ended, ended_for = _watch(child, request, outputs, waiter, start, side)
    except EOFError:
        tree.end_guests()
        raise
    child.returncode = os.waitstatus_to_exitcode(ended.status)
    strays = tree.strays()
    escaped = sorted({name for session, name in strays.values() if session != child.pid})
    ends, unended = request["then"] == "end", []
    if ends:
        unended = tree.end_strays()
    else:
        tree.keep(guests=request["then"] == "guest")
    return {
        "exit_status": child.returncode,
        "wall": ended.wall,
        "cpu": ended.usage.ru_utime + ended.usage.ru_stime + tree.cpu,
        "peak_memory": max(ended.usage.ru_maxrss, tree.peak) * _MEMORY_UNIT,
        "memory_floor": _own_peak() * 1024,
        "ended_for": ended_for,
        "processors": ended.processors,
        "left_behind": escaped if ends else sorted({name for _, name in strays.values()}),
        "unended": unended,
        "adopts": tree.adopts,
        "holding": tree.holding(outputs) if ends and (tree.kept or tree.guests) else [],
        "stdout": _path_of(outputs[0]),
        "stderr": _path_of(outputs[1]),
    }


def _tell(answer: dict[str, Any]) -> None:
    # Unbuffered: nothing may be left to be written when the asker is gone.
    os.write(sys.stdout.fileno(), json.dumps(answer).encode() + b"\n")


def serve(side: Side) -> None:
    """Answer requests until their end.

    A request has ``words``, ``shell``, ``cwd``, ``environment``, ``timeout`` (s),
    ``stdout`` and ``stderr`` (paths), ``output_limit`` (bytes), ``then`` (what becomes of what it
    leaves running: "end", "keep", or "guest" until a request to ``end_guests``), and ``announce``
    (whether the process is announced as soon as it has started). The outputs of one request can
    be read until the next. Other requests ``ask`` for something that the ``side`` knows.
    """
    # Ctrl-C is for Ferocal; it closes the requests when it wants to end.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests = sys.stdin.fileno()
    waiter, tree = _Waiter(requests, side.silence), _Tree()
    try:
        _answer_all(requests, waiter, tree, side)
    except (EOFError, BrokenPipeError):  # Ferocal was killed, or this was told to end
        tree.end_guests()


def _answer_all(requests: int, waiter: _Waiter, tree: _Tree, side: Side) -> None:
    signal.signal(signal.SIGTERM, waiter.end)
    buffer = b""
    outputs: tuple[IO[bytes], ...] = ()
    while True:
        while b"\n" not in buffer:
            chunk = os.read(requests, 1 << 16)
            if not chunk:
                tree.end_guests()
                return
            buffer += chunk
        line, buffer = buffer.split(b"\n", 1)
        if not line:
            continue
        for file in outputs:
            file.close()
        outputs = ()
        request = json.loads(line)
        try:
            if "ask" in request:
                answer = side.answer(request)
            elif "end_guests" in request:
                answer = {"unended": tree.end_guests()}
            else:
                side.prepare(request)
                outputs = tuple(_open_output(request[n]) for n in ("stdout", "stderr"))
                answer = _execute(request, outputs, waiter, tree, side)
                side.complete(answer, outputs)
        except BrokenPipeError:
            raise
        except OSError as error:
            answer = {"error": f"{error.strerror}: {error.filename}"}
        _tell(answer)


if __name__ == "__main__":
    serve(Side())
