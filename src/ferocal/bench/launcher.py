"""A small process that starts commands for Ferocal, waits for them and accounts for them.

It runs on its own (``python -I -S launcher.py``) with the standard library only, for
two reasons. The kernel counts the memory of a starting process towards the peak of
the program that it becomes, so a command started by a large process would seem large:
this one is small. And when Ferocal dies, by whatever signal, the requests end, and the
launcher ends the command in progress instead of leaving it to disturb the next run.

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
from typing import Any

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


def _watch(
    child: subprocess.Popen[bytes], request: dict[str, Any], waiter: _Waiter, start: float
) -> tuple[int, Any, float, str | None]:
    """Wait for the child's end; its wait status, usage, wall time, and why it was ended."""
    ended_for = None
    while True:
        pid, status, usage = os.wait4(child.pid, os.WNOHANG)
        now = time.perf_counter()
        if pid:
            return status, usage, now - start, ended_for
        left = start + request["timeout"] - now
        size = sum(os.path.getsize(request[stream]) for stream in ("stdout", "stderr"))
        if ended_for is None and left <= 0:
            ended_for = "overran"
        elif ended_for is None and size > request["output_limit"]:
            ended_for = "output"
        if ended_for is not None:
            _end_group(child.pid)
        if not waiter.wait(min(left, _LOOK_EVERY) if left > 0 else _LOOK_EVERY):
            _end_group(child.pid)
            raise EOFError


def _execute(request: dict[str, Any], waiter: _Waiter) -> dict[str, Any]:
    with open(request["stdout"], "wb") as out, open(request["stderr"], "wb") as err:
        words = request["words"]
        start = time.perf_counter()
        try:
            child = subprocess.Popen(
                words[0] if request["shell"] else words,
                shell=request["shell"],
                cwd=request["cwd"],
                env=request["environment"],
                stdin=subprocess.DEVNULL,
                stdout=out,
                stderr=err,
                start_new_session=True,
            )
        except OSError as error:
            return {"error": f"{error.strerror}: {error.filename or words[0]}"}
        if request["announce"]:
            _tell({"started": child.pid})
        status, usage, wall, ended_for = _watch(child, request, waiter, start)
        child.returncode = os.waitstatus_to_exitcode(status)
        if request["end_group"]:
            _end_group(child.pid)
    return {
        "exit_status": child.returncode,
        "wall": wall,
        "cpu": usage.ru_utime + usage.ru_stime,
        # Linux and the BSDs count in KiB, Darwin in bytes.
        "peak_memory": usage.ru_maxrss * (1 if sys.platform == "darwin" else 1024),
        "ended_for": ended_for,
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
    waiter = _Waiter(requests)
    buffer = b""
    while True:
        while b"\n" not in buffer:
            chunk = os.read(requests, 1 << 16)
            if not chunk:
                return
            buffer += chunk
        line, buffer = buffer.split(b"\n", 1)
        try:
            _tell(_execute(json.loads(line), waiter))
        except (EOFError, BrokenPipeError):  # Ferocal was killed
            return


if __name__ == "__main__":
    _serve()
