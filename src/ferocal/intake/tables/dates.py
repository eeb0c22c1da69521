"""Dates as people write them, of one form in a column."""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence

from ferocal.errors import IntakeError
from ferocal.intake.tables.grids import Cell
from ferocal.terms.frozen import dataclass

_DOTS = re.compile(r"(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4})(?:,?\s+(\d{1,2}:\d\d(?::\d\d)?))?")
_SLASHES = re.compile(r"(\d{1,2})/(\d{1,2})/(\d{4})(?:,?\s+(\d{1,2}:\d\d(?::\d\d)?))?")
_TWO_DIGITS = re.compile(r"\d{1,2}[./-]\d{1,2}[./-]\d\d(?:\s.*)?")
_WORDS = ("%d %B %Y", "%d %b %Y", "%B %d, %Y", "%b %d, %Y", "%d-%b-%Y")


@dataclass(frozen=True)
class FoundDates:
    """Dates as ISO 8601 has them, why they are read so, and what is doubtful ("" for nothing)."""

    texts: list[str]
    evidence: str = ""
    doubt: str = ""


def read_dates(cells: Sequence[Cell], order: str | None, where: str) -> FoundDates:
    """The dates of a column; ``order`` says whether the day or the month comes first.

    What is no date in a known form stays as it is.

    Raises
    ------
    IntakeError
        When a date is written with two digits for the year, or as a number of days.
    """
    texts = [str(cell).strip() for cell in cells]
    for cell, text in zip(cells, texts, strict=True):
        if isinstance(cell, (int, float)):
            raise IntakeError(
                f"{where}: {text} is a number and no date: format the column as dates, or write "
                "them like 2026-05-03"
            )
        if _TWO_DIGITS.fullmatch(text):
            raise IntakeError(f'{where}: "{text}" has two digits for the year: write all four')
    slashes = [match for text in texts if (match := _SLASHES.fullmatch(text))]
    first, evidence, doubt = order or "", "stated" if order else "", ""
    if slashes and not order:
        first, evidence, doubt = _order_of(slashes, where)
    return FoundDates([_as_iso(text, first) for text in texts], evidence, doubt)


def _order_of(dates: Sequence[re.Match[str]], where: str) -> tuple[str, str, str]:
    """What comes first in dates like 3/5/2026, why, and what is doubtful of it."""
    day = next((match[0] for match in dates if int(match[1]) > 12), "")
    month = next((match[0] for match in dates if int(match[2]) > 12), "")
    if day and month:
        raise IntakeError(
            f'{where}: "{day}" has the day first and "{month}" the month: write all of them like '
            "2026-05-03"
        )
    if day or month:
        return ("day", day, "") if day else ("month", month, "")
    shown = dates[0]
    if all(match[1] == match[2] for match in dates):
        return "day", f'"{shown[0]}"', ""
    year, a, b = shown[3], int(shown[1]), int(shown[2])
    return "day", "", f'"{shown[0]}" may be {year}-{b:02}-{a:02} or {year}-{a:02}-{b:02}'


def _as_iso(text: str, first: str) -> str:
    match = _DOTS.fullmatch(text) or _SLASHES.fullmatch(text)
    if match is None:
        return _in_words(text)
    a, b = int(match[1]), int(match[2])
    day, month = (b, a) if first == "month" and "/" in text else (a, b)
    try:
        date = datetime.date(int(match[3]), month, day).isoformat()
    except ValueError:
        return text
    clock = match[4]
    return date if not clock else f"{date}T{clock.zfill(5) if len(clock) < 6 else clock.zfill(8)}"


def _in_words(text: str) -> str:
    """A date with the English name of its month, such as "3 May 2026"."""
    for form in _WORDS:
        try:
            return datetime.datetime.strptime(text, form).date().isoformat()
        except ValueError:
            continue
    return text
