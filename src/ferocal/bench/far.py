"""The far side of a bench that is reached over a connection.

It is sent there as a program, together with `launcher`, `_linux` and `files`, and runs with the
standard library of Python 3.9 or newer. It starts commands as `launcher` does, and tells what
can be seen of the machine: facts, conditions, who is busy, and files. POSIX only.
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    raise ImportError("the far side needs POSIX process groups")

import base64
import contextlib
import fcntl
import glob
import json
import os
import platform
import shutil
import signal
import stat
import tempfile
import time
from dataclasses import asdict
from pathlib import Path

from ferocal.bench import _linux, launcher
from ferocal.bench.files import digest_of, matching, times_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import IO, Any

# Whoever is silent for so long (s) while a command runs is gone.
_SILENCE = 60.0
_PREFIX = "ferocal-far-"
# Processes are looked at after these pauses (s), ever longer.
_FIRST_LOOK, _LOOK_GROWTH = 0.01, 2.0
# So long (s) it is waited for another one to end that was told to.
_PATIENCE = 15.0


class Far(launcher.Side):
    """What is known and done on this side."""

    silence = _SILENCE

    def __init__(self) -> None:
        _clear_left()
        self._scratch = tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-")
        self._count = 0
        self._seen: dict[int, Any] = {}
        self._next_look = _FIRST_LOOK
        self._inline = 0
        self._lock = -1

    def prepare(self, request: dict[str, Any]) -> None:
        """Complete a request for a command: its environment is added to that of the machine."""
        request["environment"] = {**os.environ, **request["environment"]}
        self._count += 1
        for name in ("stdout", "stderr"):
            request[name] = os.path.join(self._scratch, f"{self._count}.{name}")
        self._seen, self._next_look, self._inline = {}, _FIRST_LOOK, request["inline"]

    def look(self, leader: int, seconds: float) -> float:
        """Look at the processes of a run, ever more rarely: start-up is where they change."""
        if seconds >= self._next_look:
            self._seen.update(_linux.look_at_run(leader))
            self._next_look = max(seconds, self._next_look) * _LOOK_GROWTH
        return max(self._next_look - seconds, _FIRST_LOOK)

    def complete(self, answer: dict[str, Any], outputs: tuple[IO[bytes], ...]) -> None:
        """Put what was written, and what was seen of the processes, into the answer."""
        if "error" in answer:
            return
        for name, file in zip(("stdout", "stderr"), outputs):  # noqa: B905 - of Python 3.9
            answer.pop(name)
            content, answer[f"{name}_size"] = self._content(file)
            answer[f"{name}_content"] = base64.b64encode(content).decode()
        answer["seen"] = [asdict(sight) for sight in self._seen.values()]

    def _content(self, file: IO[bytes]) -> tuple[bytes, int]:
        """The beginning and the end of an output, and its size."""
        size = os.fstat(file.fileno()).st_size
        content = os.pread(file.fileno(), min(size, self._inline), 0)
        if size > self._inline:
            start = max(self._inline, size - self._inline)
            content += os.pread(file.fileno(), size - start, start)
        return content, size

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        """The answer to a request for something else than a command."""
        asked = getattr(self, f"tell_{request.pop('ask')}")
        found: dict[str, Any] = asked(**request)
        return found

    def tell_hello(self, token: str, who: str, directory: str) -> dict[str, Any]:
        """What this side is; it is held for one who measures, until the end."""
        place = os.path.realpath(os.path.expanduser(directory))
        if not os.path.isdir(place):
            return {"missing": place}
        holder = self._hold(token, who)
        return {
            "holder": holder,
            "directory": place,
            "python": sys.executable,
            "system": sys.platform,
            "boot": _boot(),
        }

    def _hold(self, token: str, who: str) -> str | None:
        """Hold this machine; who holds it if another one does. One of the same name is ended."""
        path = os.path.join(tempfile.gettempdir(), f"ferocal-{os.getuid()}.lock")
        self._lock = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)
        end = time.monotonic() + _PATIENCE
        while True:
            try:
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                held = self._holder()
                if held.get("token", token) != token or time.monotonic() > end:
                    return str(held.get("who", "unknown"))
                if "pid" in held:
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(held["pid"], signal.SIGTERM)
                time.sleep(0.1)
        facts = {"pid": os.getpid(), "token": token, "who": who}
        os.ftruncate(self._lock, 0)
        os.pwrite(self._lock, json.dumps(facts).encode(), 0)
        return None

    def _holder(self) -> dict[str, Any]:
        """Who holds this machine, as far as that is written down."""
        with contextlib.suppress(ValueError):
            told: dict[str, Any] = json.loads(os.pread(self._lock, 4096, 0))
            return told
        return {}

    def tell_time(self) -> dict[str, Any]:
        """The time of day here (s since the epoch)."""
        return {"time": time.time()}

    def tell_facts(self) -> dict[str, Any]:
        """Facts by kind and name, apart by how they were read."""
        return {"portable": _portable_facts(), "special": {
            "hardware": _linux.hardware_facts(),
            "resource": _linux.resource_facts(),
            "software": _linux.software_facts(),
        }}  # fmt: skip

    def tell_conditions(self) -> dict[str, Any]:
        """The conditions now, None for what cannot be read."""
        found = {}
        for name, read in _CONDITIONS.items():
            try:
                found[name] = read()
            except (OSError, ValueError, IndexError):
                found[name] = None
        return {"conditions": found}

    def tell_times(self) -> dict[str, Any]:
        """Processor times of the machine so far (s), None where the system does not say."""
        times = _linux.processor_times()
        if times is None:
            return {"times": None}
        busy, stolen = times
        own = time.process_time()
        return {"times": [time.monotonic(), busy, own, stolen], "processors": os.cpu_count() or 1}

    def tell_processes(self) -> dict[str, Any]:
        """Processor time (s) of every process, with its number and name."""
        return {"processes": _linux.process_times(), "own": os.getpid()}

    def tell_file_times(self, directory: str, patterns: list[str]) -> dict[str, Any]:
        """The time now (ns) by the file system, by pattern."""
        return {"times": times_of(Path(directory), patterns)}

    def tell_digest(self, directory: str, name: str, limit: int) -> dict[str, Any]:
        """The SHA-256 of a file, or what is odd about it."""
        path = os.path.join(directory, name)
        facts = os.stat(path)
        if not stat.S_ISREG(facts.st_mode) or facts.st_size > limit:
            return {"odd": facts.st_size if stat.S_ISREG(facts.st_mode) else None}
        return {"digest": digest_of(Path(path))}

    def tell_files(self, directory: str, pattern: str) -> dict[str, Any]:
        """The files that a pattern names: path, size, time of the last change, writers."""
        found = []
        for path in matching(Path(directory), pattern):
            facts = path.stat()
            regular = stat.S_ISREG(facts.st_mode)
            writers = _linux.writers_of(str(path)) if regular else []
            found.append([str(path), facts.st_size, facts.st_mtime_ns, regular, writers])
        return {"files": found}

    def tell_piece(self, path: str, begin: int, size: int) -> dict[str, Any]:
        """A piece of a file."""
        with open(path, "rb") as file:
            file.seek(begin)
            return {"piece": base64.b64encode(file.read(size)).decode()}

    def close(self) -> None:
        """Leave nothing behind."""
        shutil.rmtree(self._scratch, ignore_errors=True)


def _clear_left() -> None:
    """Remove the directories of those that were killed here, of the same user."""
    for path in Path(tempfile.gettempdir()).glob(f"{_PREFIX}[0-9]*-*"):
        with contextlib.suppress(OSError, ValueError):
            if path.stat().st_uid != os.getuid() or path.is_symlink():
                continue
            try:
                os.kill(int(path.name.split("-")[2]), 0)
            except ProcessLookupError:
                shutil.rmtree(path, ignore_errors=True)


def _boot() -> str | None:
    """A text that is another one after the next start of the machine."""
    with contextlib.suppress(OSError), open("/proc/sys/kernel/random/boot_id") as file:
        return file.read().strip()
    return None


def _portable_facts() -> dict[str, dict[str, str | None]]:
    memory = None
    with contextlib.suppress(OSError, ValueError):  # a system that does not say
        memory = f"{os.sysconf('SC_PHYS_PAGES') * os.sysconf('SC_PAGE_SIZE') / 2**30:.1f} GiB"
    return {
        "hardware": {
            "processor": platform.processor() or platform.machine(),
            "architecture": platform.machine(),
            "cores": _linux.core_count(),
        },
        "resource": {"threads": str(os.cpu_count() or ""), "memory": memory},
        "software": {
            "system": f"{platform.system()} {platform.release()}",
            "release": _linux.release() or platform.version(),
            "Python": f"{platform.python_implementation()} {platform.python_version()}",
        },
    }


def _highest(pattern: str) -> float | None:
    numbers = []
    for path in glob.glob(pattern):
        with contextlib.suppress(OSError, ValueError), open(path) as file:
            numbers.append(float(file.read()))
    return max(numbers, default=None)


def _thousandth(pattern: str) -> float | None:
    number = _highest(pattern)
    return None if number is None else number / 1000


def _mains() -> bool | None:
    online = _highest("/sys/class/power_supply/A*/online")
    return None if online is None else online > 0


_CONDITIONS: dict[str, Callable[[], Any]] = {
    "load": lambda: os.getloadavg()[0],
    "free_memory_mib": _linux.available_memory,
    "temperature_celsius": lambda: _thousandth("/sys/class/hwmon/hwmon*/temp*_input"),
    "battery_percent": lambda: _highest("/sys/class/power_supply/BAT*/capacity"),
    "on_mains": _mains,
    "clock_mhz": _linux.clock,
    "governor": _linux.governor,
}


def main() -> None:
    """Serve until the end of the connection."""
    far = Far()
    try:
        launcher.serve(far)
    finally:
        far.close()
