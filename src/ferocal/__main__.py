"""Entry point: ``ferocal`` and ``python -m ferocal``."""

from __future__ import annotations

import gc


def main() -> None:
    """Run the command line."""
    # Nearly all that is made at start-up lives to the end: looking for garbage among it
    # would take a tenth of the time of a short command.
    gc.set_threshold(100_000, 20, 20)
    from ferocal.cli.main import ferocal

    ferocal(prog_name="ferocal")


if __name__ == "__main__":
    main()
