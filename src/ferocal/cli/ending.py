"""How the program is ended from outside: Ctrl-C, SIGTERM, SIGHUP.

The first signal ends what is being done; others that come while that is brought to an end are not
heard, so that nothing is left half done. After ten seconds they are heard again.
"""

from __future__ import annotations

import _thread
import signal
import sys
import threading
import time
from types import FrameType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sys import UnraisableHookArgs

_GRACE = 10.0
_SIGNALS = ("SIGINT", "SIGTERM", "SIGHUP")
_state: dict[str, float] = {}


class Ended(KeyboardInterrupt):
    """The program was ended by a signal, which the message names."""


def install() -> None:
    """Hear the signals, but for those that whoever started the program has silenced."""
    for name in _SIGNALS:
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _end)
    sys.unraisablehook = _raise_again


def status() -> int:
    """The exit status of a program that was ended, that of Ctrl-C unless a signal is known."""
    return 128 + int(_state.get("signal", signal.SIGINT))


def _end(number: int, _frame: FrameType | None) -> None:
    now = time.monotonic()
    if now - _state.get("at", -_GRACE) < _GRACE:
        return
    _state.update(at=now, signal=number)
    by_key = number == signal.SIGINT
    name = signal.Signals(number).name
    raise Ended("interrupted with Ctrl-C" if by_key else f"ended by {name}")


def _raise_again(unraisable: UnraisableHookArgs) -> None:
    """Have the end come a moment later if it came where Python drops exceptions.

    That is in finalizers and in callbacks of weak references, such as those of imports.
    """
    if not issubclass(unraisable.exc_type, Ended):
        sys.__unraisablehook__(unraisable)
        return
    del _state["at"]
    again = threading.Timer(0.01, _send, [int(_state["signal"])])
    again.daemon = True
    again.start()


def _send(number: int) -> None:
    if sys.platform == "win32":
        _thread.interrupt_main(signal.Signals(number))
    else:  # a real signal, which also ends a call that waits
        signal.pthread_kill(threading.main_thread().ident or 0, number)
