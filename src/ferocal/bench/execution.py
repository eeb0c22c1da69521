"""Execution of commands on a bench, behind one small interface.

Everything that is run on a bench (checks, workloads) goes through an `Executor`, so
that another kind of bench needs nothing but another executor.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field
from pathlib import Path, PurePath
from typing import Any, Literal, Protocol

from ferocal.bench._linux import ProcessSight
from ferocal.bench.conversation import Launcher
from ferocal.bench.room import check_room
from ferocal.study.masking import NOTHING_PRIVATE, Mask
from ferocal.terms.files import scratch_directory
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import listed

# A command that writes more than this is ended: it would fill the disk.
OUTPUT_LIMIT = 2**30
# Of longer outputs, so many bytes of the beginning and of the end are read.
READ_LIMIT = 16 * 2**20
# A message has at most so many characters of an output.
_TAIL = 400
_STREAMS = ("stdout", "stderr")
# Whether processes that leave their group can be found and ended with the run.
FINDS_STRAYS = sys.platform == "linux"


# What becomes of what a command leaves running: it is ended, lives on (a service), or is a guest
# until `end_guests`.
Then = Literal["end", "keep", "guest"]


@dataclass(frozen=True)
class Place:
    """Where commands are run on a bench: the directory, and the Python of ``{python}``.

    Commands of the study are put behind the words of ``through``, where it is only reached like
    that. What is ``private`` is given to these words in variables, and is in no command line.
    """

    directory: PurePath
    python: str
    through: tuple[str, ...] = ()
    private: Mask = NOTHING_PRIVATE


@dataclass(frozen=True)
class Invocation:
    """A command, ready to be run.

    ``environment`` is added to that of Ferocal. ``timeout`` is in seconds. ``then`` says what
    becomes of processes that it leaves running, with ``observe`` they are looked at while they run.
    Where the connection to the bench is lost meanwhile, it is run again unless it is to be run
    ``once``.
    """

    words: tuple[str, ...]
    directory: PurePath
    shell: bool = False
    environment: Mapping[str, str] = field(default_factory=dict)
    timeout: float = 60.0
    then: Then = "end"
    observe: bool = False
    once: bool = False


@dataclass(frozen=True)
class Completed:
    """The outcome of an invocation.

    ``wall`` and ``cpu`` are in seconds, ``peak_memory`` in bytes; the last two are None
    where the system does not report them. Up to ``memory_floor``, the peak of whoever started it,
    it is unknown how much less it was. Of a long output ``stdout`` has the beginning and the
    end; ``whole`` is the file of all of it, which the next command removes. ``error`` says why
    nothing could be started,
    ``processes`` is what was seen of the processes, None where they could not be observed.
    ``ended_for`` is "timeout" (time limit), "output" (too much of it), "connection" (to the bench,
    which was lost) or None. ``processors``
    is the number of processors on which it was allowed to run at its end. ``left_behind``
    names processes that it left running: where these are ended only those that had taken
    themselves a separate session; else those that live on. None where they could not be observed.
    ``unended`` names those that could not be ended in time. ``spoiled`` says
    why its output cannot be believed: others may have written into it.
    """

    exit_status: int | None
    wall: float = 0.0
    cpu: float | None = None
    peak_memory: float | None = None
    memory_floor: float = 0.0
    stdout: bytes = b""
    stderr: bytes = b""
    stdout_size: int = 0
    whole: Path | None = None
    ended_for: str | None = None
    processes: tuple[ProcessSight, ...] | None = None
    processors: int | None = None
    left_behind: tuple[str, ...] | None = None
    unended: tuple[str, ...] = ()
    spoiled: str | None = None
    error: str | None = None
    mask: Mask = NOTHING_PRIVATE

    @property
    def failure(self) -> str | None:
        """Why this is not a success, in a few words, or None."""
        if self.error is not None:
            return self.error
        if self.ended_for == "output":
            return f"wrote more than {grouped(OUTPUT_LIMIT)} bytes"
        if self.ended_for == "connection":
            return f"was interrupted after {self.wall:.3g} s: the connection to the bench was lost"
        if self.ended_for == "timeout":
            return f"was ended at its time limit after {self.wall:.3g} s"
        if self.exit_status != 0:
            return f"ended with exit status {self.exit_status}"
        return self.spoiled

    @property
    def complaint(self) -> str:
        """The end of what it wrote to standard error, masked before it is cut."""
        return tail(self.mask.data(self.stderr))

    @property
    def is_cut(self) -> bool:
        """Whether ``stdout`` misses the middle of what it wrote."""
        return self.stdout_size > len(self.stdout)

    @property
    def text(self) -> str:
        """Standard output as text."""
        return self.stdout.decode("utf-8", "replace")

    @property
    def shown(self) -> str:
        """Standard output as it may be kept and shown."""
        return self.mask.text(self.text.strip())


def tail(output: bytes) -> str:
    """The end of an output as text, short enough for a message."""
    return output.decode("utf-8", "replace").strip()[-_TAIL:]


class Executor(Protocol):
    """Runs commands on a bench."""

    @property
    def place(self) -> Place:
        """Where the commands of the study are run."""

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end."""

    def end_guests(self) -> tuple[str, ...]:
        """End what was left running as guests; names of what could not be ended in time."""


