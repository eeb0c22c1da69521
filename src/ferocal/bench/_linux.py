"""Facts that only Linux tells, from /proc and /sys; empty on other systems."""

from __future__ import annotations

import os
import sys
from pathlib import Path


def _read(path: str) -> str | None:
    try:
        return Path(path).read_text(errors="replace").strip() or None
    except OSError:
        return None  # absent in this kernel or closed to this user: the fact is left out


def _cpuinfo(field: str) -> str | None:
    for line in (_read("/proc/cpuinfo") or "").splitlines():
        name, _, value = line.partition(":")
        if name.strip() == field:
            return value.strip()
    return None


def hardware_facts() -> dict[str, str | None]:
    """Hardware facts by name; None where this machine does not tell."""
    if sys.platform != "linux":
        return {}
    return {
        "processor": _cpuinfo("model name"),
        "cores allowed": str(len(os.sched_getaffinity(0))),
        "board": _read("/sys/class/dmi/id/board_name"),
        "product": _read("/sys/class/dmi/id/product_name"),
    }


def software_facts() -> dict[str, str | None]:
    """Software facts by name; None where this machine does not tell."""
    if sys.platform != "linux":
        return {}
    governor = "/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"
    return {
        "C library": os.confstr("CS_GNU_LIBC_VERSION"),
        "microcode": _cpuinfo("microcode"),
        "frequency governor": _read(governor),
        "huge pages": _read("/sys/kernel/mm/transparent_hugepage/enabled"),
    }
