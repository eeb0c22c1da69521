"""Small files, which are there whole or not at all."""

from __future__ import annotations

import os
import tempfile
from contextlib import suppress
from pathlib import Path


def replace_file(path: Path, text: str, *, durable: bool = False, mode: int | None = None) -> None:
    """Write a text in the place of a file; where that fails, nothing is left of it.

    What is ``durable`` is there after a power cut too. Without a ``mode`` it is its owner's alone.

    Raises
    ------
    OSError
        When it cannot be written.
    """
    handle, name = tempfile.mkstemp(prefix=f".{path.name}-", dir=path.parent)
    partial = Path(name)
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            if durable:
                os.fsync(file.fileno())
        if mode is not None:
            partial.chmod(mode)
        partial.replace(path)
    finally:
        with suppress(FileNotFoundError):
            partial.unlink()
