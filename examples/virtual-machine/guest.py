"""A small Linux guest that runs one command and ends; no image is fetched.

    guest.py make              builds the program and the initial file system, and finds out
                               whether a guest comes up with the processor's own virtualisation
    guest.py run COMMAND...    runs a command of the initial file system in a guest
    guest.py acceleration      prints what `make` found out

The kernel is that of the distribution: one unpacked into build/kernel, or that of this machine.
"""

from __future__ import annotations

import json
import os
import platform
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
BUILD = HERE / "build"
INITIAL = BUILD / "initial.cpio.gz"
CHOICE = BUILD / "acceleration"
# A guest that is not up by then (s) will not be: it has been seen to hang in its boot.
BOOT_LIMIT = 20
RUN_LIMIT = 120
# What is printed between these lines on the console of the guest is the command's.
BEGIN, END = "=== begin ===", "=== end ==="
INIT = f"""#!/bin/sh
mount -t proc none /proc
mount -t devtmpfs none /dev
words=$(sed -n 's/.* words=\\([^ ]*\\).*/\\1/p' /proc/cmdline | tr , ' ')
echo
echo '{BEGIN}'
$words
echo "status=$?"
echo '{END}'
poweroff -f
"""
EMULATORS = {"x86_64": "qemu-system-x86_64", "aarch64": "qemu-system-aarch64"}
CONSOLES = {"x86_64": "ttyS0", "aarch64": "ttyAMA0"}
MACHINE = {"x86_64": "q35", "aarch64": "virt"}


def find_kernel() -> Path:
    """The newest kernel of the distribution that is here."""
    places = [BUILD / "kernel" / "boot", Path("/boot")]
    found = [path for place in places for path in sorted(place.glob("vmlinuz-*"))]
    readable = [path for path in found if os.access(path, os.R_OK)]
    if not readable:
        sys.exit("no kernel in build/kernel/boot or /boot: ./unpack-kernel.sh brings one")
    return readable[-1]


def make() -> None:
    """Build what is missing."""
    BUILD.mkdir(exist_ok=True)
    program, source = BUILD / "parts", HERE / "parts.c"
    if not program.exists() or program.stat().st_mtime < source.stat().st_mtime:
        words = ["cc", "-O2", "-static", "-pthread", "-o", str(program), str(source), "-lm"]
        subprocess.run(words, check=True)
        INITIAL.unlink(missing_ok=True)
    if not INITIAL.exists():
        make_initial(program)
    if not CHOICE.exists():
        CHOICE.write_text(choose_acceleration() + "\n")


def make_initial(program: Path) -> None:
    """An initial file system of the program, BusyBox, and what is done at the start."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        for name in ("bin", "proc", "dev", "build"):
            (root / name).mkdir()
        busybox = shutil.which("busybox") or sys.exit("BusyBox is missing (Debian: busybox-static)")
        shutil.copy(busybox, root / "bin" / "busybox")
        for name in ("sh", "mount", "sed", "tr", "poweroff"):
            (root / "bin" / name).symlink_to("busybox")
        shutil.copy(program, root / "build" / "parts")
        (root / "init").write_text(INIT)
        (root / "init").chmod(0o755)
        pack = f"find . | cpio --quiet -o -H newc | gzip -1 > {shlex.quote(str(INITIAL))}"
        subprocess.run(["sh", "-c", pack], cwd=root, check=True)


def choose_acceleration() -> str:
    """The word kvm where a guest comes up with it within the limit, else emulation."""
    if os.access("/dev/kvm", os.R_OK | os.W_OK):
        console, _ = run_guest("kvm", ["true"], BOOT_LIMIT)
        if END in console:
            return "kvm"
        print(f"/dev/kvm is there, but no guest came up with it within {BOOT_LIMIT} s")
    return "emulation"


def run_guest(acceleration: str, words: list[str], limit: float) -> tuple[str, bool]:
    """The console of a guest that ran a command, and whether it was seen to use /dev/kvm."""
    kind = platform.machine()
    append = f"console={CONSOLES[kind]} quiet panic=-1 words={','.join(words)}"
    command = [
        EMULATORS[kind], "-machine", MACHINE[kind], "-smp", "1", "-m", "256", "-nodefaults",
        "-nographic", "-no-reboot", "-serial", "stdio", "-kernel", str(find_kernel()),
        "-initrd", str(INITIAL), "-append", append,
    ]  # fmt: skip
    command += ["-accel", "kvm", "-cpu", "host"] if acceleration == "kvm" else ["-accel", "tcg"]
    with tempfile.TemporaryFile() as console:
        guest = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=console, stderr=console)
        deadline, seen = time.monotonic() + limit, False
        while guest.poll() is None and time.monotonic() < deadline:
            seen = seen or uses_kvm(guest.pid)
            time.sleep(0.02)
        guest.kill()
        guest.wait()
        console.seek(0)
        return console.read().decode(errors="replace"), seen


def uses_kvm(pid: int) -> bool:
    """Whether a process has a virtual processor of the kernel's open, seen from outside."""
    try:
        files = [str(entry.readlink()) for entry in Path(f"/proc/{pid}/fd").iterdir()]
    except OSError:
        return False  # ended meanwhile
    return any("kvm-vcpu" in name for name in files)


def run(words: list[str]) -> None:
    """Run a command in a guest, and print what it printed, with how the guest was run."""
    wanted = CHOICE.read_text().strip()
    console, seen = run_guest(wanted, words, RUN_LIMIT)
    _, begun, rest = console.partition(BEGIN)
    output, ended, _ = rest.partition(END)
    if not begun or not ended:
        sys.exit(f"the guest did not come to its end within {RUN_LIMIT} s: {console[-400:]}")
    *lines, status = output.strip().splitlines()
    if status.strip() != "status=0":
        sys.exit(f"in the guest: {' '.join(lines)} {status}")
    used = "kvm" if seen else "emulation"
    if used != wanted:
        sys.exit(f"the guest was to run with {wanted}, and was seen to run with {used}")
    print(json.dumps({**json.loads(lines[-1]), "acceleration": used}))


if __name__ == "__main__":
    task, *rest = sys.argv[1:]
    if task == "make":
        make()
    elif task == "acceleration":
        print(CHOICE.read_text().strip())
    else:
        run(rest)
