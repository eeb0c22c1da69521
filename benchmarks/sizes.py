"""How large a benchmark is: as its targets ask, or with --tiny just enough to run all of it."""

from __future__ import annotations

import sys

TINY = "--tiny" in sys.argv


def scaled(full: int, tiny: int) -> int:
    """The one or the other."""
    return tiny if TINY else full


def operands() -> list[str]:
    """What was named in the call besides options."""
    return [word for word in sys.argv[1:] if not word.startswith("--")]
