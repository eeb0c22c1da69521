"""Bundles opened: every digest checked, before a study is made of them."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import stat
import zipfile
import zlib
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import IO, Any

from pydantic import BaseModel, ConfigDict, ValidationError

from ferocal.errors import FerocalError, LedgerError, UsageError
from ferocal.intake.signatures import Signature, check_signature
from ferocal.ledger import tables
from ferocal.ledger.opening import LEDGER_FILE
from ferocal.ledger.writing.bundled import create_from
from ferocal.study.load import STUDY_FILE, understand
from ferocal.terms.bundles import (
    COMMENT_LENGTH,
    FORMAT,
    KNOWN,
    LEDGER,
    MANIFEST,
    REPORT,
    SIGNATURE,
    STUDY,
    digest_in,
)
from ferocal.terms.files import scratch_directory

# A manifest is no longer than this, and all files together no larger than so many times the
# bundle, or than what any bundle may have.
_LONGEST_MANIFEST = 64 << 20
_MOST_TIMES, _ANY = 250, 256 << 20
_PIECE = 1 << 20


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)

    sha256: str
    size: int


class Manifest(BaseModel):
    """What a bundle says of itself: its files with their digests, and what was withheld."""

    model_config = ConfigDict(extra="forbid", strict=True)

    format: str
    made_with: str
    question: str
    ledger: str
    ledger_version: int
    withheld: list[str]
    files: dict[str, _File]


class BundleError(UsageError):
    """A file that is no whole bundle."""


class Bundle:
    """A bundle whose bytes and names were checked; made by `open_bundle`."""

    def __init__(self, path: Path, archive: zipfile.ZipFile, manifest: Manifest) -> None:
        self.path, self.manifest = path, manifest
        self._archive = archive

    def read(self, name: str) -> bytes:
        """A file of the bundle, whose digest must be that of the manifest."""
        known = self.manifest.files.get(name)
        if known is None:
            raise BundleError(f"{self.path}: {name} is missing")
        digest, content = hashlib.sha256(), bytearray()
        with self._archive.open(name) as file:
            for piece in _pieces(file, known.size):
                digest.update(piece)
                content += piece
        if len(content) != known.size or digest.hexdigest() != known.sha256:
            raise BundleError(f"{self.path}: {name} is not what the manifest says: it was changed")
        return bytes(content)

    def rows(self, table: str) -> Iterator[dict[str, Any]]:
        """The rows of a table of the ledger."""
        name = f"{LEDGER}{table}.jsonl"
        for number, line in enumerate(self.read(name).splitlines(), 1):
            try:
                row = json.loads(line)
                yield {key: self._value(value) for key, value in row.items()}
            except (ValueError, TypeError, AttributeError, RecursionError) as error:
                raise BundleError(f"{self.path}: {name}:{number}: {error}") from None

    def _value(self, value: Any) -> Any:
        if not isinstance(value, dict):
            return value
        if set(value) == {"base64"}:
            return base64.b64decode(value["base64"], validate=True)
        if set(value) == {"file"}:
            return self.read(str(value["file"]))
        raise ValueError("a value is a text, a number, base64 or a file")


@contextlib.contextmanager
def open_bundle(path: Path) -> Iterator[Bundle]:
    """A bundle to read: whole, unchanged, and with nothing in it that does not belong there.

    Raises
    ------
    BundleError
        When it is not; the message says what is wrong.
    """
    try:
        size = path.stat().st_size
        _check_whole(path, size)
        with zipfile.ZipFile(path) as archive:
            _check_names(path, archive, size)
            yield Bundle(path, archive, _manifest(path, archive))
    except OSError as error:
        raise BundleError(f"{path}: cannot be read: {error.strerror or error}") from None
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, EOFError) as error:
        raise BundleError(f"{path}: is no bundle, or is damaged: {error}") from None


def _check_whole(path: Path, size: int) -> None:
    """Check that all bytes are those of which the end of the file has the digest."""
    digest = hashlib.sha256()
    end = max(0, size - COMMENT_LENGTH)
    with path.open("rb") as file:
        for piece in _pieces(file, end):
            digest.update(piece)
        stated = digest_in(file.read())
    if stated is None:
        raise BundleError(f"{path}: is no bundle: `ferocal bundle` makes one")
    if stated != digest.hexdigest():
        raise BundleError(f"{path}: was changed or damaged since it was made")


def _check_names(path: Path, archive: zipfile.ZipFile, size: int) -> None:
    entries = archive.infolist()
    names = [entry.filename for entry in entries]
    for entry in entries:
        kind = stat.S_IFMT(entry.external_attr >> 16)
        if not KNOWN.fullmatch(entry.filename) or kind not in (0, stat.S_IFREG):
            raise BundleError(f"{path}: {entry.filename!r} does not belong in a bundle")
        if entry.flag_bits & 0x1:
            raise BundleError(f"{path}: {entry.filename} is encrypted")
    if len(set(names)) < len(names):
        raise BundleError(f"{path}: contains a name twice")
    if sum(entry.file_size for entry in entries) > max(_ANY, _MOST_TIMES * size):
        raise BundleError(f"{path}: unpacks to far more than a bundle of its size contains")


def _manifest(path: Path, archive: zipfile.ZipFile) -> Manifest:
    names = set(archive.namelist())
    if MANIFEST not in names:
        raise BundleError(f"{path}: has no manifest")
    with archive.open(MANIFEST) as file:
        text = b"".join(_pieces(file, _LONGEST_MANIFEST))
    try:
        manifest = Manifest.model_validate_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise BundleError(f"{path}: {MANIFEST}: {where}: {first['msg']}") from None
    if manifest.format != FORMAT:
        raise BundleError(f"{path}: is a {manifest.format}, this Ferocal reads {FORMAT}")
    listed = set(manifest.files)
    wrong = sorted(listed ^ (names - {MANIFEST, SIGNATURE}))
    if wrong:
        problem = "is missing" if wrong[0] in listed else "is not in the manifest"
        raise BundleError(f"{path}: {wrong[0]} {problem}")
    return manifest


def _pieces(file: IO[bytes], most: int) -> Iterator[bytes]:
    """The bytes of a file up to a limit, and one more where there are more."""
    left = most
    while left > 0 and (piece := file.read(min(_PIECE, left))):
        left -= len(piece)
        yield piece
    if left == 0 and isinstance(file, zipfile.ZipExtFile) and (more := file.read(1)):
        yield more


def signature_of(path: Path, signers: Path | None) -> Signature | None:
    """Who signed a bundle; None where it is not signed.

    Raises
    ------
    BundleError
        When the signature does not fit, or is missing where ``signers`` are given.
    """
    with zipfile.ZipFile(path) as archive:
        names = archive.namelist()
        if SIGNATURE not in names:
            if signers is not None:
                raise BundleError(f"{path}: is not signed")
            return None
        made = archive.read(SIGNATURE)
        return check_signature(archive.read(MANIFEST), made, signers)


def restore_bundle(bundle: Bundle, directory: Path) -> None:
    """Make a study of a bundle in a new directory: all of it, or nothing.

    Raises
    ------
    UsageError
        When the directory is not empty, or the bundle does not make a study.
    FerocalError
        When it cannot be written.
    """
    try:
        directory.parent.mkdir(parents=True, exist_ok=True)
        with scratch_directory(directory.parent, f".{directory.name}-") as scratch:
            if directory.exists() and (not directory.is_dir() or any(directory.iterdir())):
                raise UsageError(f"{directory} exists and is not empty: name a new directory")
            made = scratch / "study"
            made.mkdir()
            write_study(bundle, made)
            if REPORT in bundle.manifest.files:
                (made / REPORT).write_bytes(bundle.read(REPORT))
            for name in bundle.manifest.files:
                bundle.read(name)  # whatever is not used is checked all the same
            if directory.exists():
                directory.rmdir()
            made.rename(directory)
    except OSError as error:
        raise FerocalError(f"{directory}: cannot be written: {error.strerror}") from None


def write_study(bundle: Bundle, directory: Path) -> None:
    """The study file and the ledger of a bundle, in a directory that is there.

    Raises
    ------
    UsageError
        When they do not make a study.
    """
    version = bundle.manifest.ledger_version
    if version != tables.SCHEMA_VERSION:
        raise BundleError(
            f"{bundle.path}: its ledger has version {version}, this Ferocal makes "
            f"{tables.SCHEMA_VERSION}: open it with the Ferocal that made it "
            f"({bundle.manifest.made_with})"
        )
    try:
        text = bundle.read(STUDY)
        (directory / STUDY_FILE).write_bytes(text)
        understand(directory, text.decode())
    except UnicodeDecodeError:
        raise BundleError(f"{bundle.path}: {STUDY} is not UTF-8") from None
    rows: Mapping[str, Iterable[Mapping[str, Any]]] = {
        table.name: bundle.rows(table.name) for table in tables.TABLES
    }
    try:
        create_from(directory / LEDGER_FILE, rows)
    except LedgerError as error:
        raise BundleError(f"{bundle.path}: does not make a ledger: {error}") from None
