"""Who uses this machine, and whether through a terminal."""

from __future__ import annotations

import getpass
import os
import sys


def user_name() -> str:
    """What the user is called; the number of one without a name, as in containers."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return str(os.geteuid()) if hasattr(os, "geteuid") else "unknown"


def has_terminal() -> bool:
    """Whether there is someone at a terminal who can be asked."""
    return sys.stdin is not None and sys.stdin.isatty()
