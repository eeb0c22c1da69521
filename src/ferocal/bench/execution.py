"""Execution of commands on a bench, behind one small interface.

Everything that is run on a bench (checks, workloads) goes through an `Executor`, so
that another kind of bench needs nothing but another executor.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from ferocal.errors import FerocalError

# A command that writes more than this is ended: it would fill the disk.
OUTPUT_LIMIT = 2**30
# Of longer outputs, so many bytes of the beginning and of the end are read.
READ_LIMIT = 16 * 2**20


@dataclass(frozen=True)
class Invocation:
    """A command, ready to be run.

    ``environment`` is added to that of Ferocal. ``timeout`` is in seconds. With
    ``end_group`` whatever the command left running in its process group is ended too.
    """

    words: tuple[str, ...]
    directory: Path
    shell: bool = False
    environment: Mapping[str, str] = field(default_factory=dict)
    timeout: float = 60.0
    end_group: bool = True


@dataclass(frozen=True)
class Completed:
    """What came of an invocation.

    ``wall`` and ``cpu`` are in seconds, ``peak_memory`` in bytes; the last two are None
    where the system does not tell them. ``error`` says why nothing could be started,
    ``ended_for`` is "overran" (time limit), "output" (too much of it) or None.
    """

    exit_status: int | None
    wall: float = 0.0
    cpu: float | None = None
    peak_memory: float | None = None
    stdout: bytes = b""
    stderr: bytes = b""
    stdout_size: int = 0
    ended_for: str | None = None
    error: str | None = None

    @property
    def failure(self) -> str | None:
        """Why this is not a success, in a few words, or None."""
        if self.error is not None:
            return f"could not be started: {self.error}"
        if self.ended_for == "output":
            return f"wrote more than {OUTPUT_LIMIT:,} bytes"
        if self.ended_for == "overran":
            return f"was ended at its time limit after {self.wall:.3g} s"
        if self.exit_status != 0:
            return f"ended with exit status {self.exit_status}"
        return None

    @property
    def text(self) -> str:
        """Standard output as text."""
        return self.stdout.decode("utf-8", "replace")


class Executor(Protocol):
    """Runs commands on a bench."""

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end."""


class LocalExecutor:
    """Runs commands on this machine; use `local_executor` to get one."""

    def __init__(self, scratch: Path, launcher: subprocess.Popen[str] | None) -> None:
        self._stdout = scratch / "stdout"
        self._stderr = scratch / "stderr"
        self._launcher = launcher

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end; what it left running is ended with it."""
        environment = {**os.environ, **invocation.environment}
        answer = (
            self._run_alone(invocation, environment)
            if self._launcher is None
            else self._ask_launcher(self._launcher, invocation, environment)
        )
        if "error" in answer:
            return Completed(exit_status=None, error=answer["error"])
        return Completed(
            stdout=_read_bounded(self._stdout),
            stderr=_read_bounded(self._stderr),
            stdout_size=self._stdout.stat().st_size,
            **answer,
        )

    def _ask_launcher(
        self,
        launcher: subprocess.Popen[str],
        invocation: Invocation,
        environment: Mapping[str, str],
    ) -> dict[str, Any]:
        request = {
            "words": invocation.words,
            "shell": invocation.shell,
            "cwd": str(invocation.directory),
            "environment": environment,
            "timeout": invocation.timeout,
            "stdout": str(self._stdout),
            "stderr": str(self._stderr),
            "output_limit": OUTPUT_LIMIT,
            "end_group": invocation.end_group,
        }
        assert launcher.stdin is not None and launcher.stdout is not None
        launcher.stdin.write(json.dumps(request) + "\n")
        launcher.stdin.flush()
        line = launcher.stdout.readline()
        if not line:
            raise FerocalError("the process that starts commands has ended unexpectedly")
        answer: dict[str, Any] = json.loads(line)
        return answer

    def _run_alone(self, invocation: Invocation, environment: Mapping[str, str]) -> dict[str, Any]:
        """Run without a launcher, where the system has no POSIX process groups."""
        import time

        words = invocation.words
        with self._stdout.open("wb") as out, self._stderr.open("wb") as err:
            start = time.perf_counter()
            try:
                child = subprocess.Popen(
                    words[0] if invocation.shell else words,
                    shell=invocation.shell,
                    cwd=invocation.directory,
                    env=dict(environment),
                    stdin=subprocess.DEVNULL,
                    stdout=out,
                    stderr=err,
                )
            except OSError as error:
                return {"error": f"{error.strerror}: {error.filename or words[0]}"}
            try:
                status, ended_for = child.wait(invocation.timeout), None
            except subprocess.TimeoutExpired:
                _end_tree(child.pid)
                status, ended_for = child.wait(), "overran"
            except KeyboardInterrupt:
                _end_tree(child.pid)
                raise
            wall = time.perf_counter() - start
        return {"exit_status": status, "wall": wall, "ended_for": ended_for}


def _end_tree(pid: int) -> None:
    import psutil

    with contextlib.suppress(psutil.NoSuchProcess):
        parent = psutil.Process(pid)
        for process in [*parent.children(recursive=True), parent]:
            with contextlib.suppress(psutil.NoSuchProcess):
                process.kill()


def _read_bounded(path: Path) -> bytes:
    with path.open("rb") as file:
        head = file.read(READ_LIMIT)
        size = path.stat().st_size
        if size <= READ_LIMIT:
            return head
        file.seek(max(READ_LIMIT, size - READ_LIMIT))
        return head + file.read()


@contextlib.contextmanager
def local_executor() -> Iterator[LocalExecutor]:
    """Run commands on this machine; commands still running at the end are ended."""
    with tempfile.TemporaryDirectory(prefix="ferocal-") as scratch:
        if sys.platform == "win32":
            yield LocalExecutor(Path(scratch), None)
            return
        launcher = subprocess.Popen(
            [sys.executable, "-I", "-S", str(Path(__file__).with_name("launcher.py"))],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            encoding="utf-8",
            start_new_session=True,
        )
        try:
            yield LocalExecutor(Path(scratch), launcher)
        finally:
            assert launcher.stdin is not None and launcher.stdout is not None
            with contextlib.suppress(BrokenPipeError):
                launcher.stdin.close()
            launcher.wait()
            launcher.stdout.close()
