"""A file system that is full: every job on one that has a few kilobytes left, and more later."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from jobs import Course, call, copied

_PLENTY = 64 * 2**20


def disks(courses: list[Course], sizes: int, scratch: Path) -> int | None:
    """Every job on so many file systems of growing size; the faults, None without root."""
    if os.geteuid() != 0 or not sys.platform.startswith("linux"):
        print("without root no small file system was made")
        return None
    faults = tried = 0
    for course in courses:
        for number in range(sizes):
            with _file_system(scratch / "disk") as place:
                for text in _on_disk(course, place / "study", number * 64 * 2**10 // sizes):
                    faults += 1
                    print(f"  {course.job.name}, {number}: {text}", flush=True)
            tried += 1
    print(f"{tried} jobs on a full disk: {faults} faults (target 0)", flush=True)
    return faults


def _on_disk(course: Course, folder: Path, room: int) -> Iterator[str]:
    words = copied(course.job, course.good, folder)
    filler = folder.parent / "filler"
    _fill(filler, room)
    done = call(folder, words, folder)
    if "Traceback" in done.stderr or done.returncode == 70:
        yield f"exit {done.returncode}: {done.stderr[-300:]}"
    if wrong := course.wrong_with(folder):
        yield f"exit {done.returncode}: {wrong} {done.stderr[-300:]}"
    if done.returncode == 0 and (wrong := course.wrong_with(folder, ended=True)):
        yield f"said to be done, and is not: {wrong}"
    filler.unlink()
    yield from course.wrong_when_called_again(folder, words)


def _fill(filler: Path, room: int) -> None:
    """Fill a file system but for some room."""
    with filler.open("wb", buffering=0) as file:
        while shutil.disk_usage(filler.parent).free > room:
            file.write(bytes(4096))


@contextmanager
def _file_system(place: Path) -> Iterator[Path]:
    place.mkdir(exist_ok=True)
    subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={_PLENTY}", "tmpfs", str(place)], check=True
    )
    try:
        yield place
    finally:
        subprocess.run(["umount", str(place)], check=True)
