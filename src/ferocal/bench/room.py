"""Room on disks, without which runs cannot be trusted."""

from __future__ import annotations

import contextlib
import shutil
from pathlib import Path

from ferocal.errors import FerocalError

# With less than that free, an output may have been cut short.
_LEAST_FREE = 64 * 2**10


def check_room(*places: Path) -> None:
    """Report a full disk, which commands report only in their own ways.

    Raises
    ------
    FerocalError
        When there is next to nothing free where one of the places is.
    """
    for place in places:
        with contextlib.suppress(OSError):  # a place that is gone is reported by what misses it
            if shutil.disk_usage(place).free < _LEAST_FREE:
                raise FerocalError(
                    f"{place}: the disk is full, so runs there cannot be trusted; free some space, "
                    "then run the same command again"
                )
