"""What only Linux offers, from /proc and /sys; empty on other systems.

With the standard library only, as it is sent to far benches.
"""

from __future__ import annotations

import contextlib
import os
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

# Machine codes of ELF headers (System V ABI, e_machine) for the processors of today.
_MACHINES = {
    3: "x86", 8: "mips", 20: "ppc", 21: "ppc64", 22: "s390x", 40: "arm", 62: "x86_64",
    183: "aarch64", 243: "riscv", 258: "loongarch",
}  # fmt: skip


@dataclass(frozen=True)
class ProcessSight:
    """What a look at a process showed; paths are as this process sees them.

    ``program`` is its program file, ``libraries`` those that it has loaded, ``files`` what it has
    open, ``root`` the directory that it takes for "/".
    """

    program: str
    architecture: str
    libraries: tuple[str, ...]
    files: tuple[str, ...]
    root: str


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


def _paths(root: str, pattern: str) -> list[Path]:
    return sorted(Path(root).glob(pattern))


def hardware_facts() -> dict[str, str | None]:
    """Hardware facts by name; None where this machine does not say."""
    if sys.platform != "linux":
        return {}
    disks = [
        f"{path.parent.parent.name} {_read(str(path))}"
        for path in _paths("/sys/block", "*/device/model")
    ]
    return {
        "processor": _cpuinfo("model name"),
        "board": _read("/sys/class/dmi/id/board_name"),
        "product": _read("/sys/class/dmi/id/product_name"),
        "storage": ", ".join(disks),
        "virtualisation": "guest" if "hypervisor" in (_cpuinfo("flags") or "").split() else "none",
    }


def resource_facts() -> dict[str, str | None]:
    """What a configuration is given of the hardware."""
    if sys.platform != "linux":
        return {}
    adapters = [
        f"{_read(str(path / 'vendor'))}:{_read(str(path / 'device'))}"
        for path in _paths("/sys/class/drm", "card?/device")
    ]
    return {
        "cores online": _read("/sys/devices/system/cpu/online"),
        "cores allowed": str(len(os.sched_getaffinity(0))),
        "adapters": ", ".join(adapters),
    }


def software_facts() -> dict[str, str | None]:
    """Software facts by name; None where this machine does not say."""
    if sys.platform != "linux":
        return {}
    drivers = [
        f"{path.resolve().name} {_read(str(path / 'module' / 'version')) or ''}".strip()
        for path in _paths("/sys/class/drm", "card?/device/driver")
    ]
    return {
        "C library": os.confstr("CS_GNU_LIBC_VERSION"),
        "microcode": _cpuinfo("microcode"),
        "frequency governor": governor(),
        "huge pages": _read("/sys/kernel/mm/transparent_hugepage/enabled"),
        "graphics drivers": ", ".join(drivers),
    }


def governor() -> str | None:
    """The frequency governor of the first core, None where there is none."""
    return _read("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor")


def look_at_run(leader: int) -> dict[int, ProcessSight]:
    """What the processes of a run show, by process id: those of its group, and what they started.

    A browser or an emulator is often started in a separate session, to be ended with all that
    it has started itself.
    """
    if sys.platform != "linux":
        return {}
    # The first one immediately: a short run is over before the others are found.
    found = {leader: _look_at(leader)}
    from ferocal.bench import launcher

    started = launcher.descendants(leader, launcher.processes())
    found |= {pid: _look_at(pid) for pid in {*_group(leader), *started} - {leader}}
    return {pid: sight for pid, sight in found.items() if sight is not None}


def _group(leader: int) -> Iterator[int]:
    if sys.platform != "linux":
        return
    for entry in os.listdir("/proc"):  # noqa: PTH208 - names are all that is needed
        if entry.isdecimal():
            with contextlib.suppress(OSError):  # ended meanwhile
                if os.getpgid(int(entry)) == leader:
                    yield int(entry)


