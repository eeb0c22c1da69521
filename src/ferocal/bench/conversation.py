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
PATIENCE = 60.0
# Twice what is read of an output, as text; nothing that is asked has a longer answer.
_LONGEST_ANSWER = 2**26


class EndedError(Exception):
    """The other side of a conversation has ended, or does not answer."""


class Conversation:
    """Requests and answers, one JSON object per line, with a process that was started for it."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        self.process = process
        self._unread = b""
        # A signal that comes just before a blocking call, or to another thread, does not end the
        # call: it writes into this pipe, which is waited for as well.
        self._wakes: tuple[int, ...] = os.pipe()
        if sys.platform != "win32":  # where there is no launcher either
            for end in self._wakes:
                os.set_blocking(end, False)
        with contextlib.suppress(ValueError):  # only the main thread hears of signals
            signal.set_wakeup_fd(self._wakes[1], warn_on_full_buffer=False)

    def send(self, content: bytes) -> None:
        """Send something as it is.

        Raises
        ------
        EndedError
            When the other side has ended.
        """
        assert self.process.stdin is not None
        try:
            while content:
                content = content[self.process.stdin.write(content) or 0 :]
        except BrokenPipeError:
            raise EndedError from None

    def tell(self, request: dict[str, Any]) -> None:
        """Send a request."""
        self.send(json.dumps(request).encode() + b"\n")

    def ready(self, seconds: float | None) -> bool:
        """Wait for an answer, so many seconds at most; whether there is some of it."""
        assert self.process.stdout is not None
        if b"\n" in self._unread:
            return True
        answers, wakes = self.process.stdout.fileno(), self._wakes[0]
        end = math.inf if seconds is None else time.monotonic() + seconds
        while True:
            left = max(0.0, end - time.monotonic())
            found, _, _ = select.select([answers, wakes], [], [], min(left, _LOOK_EVERY))
            if wakes in found:
                os.read(wakes, 1024)
            if found or left <= _LOOK_EVERY:
                return answers in found
            self.watch()

    def watch(self) -> None:
        """Look after the other side, once a second while an answer is waited for."""

    def read(self) -> dict[str, Any]:
        """The next answer.

        Raises
        ------
        EndedError
            When the other side has ended before it.
        """
        assert self.process.stdout is not None
        parts, size = [self._unread], 0
        while b"\n" not in parts[-1]:
            if not self.ready(None):
                continue
            chunk = self.process.stdout.read(1 << 20)
            size += len(chunk)
            if not chunk or size > _LONGEST_ANSWER:
                raise EndedError
            parts.append(chunk)
        line, self._unread = b"".join(parts).split(b"\n", 1)
        answer: dict[str, Any] = json.loads(line)
        return answer

    def close(self) -> None:
        """End it, and with it the command in progress."""
        assert self.process.stdin is not None and self.process.stdout is not None
        with contextlib.suppress(BrokenPipeError):
            self.process.stdin.close()
        self.process.wait()
        self.process.stdout.close()
        with contextlib.suppress(ValueError):
            signal.set_wakeup_fd(-1)
        # It may be closed twice; others may have got the same numbers meanwhile.
        for end in self._wakes:
            os.close(end)
        self._wakes = ()


class Launcher(Conversation):
    """The small process that starts commands, and the conversation with it."""

    def __init__(self) -> None:
        super().__init__(
            subprocess.Popen(
                [sys.executable, "-I", "-S", str(Path(__file__).with_name("launcher.py"))],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                bufsize=0,
                start_new_session=True,
            )
        )
        self._end, self._stopped = 0.0, False

    def ask(self, request: dict[str, Any]) -> tuple[dict[str, Any], list[ProcessSight] | None]:
        """Have a command run; its answer, and what was seen of its processes if asked for.

        Raises
        ------
        FerocalError
            When the process has ended, or does not answer.
        """
        self._end = time.monotonic() + request.get("timeout", 0.0) + PATIENCE
        self._stopped = False
        try:
            self.tell(request)
            answer, seen = self.read(), None
            if "started" in answer:
                found: dict[int, ProcessSight] = {}
                pause = _FIRST_LOOK
                while not self.ready(pause):
                    found.update(_linux.look_at_run(answer["started"]))
                    pause *= _LOOK_GROWTH
                answer, seen = self.read(), list(found.values())
        except EndedError:
            raise FerocalError("the process that starts commands has ended unexpectedly") from None
        return {**answer, "stopped": self._stopped}, seen

    def watch(self) -> None:
        """Resume it if something has stopped it, and give it up if it does not answer.

        Raises
        ------
        FerocalError
            When the time of the command is long over.
        """
        import psutil

        with contextlib.suppress(psutil.NoSuchProcess, psutil.AccessDenied):
            launcher = psutil.Process(self.process.pid)
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
