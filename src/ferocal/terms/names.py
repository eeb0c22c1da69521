"""Names: made of free texts, matched, and the closest ones for a hint."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Sequence


def plain_name(text: str) -> str:
    """A text as a name: "Halden 5 (bêta)" is Halden-5-beta; "" if nothing of it can be one."""
    ascii_only = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9._-]+", "-", ascii_only).lstrip("._-").rstrip("-")


def resolve(text: str, known: Iterable[str]) -> str:
    """The known name that a text stands for, itself or as a plain name; else the text."""
    names = list(known)
    if text in names or not plain_name(text):
        return text
    return next((name for name in names if plain_name(name) == plain_name(text)), text)


def closest(name: str, known: Sequence[str]) -> str:
    """A hint that names the closest known word, or all known ones."""
    from difflib import get_close_matches

    match = get_close_matches(name, known, n=1, cutoff=0.5)
    return f'did you mean "{match[0]}"?' if match else f"known: {', '.join(known)}"
