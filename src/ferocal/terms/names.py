"""Names: made of free texts, matched, and the closest ones for a hint."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping, Sequence


def plain_name(text: str) -> str:
    """A text as a name: "Halden 5 (Größe)" is Halden-5-Größe; "" if nothing of it can be one."""
    return _joined(unicodedata.normalize("NFC", text))


def _ascii_name(text: str) -> str:
    """The name that a text has without accents, by which older study files call it."""
    return _joined(unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode())


def _joined(text: str) -> str:
    return re.sub(r"[^\w.-]+", "-", text).lstrip("._-").rstrip("-")


def _small_name(text: str) -> str:
    """The name that a text has where capitals do not matter."""
    return plain_name(text).casefold()


def resolve(text: str, known: Iterable[str]) -> str:
    """The known name that a text stands for, itself or as a plain name; else the text.

    Capitals matter only where names differ in nothing else.
    """
    names = list(known)
    if text in names or not plain_name(text):
        return text
    for form in (plain_name, _ascii_name, _small_name):
        wanted = form(text)
        found = [name for name in names if wanted and form(name) == wanted]
        if len(found) == 1:
            return found[0]
    return text


def called(text: str, titles: Mapping[str, Iterable[str]]) -> str:
    """The name that a text stands for, itself or by one of its titles; else the text."""
    name = resolve(text, titles)
    if name in titles:
        return name
    found = [
        known
        for known, own in titles.items()
        if any(title and resolve(text, [title]) == title for title in own)
    ]
    return found[0] if len(found) == 1 else text


def closest(name: str, known: Sequence[str]) -> str:
    """A hint that names the closest known word, or all known ones."""
    from difflib import get_close_matches

    match = get_close_matches(name, known, n=1, cutoff=0.5)
    return f'did you mean "{match[0]}"?' if match else f"known: {', '.join(dict.fromkeys(known))}"
