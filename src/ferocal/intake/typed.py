"""Readings as people type them: checked, and asked for again rather than guessed."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass

from ferocal.terms.bounds import BEYOND, beyond
from ferocal.terms.units import UnitError, convert, is_time
from ferocal.terms.wording import shortened

_NUMBER = r"[-+−]?\d+(?:[.,]\d+)?"
_TO = r"\s*(?:\.\.|…|–|-)\s*"
# A bound, a number, a range, or a settled number with the span seen around it.
_SHAPE = (
    rf"(?P<bound>[<>])?\s*(?P<first>{_NUMBER})"
    rf"(?:{_TO}(?P<last>\d+(?:[.,]\d+)?)|\s*\(\s*(?P<low>{_NUMBER}){_TO}(?P<high>{_NUMBER})\s*\))?"
)
_TYPED = re.compile(rf"\s*{_SHAPE}\s*(?P<unit>[^-\d\s!.,(][^\s!]*)?\s*(?P<keep>!?)\s*")
_CELL = re.compile(rf"\s*{_SHAPE}\s*(?P<keep>!?)\s*")
_MARK = re.compile(
    r"\s*(?P<mark>not active|inactive|absent|n/?a|none|[-–—])"
    r"(?:$|\s*[:(]\s*|\s+)(?P<reason>.*?)\)?\s*",
    re.IGNORECASE,
)
THOUSANDS = r"[-+−]?[1-9]\d{0,2},\d{3}"
_ODD_FACTOR = 5.0
HOW = "21.4, 70..80, 75 (70..80), >38000 or <20"


class TypedError(ValueError):
    """What was typed is not understood, or hardly true; says what would be right."""


@dataclass(frozen=True)
class TypedReading:
    """A reading in the unit of its metric.

    A range has its ends, and its middle as value, unless the display settled on one. With a
    ``bound`` ("<" or ">") the true value is below or above. It is ``kept``, however unlikely,
    where the operator has insisted on it.
    """

    value: float
    low: float | None = None
    high: float | None = None
    bound: str | None = None
    kept: bool = False


@dataclass(frozen=True)
class TypedMark:
    """No reading: whether it is "absent" or the level "not active", and why ("" if not said)."""

    mark: str
    reason: str


def parse_mark(text: str) -> TypedMark | None:
    """What stands for no reading ("n/a", "- no sound", "not active"); None for anything else."""
    match = _MARK.fullmatch(text)
    if match is None:
        return None
    active = match["mark"].lower() in ("not active", "inactive")
    return TypedMark("not active" if active else "absent", match["reason"].strip())


def parse_cell(text: str) -> TypedReading | None:
    """A range, a bound or a settled number of a file; None for anything else, numbers too.

    Raises
    ------
    TypedError
        When it is one of these and makes no sense.
    """
    match = _CELL.fullmatch(text)
    marks = ("bound", "last", "low", "keep")
    if match is None or not any(match[mark] for mark in marks):
        return None
    return _reading(match, text, "", "")


def parse_number(text: str) -> float:
    """A number with a decimal point or comma.

    Raises
    ------
    TypedError
        When a comma or point may just as well separate thousands.
    """
    if re.fullmatch(THOUSANDS, text):
        whole, part = text.split(",")
        raise TypedError(f'"{text}" may be {whole}.{part} or {whole}{part}: write one of these')
    return float(text.replace(",", ".").replace("−", "-"))


def comma_is_decimal(texts: Iterable[str]) -> bool:
    """Whether the comma in numbers of one file or column surely is their decimal sign.

    It is where none has a point and one has a comma that cannot separate thousands.
    """
    single = [text for text in map(str.strip, texts) if re.fullmatch(r"[-+−]?\d+[.,]\d+", text)]
    if any("." in text for text in single):
        return False
    return any(not re.fullmatch(THOUSANDS, text) for text in single)


def parse_typed(
    text: str,
    unit: str,
    *,
    plausible: tuple[float, float] | None = None,
    fellows: float | None = None,
) -> TypedReading:
    """Understand a typed reading: "21,4", "21400 ms", "70..80", "75 (70..80)", ">38000".

    Parameters
    ----------
    text
        What was typed. An exclamation mark at its end keeps an unlikely value.
    unit
        The unit of the metric, which is taken where none is typed.
    plausible
        Lowest and highest value that can be true.
    fellows
        What the other readings are near, if there are any.

    Raises
    ------
    TypedError
        When it is not understood, or cannot or is not likely to be true.
    """
    match = _TYPED.fullmatch(text)
    if match is None:
        raise TypedError(f'"{text.strip()}" is not a number; type it like {HOW}')
    reading = _reading(match, text, match["unit"] or unit, unit)
    if is_time(unit) and reading.value <= 0:
        raise TypedError(f"{reading.value:g} {unit} is not a duration")
    if not reading.kept:
        _check_likely(reading.value, unit, plausible, fellows)
    return reading


def _reading(match: re.Match[str], text: str, unit: str, wanted: str) -> TypedReading:
    """What a text of the shape of a reading says, in the wanted unit."""

    def number(name: str) -> float | None:
        if match[name] is None:
            return None
        value = parse_number(match[name])
        try:
            return convert(value, unit, wanted)
        except UnitError as error:
            raise TypedError(str(error)) from None

    first, last, low, high = (number(name) for name in ("first", "last", "low", "high"))
    assert first is not None
    if any(beyond(end) for end in (first, last, low, high) if end is not None):
        raise TypedError(f'"{shortened(text.strip(), 40)}" {BEYOND}')
    if last is not None:
        low, high = first, last
    if match["bound"] and low is not None:
        raise TypedError(f'"{text.strip()}" is both a bound and a range')
    if low is None or high is None:
        return TypedReading(first, bound=match["bound"], kept=bool(match["keep"]))
    if low >= high:
        raise TypedError(f'the range "{text.strip()}" does not go from low to high')
    value = (low + high) / 2 if last is not None else first
    if not low <= value <= high:
        raise TypedError(f'"{text.strip()}": the value is outside its own range')
    return TypedReading(value, low, high, kept=bool(match["keep"]))


def is_odd(value: float, fellows: float) -> bool:
    """Whether a reading is of another order of magnitude than what the others are near."""
    return fellows * value > 0 and abs(math.log(value / fellows)) > math.log(_ODD_FACTOR)


def _check_likely(
    value: float, unit: str, plausible: tuple[float, float] | None, fellows: float | None
) -> None:
    keep = "; append ! to keep it"
    if plausible is not None and not plausible[0] <= value <= plausible[1]:
        raise TypedError(
            f"{value:.3g} {unit} is outside the plausible range ({plausible[0]:g} to "
            f"{plausible[1]:g} {unit}){keep}"
        )
    if fellows is not None and is_odd(value, fellows):
        raise TypedError(f"{value:g} {unit}, but the others are near {fellows:.4g}{keep}")
