"""Readings as people type them: checked, and asked for again rather than guessed."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass

from ferocal.terms.units import UnitError, convert, is_time

_NUMBER = r"[-+−]?\d+(?:[.,]\d+)?"
_TYPED = re.compile(rf"\s*({_NUMBER})\s*(?:\.\.\s*({_NUMBER})\s*)?([^\d\s!.,][^\s!]*)?\s*(!?)\s*")
THOUSANDS = r"[-+−]?[1-9]\d{0,2},\d{3}"
_ODD_FACTOR = 5.0


class TypedError(ValueError):
    """What was typed is not understood, or hardly true; says what would be right."""


@dataclass(frozen=True)
class TypedReading:
    """A reading in the unit of its metric; a range has its ends, and its middle as value."""

    value: float
    low: float | None = None
    high: float | None = None


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
    """Understand a typed reading, such as "21,4", "21.4 s", "21400 ms" or "70..80".

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
        how = f"21.4, 21.4 {unit} or 70..80"
        raise TypedError(f'"{text.strip()}" is not a number; type it like {how}')
    ends = [parse_number(part) for part in match.group(1, 2) if part is not None]
    try:
        values = [convert(end, match[3] or unit, unit) for end in ends]
    except UnitError as error:
        raise TypedError(str(error)) from None
    if len(values) == 2 and values[0] >= values[1]:
        raise TypedError(f'the range "{text.strip()}" does not go from low to high')
    value = sum(values) / len(values)
    if is_time(unit) and value <= 0:
        raise TypedError(f"{value:g} {unit} is not a duration")
    if not match[4]:
        _check_likely(value, unit, plausible, fellows)
    return TypedReading(value, *values) if len(values) == 2 else TypedReading(value)


def _check_likely(
    value: float, unit: str, plausible: tuple[float, float] | None, fellows: float | None
) -> None:
    keep = "; type it with ! behind it to keep it"
    if plausible is not None and not plausible[0] <= value <= plausible[1]:
        raise TypedError(
            f"{value:g} {unit} is outside of {plausible[0]:g} to {plausible[1]:g} {unit}{keep}"
        )
    if fellows is None or fellows * value <= 0:
        return
    if abs(math.log(value / fellows)) > math.log(_ODD_FACTOR):
        raise TypedError(f"{value:g} {unit} where the others are near {fellows:.4g}{keep}")
