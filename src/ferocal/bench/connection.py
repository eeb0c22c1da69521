"""The connection to a far bench: the system's own `ssh`, and the program that it carries there."""

from __future__ import annotations

import base64
import contextlib
import platform
import shlex
import shutil
import signal
import subprocess
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ferocal.bench.conversation import Conversation, EndedError
from ferocal.errors import FerocalError
from ferocal.terms.frozen import dataclass
from ferocal.terms.users import has_terminal, user_name

# So often (s) the far side hears of this one while a command runs there.
_BEAT = 10.0
# So long (s) it is waited for a connection to end by itself.
_ENDS_WITHIN = 2.0
# Other questions are answered within so many seconds.
_ANSWERS_WITHIN = 120.0
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


def _ignore_ctrl_c() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)


class Connection(Conversation):
    """A connection to the far side, through one `ssh`."""

    def __init__(self, command: tuple[str, ...]) -> None:
        self._end = self._beaten = 0.0
        try:
            super().__init__(
                subprocess.Popen(
                    command,
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    bufsize=0,
                    # In a terminal it may ask for a password; Ctrl-C is for Ferocal.
                    start_new_session=not has_terminal(),
                    preexec_fn=_ignore_ctrl_c if has_terminal() else None,
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
        """What `ssh` says when it ends; where it does not end, it is ended."""
        assert self.process.stderr is not None
        try:
            self.process.wait(_ENDS_WITHIN)
        except subprocess.TimeoutExpired:
            self.process.kill()
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
        ask = () if has_terminal() else ("BatchMode=yes",)
        options = (word for option in (*_OPTIONS, *ask) for word in ("-o", option))
        return (shutil.which("ssh") or "ssh", "-T", *options, "--", self.host, there)


class LostError(FerocalError):
    """A bench that cannot be reached now."""


class FarError(FerocalError):
    """Something that could not be done on a far bench."""


def connect(bench: FarBench) -> tuple[Connection, dict[str, Any]]:
    """Connect to a far bench, start the program there and hold the machine; what it says of itself.

    Raises
    ------
    LostError
        When it cannot be reached.
    FerocalError
        When there is no Python or no directory, or another one measures there.
    """
    connection = Connection(bench.command())
    try:
        text = program()
        connection.send(b"%10d" % len(text) + text)
        started = connection.ask({"ask": "time"}, 60.0)
        if "ready" not in started:
            connection.drop()
            raise FerocalError(f"{bench.host}: no Python 3.9 or newer was found there: install one")
        connection.read()
        who = f"{user_name()} on {platform.node()}"
        hello = connection.ask(
            {"ask": "hello", "token": bench.token, "who": who,
             "directory": bench.directory}
        )  # fmt: skip
    except EndedError:
        said = connection.complaint()
        connection.drop()
        why = said or "no answer"
        raise LostError(f"{bench.host} cannot be reached: {why}") from None
    if "missing" in hello:
        connection.drop()
        raise FerocalError(f"{bench.host}: there is no directory {hello['missing']}")
    if hello["holder"] is not None:
        connection.drop()
        raise FerocalError(f"{bench.host}: {hello['holder']} measures there already")
    return connection, hello
