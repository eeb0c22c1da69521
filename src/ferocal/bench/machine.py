"""What tells one machine, since its last start, from others."""

from __future__ import annotations

import platform
from pathlib import Path

# Where systems keep their identity, and that of the present boot.
_IDENTITIES = (
    "/etc/machine-id",
    "/var/lib/dbus/machine-id",
    "/proc/sys/kernel/random/boot_id",
)


def machine_identity() -> str:
    """A text that no other machine has, nor this one after its next start, as far as it says."""
    found = []
    for name in _IDENTITIES:
        try:
            found.append(Path(name).read_text(encoding="utf-8").strip())
        except (OSError, ValueError):
            continue  # this system has no such file
    return " ".join(found) or platform.node()
