"""The names of what is in a bundle."""

from __future__ import annotations

import re
from collections.abc import Callable

FORMAT = "ferocal bundle 1"
MANIFEST, SIGNATURE = "manifest.json", "manifest.json.sig"
STUDY, REPORT, READINGS, EFFECTS, README = (
    "study.toml", "report.html", "readings.csv", "effects.csv", "README.txt",
)  # fmt: skip
LEDGER, TRACES, CHARTS = "ledger/", "traces/", "charts/"
# What a bundle may contain; nothing else is looked at.
KNOWN = re.compile(
    r"(study\.toml|report\.html|readings\.csv|effects\.csv|README\.txt|manifest\.json(\.sig)?"
    r"|ledger/[a-z_]{1,40}\.jsonl|traces/[0-9a-f]{1,40}\.parquet|charts/[\w.+-]{1,150}\.svg)"
)
# Makes the signature of a manifest.
Signer = Callable[[bytes], bytes]
_COMMENT = re.compile(rb"ferocal bundle, sha256 of all bytes before: ([0-9a-f]{64})")


def comment_of(digest: str) -> bytes:
    """The comment at the end of a bundle."""
    return f"ferocal bundle, sha256 of all bytes before: {digest}".encode()


def digest_in(comment: bytes) -> str | None:
    """The digest that a comment states; None where it is no such comment."""
    found = _COMMENT.fullmatch(comment)
    return None if found is None else found[1].decode()


COMMENT_LENGTH = len(comment_of("0" * 64))
