"""Entry point: ``ferocal`` and ``python -m ferocal``."""

from __future__ import annotations

import _signal
import os


def _end_at_once(number: int, _frame: object) -> None:
    os.write(2, b"ferocal: interrupted\n")
    os._exit(128 + number)


# Before anything else is loaded, and with what is loaded already: nothing has been begun yet that
# would have to be brought to an end. `cli.ending` takes over.
if _signal.getsignal(_signal.SIGINT) is _signal.default_int_handler:
    _signal.signal(_signal.SIGINT, _end_at_once)


def main() -> None:
    """Run the command line."""
    from ferocal.cli import ending

    status: object
    try:
        ending.install()
        status = _run()
    except SystemExit as end:
        status = end.code
    except KeyboardInterrupt:
        # Wherever it came, also while modules were being loaded.
        os.write(2, b"ferocal: interrupted\n")
        status = ending.status()
    _leave(status if isinstance(status, int) else int(status is not None))


def _run() -> int:
    import gc
    import io
    import sys

    # Nearly all that is made at start-up lives to the end: looking for garbage among it
    # would take a tenth of the time of a short command.
    gc.set_threshold(100_000, 20, 20)
    from ferocal.cli.main import run
    from ferocal.terms.signs import plain_errors

    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors=plain_errors())
    return run()


def _leave(status: int) -> None:
    """End the process without taking the interpreter down first.

    Threads of Arrow may still hold memory that belongs to Python. One that gives it back while
    the interpreter is being taken down is ended by force, which aborts the process (status 134)
    after its work was done.
    """
    import atexit
    import contextlib
    import sys

    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
    except OSError as error:
        sys.stderr.write(f"ferocal: the output cannot be written: {error.strerror}\n")
        status = status or 1
    with contextlib.suppress(OSError):  # nowhere is left where that could be said
        sys.stderr.flush()
    os._exit(status)


if __name__ == "__main__":
    main()
