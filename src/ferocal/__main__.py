"""Entry point: ``ferocal`` and ``python -m ferocal``."""

from __future__ import annotations


def main() -> None:
    """Run the command line."""
    from ferocal.cli.main import ferocal

    ferocal(prog_name="ferocal")


if __name__ == "__main__":
    main()
