"""Small files beside or about a ledger, which are there whole or not at all."""

from __future__ import annotations

import os
import tempfile
from contextlib import suppress
from pathlib import Path


def replace_file(path: Path, text: str, *, durable: bool = False) -> None:
    """Write a text in the place of a file; where that fails, nothing is left of it.

    What is ``durable`` is there after a power cut too.

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
        partial.replace(path)
    finally:
        with suppress(FileNotFoundError):
            partial.unlink()