class LocalExecutor:
    """Runs commands on this machine; use `local_executor` to get one."""

    def __init__(
        self,
        scratch: Path,
        launcher: Launcher | None,
        directory: Path,
        mask: Mask = NOTHING_PRIVATE,
        through: tuple[str, ...] = (),
    ) -> None:
        python = "python3" if through else sys.executable
        self.place = Place(directory.resolve(), python, through, mask)
        self._scratch = scratch
        self._mask = mask
        self._count = 0
        self._launcher = launcher

    def run(self, invocation: Invocation) -> Completed:
        """Run one command to its end; what it left running is ended with it.

        Raises
        ------
        FerocalError
            When there is no room for what it writes, or nothing can be started any more.
        """
        environment = {**os.environ, **invocation.environment}
        seen: list[ProcessSight] | None = None
        # Separate files: a process that lives on would write into those of a later command.
        self._clear()
        self._count += 1
        files = tuple(self._scratch / f"{self._count}.{name}" for name in ("out", "err"))
        size = 0
        try:
            # Whoever clears the directory of temporary files may take it away.
            self._scratch.mkdir(mode=0o700, parents=True, exist_ok=True)
            if self._launcher is None:
                answer = self._run_alone(invocation, environment, *files)
            else:
                answer, seen = self._launcher.ask(self._request(invocation, environment, *files))
            if "error" in answer:
                check_room(self._scratch)
                return Completed(exit_status=None, error=f"could not be started: {answer['error']}")
            files = tuple(Path(answer.pop(n, p)) for n, p in zip(_STREAMS, files, strict=True))
            (stdout, size, whole), (stderr, _, _) = map(_take, files)
        except ChangedError:
            error = "its output changed while it was read: end whatever else writes into it"
            return Completed(exit_status=None, error=error)
        except FileNotFoundError:
            error = f"its output is gone: {self._scratch} was removed"
            return Completed(exit_status=None, error=error)
        finally:
            if size <= READ_LIMIT:
                self._clear()
        failed_in = [Path(invocation.directory)] if answer["exit_status"] else []
        check_room(self._scratch, *failed_in)
        adopts, left_behind = answer.pop("adopts", False), answer.pop("left_behind", ())
        unended = tuple(answer.pop("unended", ()))
        return Completed(
            stdout=stdout,
            stderr=stderr,
            stdout_size=size,
            whole=whole,
            mask=self._mask,
            processes=None if seen is None else tuple(seen),
            left_behind=tuple(left_behind) if adopts else None,
            unended=unended,
            spoiled=why_spoiled(answer.pop("stopped", False), answer.pop("holding", ())),
            **answer,
        )

    def end_guests(self) -> tuple[str, ...]:
        """End what was left running as guests; names of what could not be ended in time."""
        if self._launcher is None:
            return ()
        answer, _ = self._launcher.ask({"end_guests": True})
        return tuple(answer["unended"])

    def _clear(self) -> None:
        """Remove the outputs of the last command."""
        for file in self._scratch.glob(f"{self._count}.*"):
            # A process that lives on may keep it open, which not every system allows.
            with contextlib.suppress(OSError):
                file.unlink()

    def _request(
        self, invocation: Invocation, environment: Mapping[str, str], stdout: Path, stderr: Path
    ) -> dict[str, Any]:
        return {
            "words": invocation.words,
            "shell": invocation.shell,
            "cwd": str(invocation.directory),
            "environment": environment,
            "timeout": invocation.timeout,
            "stdout": str(stdout),
            "stderr": str(stderr),
            "output_limit": OUTPUT_LIMIT,
            "then": invocation.then,
            "announce": invocation.observe,
        }

    def _run_alone(
        self, invocation: Invocation, environment: Mapping[str, str], stdout: Path, stderr: Path
    ) -> dict[str, Any]:
        """Run without a launcher, where the system has no POSIX process groups."""
        words = invocation.words
        with stdout.open("xb") as out, stderr.open("xb") as err:
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
                status, ended_for = child.wait(), "timeout"
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


def why_spoiled(stopped: bool, holding: Sequence[str]) -> str | None:
    """Why what a command wrote, or its time, cannot be believed; None where it can."""
    if holding:
        return f"its output is open in {listed(holding)}, which an earlier step left running"
    return "what takes its time was stopped meanwhile, perhaps by itself" if stopped else None


class ChangedError(Exception):
    """An output that was written into while it was read."""


def _take(path: Path) -> tuple[bytes, int, Path]:
    """An output as it is now, its beginning and end if it is long, its size, and its file.

    Where it has a name, it is renamed first, so that nothing that finds it adds to it meanwhile.
    """
    taken = path
    # A system may not rename what is still open somewhere; a file without a name has none.
    if path.parent.name != "fd":
        with contextlib.suppress(PermissionError):
            taken = path.rename(path.with_name(f"{path.name}.done"))
    with taken.open("rb") as file:
        before = os.fstat(file.fileno())
        size = before.st_size
        output = file.read(min(size, READ_LIMIT))
        if size > READ_LIMIT:
            start = max(READ_LIMIT, size - READ_LIMIT)
            file.seek(start)
            output += file.read(size - start)
        after = os.fstat(file.fileno())
    if (after.st_size, after.st_mtime_ns) != (before.st_size, before.st_mtime_ns):
        raise ChangedError
    return output, size, taken


@contextlib.contextmanager
def local_executor(
    directory: Path, mask: Mask = NOTHING_PRIVATE, through: tuple[str, ...] = ()
) -> Iterator[LocalExecutor]:
    """Run commands on this machine; commands still running at the end are ended.

    ``directory`` is where those of a study are run, ``mask`` for what is shown of their outputs,
    ``through`` words before each of them.
    """
    with scratch_directory() as scratch:
        if sys.platform == "win32":
            yield LocalExecutor(scratch, None, directory, mask, through)
            return
        launcher = Launcher()
        try:
            yield LocalExecutor(scratch, launcher, directory, mask, through)
        finally:
            launcher.close()
