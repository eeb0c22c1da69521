"""Signs that a terminal can show: plain ones where it has no others, escapes for invisible ones."""

from __future__ import annotations

import codecs
import json
import re
import unicodedata
from collections.abc import Callable, Mapping

# What stands for a sign where the encoding of the output does not have it.
PLAIN = {
    "\N{MINUS SIGN}": "-",
    "\N{EN DASH}": "-",
    "\N{HORIZONTAL ELLIPSIS}": "...",
    "\N{RIGHTWARDS ARROW}": "->",
    "\N{PLUS-MINUS SIGN}": "+-",
    "\N{MULTIPLICATION SIGN}": "x",
    "\N{MIDDLE DOT}": ".",
    "\N{EMPTY SET}": "0/",
    "\N{RIGHTWARDS DASHED ARROW}": "..>",
    "\N{ALMOST EQUAL TO}": "~",
    "\N{BLACK DIAMOND}": "#",
    "\N{WHITE DIAMOND}": "<>",
    "\N{BLACK CIRCLE}": "*",
    "\N{WHITE CIRCLE}": "o",
    "\N{BOX DRAWINGS LIGHT HORIZONTAL}": "-",
    "\N{BOX DRAWINGS HEAVY HORIZONTAL}": "=",
    "\N{DEGREE SIGN}": "deg ",
    "\N{NARROW NO-BREAK SPACE}": " ",
    "\N{MICRO SIGN}": "u",
    "\N{GREEK SMALL LETTER MU}": "u",
}
_HANDLER = "ferocal.plain"
# Categories of characters that are invisible, or change what others look like.
_INVISIBLE = ("Cc", "Cf", "Cs", "Zl", "Zp")


def _plain(error: UnicodeError) -> tuple[str, int]:
    """Plain signs for those that cannot be written; an error handler of codecs."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    signs = error.object[error.start : error.end]
    return "".join(PLAIN.get(sign) or _escaped(sign) for sign in signs), error.end


def plain_errors() -> str:
    """The name of the error handler that writes plain signs, for streams."""
    codecs.register_error(_HANDLER, _plain)
    return _HANDLER


def visible(text: str) -> str:
    """A text as it may be shown: control characters and signs without width as escapes.

    What is private in a study (`hide`) is masked, and what was renamed has its new name.
    """
    text = masked(text)
    for pattern, name in _names.items():
        text = pattern.sub(name.replace("\\", r"\\"), text)
    if text.isascii() and text.isprintable():
        return text
    return "".join(_escaped(sign) if _is_invisible(sign) else sign for sign in text)


def _is_invisible(sign: str) -> bool:
    # Some numbers are no signs, and no XML can have them.
    none = ord(sign) & 0xFFFE == 0xFFFE
    return none or (unicodedata.category(sign) in _INVISIBLE and sign not in "\n\t")


# What is private in the studies that this command has read.
_masks: list[Callable[[str], str]] = []


def hide(mask: Callable[[str], str] | None) -> None:
    """Have what is private masked in all that is shown from now on; None forgets all of it."""
    if mask is None:
        _masks.clear()
    else:
        _masks.append(mask)


# What is called otherwise in all that is shown.
_names: dict[re.Pattern[str], str] = {}


def rename(names: Mapping[str, str]) -> None:
    """Have names replaced as whole words in all that is shown from now on; {} forgets them."""
    _names.clear()
    for old in sorted(names, key=len, reverse=True):
        _names[re.compile(rf"(?<!\w){re.escape(old)}(?!\w)")] = names[old]


def masked(text: str) -> str:
    """A text without what is private in the studies that this command has read."""
    for mask in _masks:
        text = mask(text)
    return text


def spelled(text: str) -> str:
    """JSON text in which such signs, which can only be in its strings, are spelled by number."""
    if text.isascii() and "\x7f" not in text:
        return text
    return "".join(
        sign
        if sign in "\n\t" or unicodedata.category(sign) not in _INVISIBLE
        else json.dumps(sign)[1:-1].replace("\x7f", "\\u007f")
        for sign in text
    )


def _escaped(sign: str) -> str:
    return (
        sign.encode("ascii", "backslashreplace").decode()
        if ord(sign) > 127
        else (f"\\x{ord(sign):02x}")
    )
