"""Quantities as people write them in a study file: shares and durations with a unit."""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import BeforeValidator, WithJsonSchema

from ferocal.terms.bounds import BEYOND, LARGEST, beyond
from ferocal.terms.units import TIME

_NUMBER_AND_UNIT = re.compile(r"\s*([-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)\s*(\S*)\s*")


def _split(value: Any, example: str) -> tuple[float, str]:
    if not isinstance(value, str):
        raise ValueError(f'needs a unit in quotes, like "{example}", not {value!r}')
    match = _NUMBER_AND_UNIT.fullmatch(value)
    if match is None:
        raise ValueError(f'"{value}" is not a number with a unit; write it like "{example}"')
    number = float(match[1])
    if beyond(number):
        raise ValueError(f"{value!r} {BEYOND}")
    return number, match[2]


def parse_share(value: Any) -> float:
    """Turn "2 %" into 0.02.

    Raises
    ------
    ValueError
        When the text is not a positive percentage below 100 %.
    """
    number, unit = _split(value, "2 %")
    if unit != "%":
        raise ValueError(
            f'must be a percentage such as "2 %"; "{value}" is not one (a margin in a unit belongs '
            "under the metric)"
        )
    if not 0 < number < 100:
        raise ValueError(f"must be above 0 % and below 100 %, not {value!r}")
    return number / 100


def parse_duration(value: Any) -> float:
    """Turn "5 min" into seconds.

    Raises
    ------
    ValueError
        When the text is not a positive number with a known unit of time.
    """
    number, unit = _split(value, "5 min")
    if not unit:
        raise ValueError(f'"{value}" has no unit; write it like "{value} s"')
    if unit not in TIME:
        raise ValueError(f'"{unit}" is not a unit of time; use {", ".join(TIME)}')
    if number <= 0:
        raise ValueError(f"must be more than 0 s, not {value!r}")
    return number * TIME[unit]


def parse_amount(value: Any) -> tuple[float, str]:
    """Turn "0.5 W" into 0.5 and "W".

    Raises
    ------
    ValueError
        When the text is not a positive number with a unit.
    """
    number, unit = _split(value, "2 %")
    if number <= 0 or not unit:
        raise ValueError(f"must be a positive number with a unit, not {value!r}")
    return number, unit


def parse_quantity(value: Any) -> tuple[float, str]:
    """Turn "0.40 EUR/h" into 0.4 and "EUR/h", and a plain number into that and "1".

    Raises
    ------
    ValueError
        When it is neither, or negative.
    """
    plain = isinstance(value, (int, float)) and not isinstance(value, bool)
    number, unit = (float(value), "1") if plain else _split(value, "0.40 EUR/h")
    if not 0 <= number <= LARGEST or beyond(number):
        raise ValueError(f"must not be negative, not {value!r}")
    return number, unit or "1"


Declared = Annotated[
    tuple[float, str],
    BeforeValidator(lambda value: value if isinstance(value, tuple) else parse_quantity(value)),
    WithJsonSchema({"type": ["number", "string"], "examples": [8, "180 W", "0.40 EUR/h"]}),
]
Amount = Annotated[
    tuple[float, str],
    BeforeValidator(lambda value: value if isinstance(value, tuple) else parse_amount(value)),
    WithJsonSchema({"type": "string", "examples": ["2 %", "0.5 W"]}),
]
Share = Annotated[
    float,
    BeforeValidator(parse_share),
    WithJsonSchema({"type": "string", "pattern": r"%\s*$", "examples": ["2 %"]}),
]
Seconds = Annotated[
    float,
    BeforeValidator(parse_duration),
    WithJsonSchema({"type": "string", "examples": ["30 s", "5 min"]}),
]
