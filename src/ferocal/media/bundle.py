"""Bundles: a study with its readings and report in one ZIP file, every byte under a digest."""

from __future__ import annotations

import base64
import hashlib
import io
import json
import zipfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import IO, Any, Self

from ferocal.terms.bundles import (
    COMMENT_LENGTH,
    FORMAT,
    LEDGER,
    MANIFEST,
    SIGNATURE,
    TRACES,
    Signer,
    comment_of,
)

# The earliest time that a ZIP file can state; with it the same content gives the same bytes.
_NO_TIME = (1980, 1, 1, 0, 0, 0)


class BundleWriter:
    """Files of a bundle, written one after the other; the manifest has their digests."""

    def __init__(self, file: IO[bytes]) -> None:
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED)
        self.files: dict[str, dict[str, Any]] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._zip.close()

    def add(self, name: str, content: bytes) -> None:
        """A file of the bundle."""
        self._zip.writestr(_info(name), content)
        digest = hashlib.sha256(content).hexdigest()
        self.files[name] = {"sha256": digest, "size": len(content)}

    def add_rows(self, table: str, rows: Iterable[Mapping[str, Any]]) -> None:
        """The rows of a table of the ledger as JSON lines; traces are files beside them."""
        lines = io.BytesIO()
        for row in rows:
            plain = {name: self._plain(table, row, name) for name in row}
            lines.write(json.dumps(plain, ensure_ascii=False).encode() + b"\n")
        self.add(f"{LEDGER}{table}.jsonl", lines.getvalue())

    def _plain(self, table: str, row: Mapping[str, Any], name: str) -> Any:
        value = row[name]
        if not isinstance(value, bytes):
            return value
        if (table, name) == ("trace", "content"):
            place = f"{TRACES}{row['uid']}.parquet"
            self.add(place, value)
            return {"file": place}
        return {"base64": base64.b64encode(value).decode()}

    def finish(self, about: Mapping[str, Any], sign: Signer | None = None) -> None:
        """Write the manifest, signed where that is wanted."""
        manifest = {"format": FORMAT, **about, "files": dict(sorted(self.files.items()))}
        text = (json.dumps(manifest, indent=1, ensure_ascii=False) + "\n").encode()
        self._zip.writestr(_info(MANIFEST), text)
        if sign is not None:
            self._zip.writestr(_info(SIGNATURE), sign(text))
        self._zip.comment = b" " * COMMENT_LENGTH


def seal(path: Path) -> None:
    """Write the digest of all other bytes into the comment at the end of a bundle."""
    digest = hashlib.sha256()
    with path.open("r+b") as file:
        end = file.seek(0, 2) - COMMENT_LENGTH
        file.seek(0)
        while file.tell() < end:
            digest.update(file.read(min(1 << 20, end - file.tell())))
        file.seek(end)
        file.write(comment_of(digest.hexdigest()))


def _info(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _NO_TIME)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info
