"""Facts about a bench: hardware, which must not change, and the software on it."""

from __future__ import annotations

import platform
import sys
from dataclasses import dataclass

import psutil

from ferocal.bench import _linux


@dataclass(frozen=True)
class Facts:
    """What is known about the bench at one time; names to values, as text."""

    hardware: dict[str, str]
    software: dict[str, str]


def probe_facts() -> Facts:
    """Read the facts of this machine; what cannot be read is left out."""
    hardware = {
        "processor": platform.processor() or platform.machine(),
        "architecture": platform.machine(),
        "cores": str(psutil.cpu_count(logical=False) or ""),
        "threads": str(psutil.cpu_count() or ""),
        "memory": f"{psutil.virtual_memory().total / 2**30:.1f} GiB",
        **{name: value for name, value in _linux.hardware_facts().items() if value},
    }
    software = {
        "system": f"{platform.system()} {platform.release()}",
        "release": _release(),
        "Python": f"{platform.python_implementation()} {platform.python_version()}",
        **{name: value for name, value in _linux.software_facts().items() if value},
    }
    return Facts(_known(hardware), _known(software))


def _known(facts: dict[str, str]) -> dict[str, str]:
    return {name: value for name, value in facts.items() if value}


def _release() -> str:
    if sys.platform == "linux":
        try:
            return platform.freedesktop_os_release().get("PRETTY_NAME", "")
        except OSError:
            return ""  # a system without the file: the fact is left out
    return platform.version()