def _look_at(pid: int) -> ProcessSight | None:
    process = Path(f"/proc/{pid}")
    try:
        program, root = (process / "exe").readlink(), (process / "root").readlink()
        with (process / "exe").open("rb") as file:
            header = file.read(20)
        maps = (process / "maps").read_text(errors="replace")
        descriptors = list((process / "fd").iterdir())
    except OSError:
        return None  # ended meanwhile, or of another user
    libraries = {
        line.split(maxsplit=5)[5] for line in maps.splitlines() if ".so" in line and "/" in line
    }
    files = set()
    for descriptor in descriptors:
        with contextlib.suppress(OSError):  # closed meanwhile
            files.add(str(descriptor.readlink()))
    return ProcessSight(
        program=str(program),
        architecture=_architecture(header),
        libraries=tuple(sorted(libraries)),
        files=tuple(sorted(files)),
        root=str(root),
    )


def _architecture(header: bytes) -> str:
    """The processor for which an ELF file was built, from its first 20 bytes."""
    if len(header) < 20 or header[:4] != b"\x7fELF":
        return "not an ELF file"
    order = "<" if header[5] == 1 else ">"
    code = struct.unpack_from(f"{order}H", header, 18)[0]
    return _MACHINES.get(code, f"ELF machine {code}")


def processor_times() -> tuple[float, float] | None:
    """How long (s) processors were busy so far, and how long the host withheld them."""
    if sys.platform != "linux":
        return None
    for line in (_read("/proc/stat") or "").splitlines():
        if line.startswith("cpu "):
            user, nice, system, _idle, _wait, irq, soft, stolen = map(int, line.split()[1:9])
            ticks = os.sysconf("SC_CLK_TCK")
            return (user + nice + system + irq + soft) / ticks, stolen / ticks
    return None


def process_times() -> list[tuple[int, str, float]]:
    """Number, name and processor time (s) of every process."""
    found: list[tuple[int, str, float]] = []
    if sys.platform != "linux":
        return found
    for entry in Path("/proc").iterdir():
        stat = _read(f"{entry}/stat") if entry.name.isdecimal() else None
        if stat is not None:
            name, _, rest = stat.rpartition(")")
            user, system = map(int, rest.split()[11:13])
            seconds = (user + system) / os.sysconf("SC_CLK_TCK")
            found.append((int(entry.name), name.partition("(")[2], seconds))
    return found


def available_memory() -> float | None:
    """Memory (MiB) that programs could have without swapping."""
    for line in (_read("/proc/meminfo") or "").splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) / 1024
    return None


def clock() -> float | None:
    """The mean frequency of the cores (MHz)."""
    paths = _paths("/sys/devices/system/cpu", "cpu[0-9]*/cpufreq/scaling_cur_freq")
    khz = [float(text) for path in paths if (text := _read(str(path)))]
    if khz:
        return sum(khz) / len(khz) / 1000
    lines = (_read("/proc/cpuinfo") or "").splitlines()
    mhz = [float(line.partition(":")[2]) for line in lines if line.startswith("cpu MHz")]
    return sum(mhz) / len(mhz) if mhz else None


def core_count() -> str | None:
    """How many cores there are, hyper-threads not counted."""
    cores = {
        _read(str(path)) for path in _paths("/sys/devices/system/cpu", "cpu[0-9]*/topology/*_list")
        if path.name in ("core_cpus_list", "thread_siblings_list")
    }  # fmt: skip
    return str(len(cores)) if cores else None


def release() -> str | None:
    """What the system calls itself, None where it does not say."""
    for line in (_read("/etc/os-release") or "").splitlines():
        if line.startswith("PRETTY_NAME="):
            return line.partition("=")[2].strip().strip("\"'")
    return None


def writers_of(path: str) -> list[str]:
    """Names of processes that have a file open for writing, as far as that can be seen."""
    if sys.platform != "linux":
        return []
    found = set()
    for entry in filter(str.isdecimal, os.listdir("/proc")):  # noqa: PTH208 - names are needed
        with contextlib.suppress(OSError):  # ended meanwhile, or of another user
            for descriptor in Path(f"/proc/{entry}/fd").iterdir():
                with contextlib.suppress(OSError, IndexError):  # closed meanwhile
                    if str(descriptor.readlink()) == path:
                        flags = _read(f"/proc/{entry}/fdinfo/{descriptor.name}") or ""
                        if int(flags.split()[3], 8) & os.O_ACCMODE:
                            found.add(_read(f"/proc/{entry}/comm") or "")
    return sorted(found)
