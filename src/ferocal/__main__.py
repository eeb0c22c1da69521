"""Entry point: ``ferocal`` and ``python -m ferocal``."""

from __future__ import annotations

import atexit
import gc
import io
import os
import sys


def main() -> None:
    """Run the command line."""
    # Nearly all that is made at start-up lives to the end: looking for garbage among it
    # would take a tenth of the time of a short command.
    gc.set_threshold(100_000, 20, 20)
    from ferocal.cli.main import ferocal
    from ferocal.terms.signs import plain_errors

    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors=plain_errors())

    try:
        ferocal(prog_name="ferocal")
    except SystemExit as end:
        if "pyarrow" not in sys.modules:
            raise
        _leave(end.code)


def _leave(code: object) -> None:
    """End the process without taking the interpreter down first.

    Threads of Arrow may still hold memory that belongs to Python. One that gives it back while
    the interpreter is being taken down is ended by force, which aborts the process (status 134)
    after its work was done.
    """
    status = code if isinstance(code, int) else int(code is not None)
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
    except OSError as error:
        sys.stderr.write(f"ferocal: the output cannot be written: {error.strerror}\n")
        status = status or 1
    sys.stderr.flush()
    os._exit(status)


if __name__ == "__main__":
    main()
