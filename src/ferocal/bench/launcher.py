"""A small process that starts commands for Ferocal, waits for them and accounts for them.

It runs on its own (``python -I -S launcher.py``) with the standard library only, for
three reasons. The kernel counts the memory of a starting process towards the peak of
the program that it becomes, so a command started by a large process would seem large:
this one is small. When Ferocal dies, by whatever signal, the requests end, and the
launcher ends the command in progress instead of leaving it to disturb the next run. And
on Linux it adopts what a command leaves behind, in whatever session, so that all of it
can be found and ended.

One JSON object per line goes in (see ``_serve``) and one comes out. POSIX only.
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
from typing import IO, Any, NamedTuple

# How often the size of the output is looked at, in seconds.
_LOOK_EVERY = 1.0


class _Waiter:
    """Wakes up when a child ends, when the requester is gone, or after a while."""

    def __init__(self, requests: int) -> None:
        self.requests = requests
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
        # The requester writes nothing while it waits for an answer: readable means gone.
        return self.requests not in ready


def _end_group(leader: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(leader, signal.SIGKILL)


class _Family:
    """What descends from this process; only Linux lets it adopt what lost its parent.

    ``kept`` are sessions that a command was allowed to leave behind, such as services.
    """

    def __init__(self) -> None:
        self.kept: set[int] = set()
        self.adopts = sys.platform == "linux" and _become_subreaper()

    def strays(self) -> dict[int, tuple[int, str]]:
        """Session and name of every descendant that is not kept, by process id."""
        if not self.adopts or not _has_children():
            return {}
        table = _processes()
        family, found = {os.getpid()}, {}
        # Parents may have higher numbers than their children.
        while grown := {pid for pid, (parent, *_) in table.items() if parent in family} - family:
            family |= grown
        for pid in family - {os.getpid()}:
            _, session, name = table[pid]
            if session not in self.kept:
                found[pid] = (session, name)
        return found

    def end_strays(self) -> None:
        """End all descendants that are not kept, and those that they start meanwhile."""
        while strays := self.strays():
            for pid in strays:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.kill(pid, signal.SIGKILL)
            for pid in strays:
                # Of a grandchild the parent is ended first, after which it is adopted.
                with contextlib.suppress(ChildProcessError):
                    os.waitpid(pid, 0)

    def keep(self) -> None:
        """Leave everything that descends from this process alone from now on."""
        self.kept |= {session for session, _ in self.strays().values()}


def _become_subreaper() -> bool:
    """Adopt orphaned descendants (prctl, PR_SET_CHILD_SUBREAPER); whether that is possible."""
    import ctypes

    try:
        return bool(ctypes.CDLL(None, use_errno=True).prctl(36, 1, 0, 0, 0) == 0)
    except (OSError, AttributeError):
        return False


def _has_children() -> bool:
    """Whether any child is left, after those that have ended were taken leave of."""
    try:
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    except ChildProcessError:
        return False
    return True


def _processes() -> dict[int, tuple[int, int, str]]:
    """Parent, session and name of every process that has not ended, by its id."""
    found = {}
    for entry in os.listdir("/proc"):
        if entry.isdecimal():
            with contextlib.suppress(OSError), open(f"/proc/{entry}/stat") as file:
                name, _, rest = file.read().rpartition(")")
                state, parent, _, session = rest.split()[:4]
                if state not in "ZX":
                    found[int(entry)] = (int(parent), int(session), name.partition("(")[2])
    return found


def _processors_allowed(pid: int) -> int | None:
    """On how many processors a process may run; it may have ended, if nobody has waited."""
    if sys.platform != "linux":
        return None
    try:
        return len(os.sched_getaffinity(pid))
    except OSError:
        return None


class _Ended(NamedTuple):
    """The end of a child: wait status, usage, wall time (s), and on how many processors it ran."""

    status: int
    usage: Any
    wall: float
    processors: int | None


def _look(child: subprocess.Popen[bytes], start: float) -> _Ended | None:
    """The end of a child if it has come."""
    if sys.platform == "linux":
        # Before it is waited for, an ended process still says where it was allowed to run.
        if os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT) is None:
            return None
        wall, processors = time.perf_counter() - start, _processors_allowed(child.pid)
        _, status, usage = os.wait4(child.pid, 0)
        return _Ended(status, usage, wall, processors)
    pid, status, usage = os.wait4(child.pid, os.WNOHANG)
    return _Ended(status, usage, time.perf_counter() - start, None) if pid else None


def _watch(
    child: subprocess.Popen[bytes], request: dict[str, Any], waiter: _Waiter, start: float
) -> tuple[_Ended, str | None]:
    """Wait for a child's end; how it ended, and why it was ended if it was."""
    ended_for = None
    while True:
        ended = _look(child, start)
        now = time.perf_counter()
        if ended is not None:
            return ended, ended_for
        left = start + request["timeout"] - now
        size = sum(map(_size, (request["stdout"], request["stderr"])))
        if ended_for is None and left <= 0:
            ended_for = "overran"
        elif ended_for is None and size > request["output_limit"]:
            ended_for = "output"
        if ended_for is not None:
            _end_group(child.pid)
        if not waiter.wait(min(left, _LOOK_EVERY) if left > 0 else _LOOK_EVERY):
            _end_group(child.pid)
            raise EOFError


