"""The form of the numbers of a file: which sign is the decimal one, proved from all of them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import field

from ferocal.errors import IntakeError
from ferocal.terms.frozen import dataclass

BLANKS = "\N{NO-BREAK SPACE}\N{NARROW NO-BREAK SPACE}\N{THIN SPACE} "
_APOSTROPHES = "'’"
# A number with the signs within it, of which blanks and apostrophes stand before three digits.
TOKEN = re.compile(
    rf"(?<!\w)(?<!\d[.,])\d+(?:[.,]\d+|[{BLANKS}{_APOSTROPHES}]\d{{3}}(?!\d))*(?:[eE][-+]?\d+)?"
)
_MINUS = str.maketrans("−", "-")


class NumberError(ValueError):
    """A text that is no number in the form of its file; says why, and what would be right."""


@dataclass(frozen=True)
class NumberForm:
    """How numbers are written: the decimal sign; None where each number says that by itself."""

    decimal: str | None = None

    def plain(self, text: str) -> str:
        """A text with its numbers as programs write them.

        Raises
        ------
        NumberError
            When one is none in this form, or may be two.
        """
        return TOKEN.sub(lambda match: self._plain(match[0]), text.translate(_MINUS))

    def shown(self, text: str) -> str:
        """The same; what is no number in this form stays as it is, and is refused when imported."""
        try:
            return self.plain(text)
        except NumberError:
            return text

    def _plain(self, token: str) -> str:
        decimal = self.decimal or _own_decimal(token)
        other = "," if decimal == "." else "."
        whole, sign, part = _bare(token).partition(decimal)
        if decimal in part or other in part or (other in whole and not _is_grouped(whole, other)):
            raise NumberError(f'"{token}" is not a number with "{decimal}" as its decimal sign')
        return whole.replace(other, "") + (f".{part}" if sign else "")

    def written(self, number: float) -> str:
        """A number that a program keeps, as the file would write it."""
        return f"{number!r}".replace(".", self.decimal or ".")


# Where nothing is known of other numbers.
ALONE = NumberForm()


def _own_decimal(token: str) -> str:
    """The decimal sign of a number that stands alone."""
    seen = _Evidence()
    seen.see(token)
    if "," in seen.either:
        raise NumberError(_either(token))
    return "," if _shows(seen, ",", ".") else "."


def _bare(token: str) -> str:
    return re.sub(rf"[{BLANKS}{_APOSTROPHES}]", "", token)


def _is_grouped(text: str, sign: str) -> bool:
    return re.fullmatch(rf"[1-9]\d{{0,2}}(?:{re.escape(sign)}\d{{3}})+", text) is not None


def _may_be_either(token: str) -> bool:
    """Whether the only sign of a number may be its decimal one, and may separate thousands."""
    return re.fullmatch(r"[1-9]\d{0,2}[.,]\d{3}", token) is not None


def _either(token: str) -> str:
    whole, part = re.split("[.,]", token)
    return f'"{token}" may be {whole}.{part} or {whole}{part}: write one of these'


@dataclass
class _Evidence:
    """A number that shows each thing, by sign: that it is decimal, that it groups, or neither."""

    decimal: dict[str, str] = field(default_factory=dict)
    groups: dict[str, str] = field(default_factory=dict)
    either: dict[str, list[str]] = field(default_factory=dict)
    small: bool = False

    def see(self, token: str) -> None:
        """Take in what a number shows."""
        shown = token
        blank = re.search(rf"[{BLANKS}{_APOSTROPHES}]", token) is not None
        token = re.sub("[eE].*", "", _bare(token))
        signs = re.findall("[.,]", token)
        if not signs:
            self.small |= len(token) <= 3
            return
        last = signs[-1]
        if len(set(signs)) == 2:
            self.decimal.setdefault(last, shown)
            self.groups.setdefault(signs[0], shown)
        elif len(signs) > 1:
            self.groups.setdefault(last, shown)
        elif blank or not _may_be_either(token):
            self.decimal.setdefault(last, shown)
        else:
            self.either.setdefault(last, []).append(shown)


@dataclass(frozen=True)
class FoundForm:
    """The form of a file, why it is that one, and what is doubtful of it ("" for nothing)."""

    form: NumberForm
    evidence: str = ""
    doubt: str = ""


def find_form(texts: Iterable[str], decimal: str | None, where: str) -> FoundForm:
    """The form of the numbers in texts; ``decimal`` is the sign that is stated, if any.

    Raises
    ------
    IntakeError
        When the numbers contradict each other, or what is stated.
    """
    seen = _Evidence()
    for text in texts:
        for match in TOKEN.finditer(text):
            seen.see(match[0])
    if not (seen.decimal or seen.groups or seen.either):
        return FoundForm(NumberForm(decimal or "."))
    points = _shows(seen, ".", ",")
    commas = _shows(seen, ",", ".")
    if points and commas:
        raise IntakeError(
            f'{where}: "{points}" has a decimal point and "{commas}" a decimal comma: write all '
            "numbers of the file in one way"
        )
    if decimal is not None:
        against = commas if decimal == "." else points
        if against:
            raise IntakeError(
                f'{where}: "{against}" contradicts --decimal '
                f"{'point' if decimal == '.' else 'comma'}"
            )
        return FoundForm(NumberForm(decimal), "stated")
    if points or commas:
        sign, shown = (".", points) if points else (",", commas)
        return FoundForm(NumberForm(sign), f'"{shown}"')
    return _guessed(seen)


def _shows(seen: _Evidence, decimal: str, other: str) -> str:
    """A number which shows that a sign is the decimal one, "" if none does."""
    return seen.decimal.get(decimal) or seen.groups.get(other) or ""


def _guessed(seen: _Evidence) -> FoundForm:
    """A form of numbers of which each may be read in two ways."""
    if "," in seen.either:
        shown = seen.either[","][0]
        # Such as 38,000 beside 314: one of a thousand would hardly have three decimals.
        form = NumberForm("." if "." not in seen.either else ",")
        return FoundForm(form, "", _either(shown))
    # Decimals that end in zero are written for all numbers or for none, and hardly all end so.
    points = seen.either["."]
    shown = next((text for text in points if text.endswith("0")), "")
    if shown and (seen.small or all(text.endswith("0") for text in points)):
        return FoundForm(NumberForm(","), "", _either(shown))
    return FoundForm(NumberForm("."), f'"{seen.either["."][0]}"')
