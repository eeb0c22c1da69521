"""The conversation with the small process that starts commands (`bench.launcher`)."""

from __future__ import annotations

import contextlib
import json
import math
import os
import select
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from ferocal.bench import _linux
from ferocal.bench._linux import ProcessSight
from ferocal.errors import FerocalError

# Processes are looked at after these pauses (s), ever longer: start-up is where they change.
_FIRST_LOOK = 0.01
_LOOK_GROWTH = 2.0
# So often (s) it is looked at whether it still runs itself.
_LOOK_EVERY = 1.0
# So long (s) after the time limit of a command its end is waited for.
_PATIENCE = 60.0


class Launcher:
    """The small process that starts commands, and the conversation with it."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-S", str(Path(__file__).with_name("launcher.py"))],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            bufsize=0,
            start_new_session=True,
        )
        self._unread = b""
        self._end, self._stopped = 0.0, False
        # A signal that comes just before a blocking call, or to another thread, does not end the
        # call: it writes into this pipe, which is waited for as well.
        self._wakes = os.pipe()
        if sys.platform != "win32":  # where there is no launcher either
            for end in self._wakes:
                os.set_blocking(end, False)
        with contextlib.suppress(ValueError):  # only the main thread hears of signals
            signal.set_wakeup_fd(self._wakes[1], warn_on_full_buffer=False)

    def ask(self, request: dict[str, Any]) -> tuple[dict[str, Any], list[ProcessSight] | None]:
        """Have a command run; its answer, and what was seen of its processes if asked for."""
        assert self._process.stdin is not None
        self._end = time.monotonic() + request.get("timeout", 0.0) + _PATIENCE
        self._stopped = False
        self._process.stdin.write(json.dumps(request).encode() + b"\n")
        answer, seen = self._read(), None
        if "started" in answer:
            found: dict[int, ProcessSight] = {}
            pause = _FIRST_LOOK
            while not self._ready(pause):
                found.update(_linux.look_at_run(answer["started"]))
                pause *= _LOOK_GROWTH
            answer, seen = self._read(), list(found.values())
        return {**answer, "stopped": self._stopped}, seen

    def _ready(self, seconds: float | None) -> bool:
        """Wait for an answer, so many seconds at most; whether there is some of it."""
        assert self._process.stdout is not None
        if b"\n" in self._unread:
            return True
        answers, wakes = self._process.stdout.fileno(), self._wakes[0]
        end = math.inf if seconds is None else time.monotonic() + seconds
        while True:
            left = max(0.0, end - time.monotonic())
            found, _, _ = select.select([answers, wakes], [], [], min(left, _LOOK_EVERY))
            if wakes in found:
                os.read(wakes, 1024)
            if found or left <= _LOOK_EVERY:
                return answers in found
            self._watch()

    def _watch(self) -> None:
        """Resume it if something has stopped it, and give it up if it does not answer.

        Raises
        ------
        FerocalError
            When the time of the command is long over.
        """
        import psutil

        with contextlib.suppress(psutil.NoSuchProcess, psutil.AccessDenied):
            launcher = psutil.Process(self._process.pid)
            if launcher.status() == psutil.STATUS_STOPPED:
                self._stopped = True
                launcher.resume()
            if time.monotonic() > self._end:
                for process in [*launcher.children(recursive=True), launcher]:
                    with contextlib.suppress(psutil.NoSuchProcess):
                        process.kill()
                raise FerocalError(
                    "the process that starts commands does not answer, long after the time limit "
                    "of the command; it was ended, with all that it has started"
                )

    def _read(self) -> dict[str, Any]:
        assert self._process.stdout is not None
        while b"\n" not in self._unread:
            if not self._ready(None):
                continue
            chunk = self._process.stdout.read(1 << 16)
            if not chunk:
                raise FerocalError("the process that starts commands has ended unexpectedly")
            self._unread += chunk
        line, self._unread = self._unread.split(b"\n", 1)
        answer: dict[str, Any] = json.loads(line)
        return answer

    def close(self) -> None:
        """End it, and with it the command in progress."""
        assert self._process.stdin is not None and self._process.stdout is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.close()
        self._process.wait()
        self._process.stdout.close()
        with contextlib.suppress(ValueError):
            signal.set_wakeup_fd(-1)
        for end in self._wakes:
            os.close(end)