def _size(path: str) -> int:
    """The size of an output, 0 if somebody has removed it."""
    try:
        return os.path.getsize(path)
    except OSError:
        return 0


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


def _execute(request: dict[str, Any], waiter: _Waiter, family: _Family) -> dict[str, Any]:
    with open(request["stdout"], "xb") as out, open(request["stderr"], "xb") as err:
        start = time.perf_counter()
        try:
            child = _start(request, out, err)
        except OSError as error:
            return {"error": f"{error.strerror}: {error.filename or request['words'][0]}"}
        if request["announce"]:
            _tell({"started": child.pid})
        try:
            ended, ended_for = _watch(child, request, waiter, start)
        except EOFError:
            family.end_strays()
            raise
        child.returncode = os.waitstatus_to_exitcode(ended.status)
        if request["end_group"]:
            _end_group(child.pid)
    strays = family.strays()
    escaped = sorted({name for session, name in strays.values() if session != child.pid})
    if request["end_group"]:
        family.end_strays()
    else:
        family.keep()
    return {
        "exit_status": child.returncode,
        "wall": ended.wall,
        "cpu": ended.usage.ru_utime + ended.usage.ru_stime,
        # Linux and the BSDs count in KiB, Darwin in bytes.
        "peak_memory": ended.usage.ru_maxrss * (1 if sys.platform == "darwin" else 1024),
        "ended_for": ended_for,
        "processors": ended.processors,
        "left_behind": escaped if request["end_group"] else sorted({n for _, n in strays.values()}),
        "adopts": family.adopts,
    }


def _tell(answer: dict[str, Any]) -> None:
    # Unbuffered: nothing may be left to be written when the asker is gone.
    os.write(sys.stdout.fileno(), json.dumps(answer).encode() + b"\n")


def _serve() -> None:
    """Answer requests until their end.

    A request has ``words``, ``shell``, ``cwd``, ``environment``, ``timeout`` (s),
    ``stdout`` and ``stderr`` (paths), ``output_limit`` (bytes), ``end_group``, and
    ``announce`` (whether the process is announced as soon as it has started).
    """
    # Ctrl-C is for Ferocal; it closes the requests when it wants to end.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests = sys.stdin.fileno()
    waiter, family = _Waiter(requests), _Family()
    buffer = b""
    while True:
        while b"\n" not in buffer:
            chunk = os.read(requests, 1 << 16)
            if not chunk:
                return
            buffer += chunk
        line, buffer = buffer.split(b"\n", 1)
        try:
            try:
                answer = _execute(json.loads(line), waiter, family)
            except OSError as error:
                answer = {"error": f"{error.strerror}: {error.filename}"}
            _tell(answer)
        except (EOFError, BrokenPipeError):  # Ferocal was killed
            return


if __name__ == "__main__":
    _serve()
