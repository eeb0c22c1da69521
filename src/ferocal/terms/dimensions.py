"""Dimensions: what units are made of, so that arithmetic with quantities can be checked."""

from __future__ import annotations

import re
from collections import Counter

from ferocal.terms.frozen import dataclass
from ferocal.terms.units import UnitError, has_ratios, quantity_of

# The unit of a number without dimension (SI Brochure, 9th edition, 2.3.3).
ONE = "1"
# What the first unit of some quantities is made of; all others stand for themselves.
_MADE_OF = {
    "J": {"W": 1, "s": 1},
    "Hz": {"s": -1},
    "fps": {"frames": 1, "s": -1},
    "%": {},
    ONE: {},
}
_FACTORS = {"%": 0.01}


@dataclass(frozen=True)
class Dimension:
    """Powers of base units by name, sorted; ``factor`` is the size of the unit in terms of these.

    Words that the table of units does not have, such as "points", are separate bases.
    """

    powers: tuple[tuple[str, int], ...]
    factor: float = 1.0

    def times(self, other: Dimension, sign: int = 1) -> Dimension:
        """The product with another dimension, or the quotient with ``sign`` −1."""
        total = Counter(dict(self.powers))
        for base, power in other.powers:
            total[base] += sign * power
        powers = tuple(sorted((base, power) for base, power in total.items() if power))
        return Dimension(powers, self.factor * other.factor**sign)

    def agrees(self, other: Dimension) -> bool:
        """Whether both measure the same, in whatever units."""
        return self.powers == other.powers


def dimension_of(unit: str) -> Dimension:
    """What a unit is made of, such as "MB/s", "W·s" or "queries/s".

    Raises
    ------
    UnitError
        When a part of it is empty, as in "MB/".
    """
    if quantity_of(unit) is not None or unit in _MADE_OF:
        return _simple(unit)
    found = Dimension(())
    sign = 1
    for part in re.split(r"([/·*×])", unit):
        if part in ("/", "·", "*", "×"):
            sign = -1 if part == "/" else 1
            continue
        if not part.strip():
            raise UnitError(f'"{unit}" is not a unit: a part of it is missing')
        found = found.times(_simple(part.strip()), sign)
    return found


def _simple(unit: str) -> Dimension:
    quantity = quantity_of(unit)
    base = unit if quantity is None else next(iter(quantity.units))
    factor = 1.0 if quantity is None else quantity.units[unit]
    powers = _MADE_OF.get(base, {base: 1})
    return Dimension(tuple(sorted(powers.items())), factor * _FACTORS.get(base, 1.0))


def may_be_multiplied(unit: str) -> bool:
    """Whether products and quotients with a unit mean anything: not with degrees Celsius."""
    return has_ratios(unit)


def unit_words(over: list[str], under: list[str]) -> str:
    """A unit in words, from the units that are multiplied and those that are divided by."""
    upper, lower = Counter(over), Counter(under)
    common = upper & lower
    upper, lower = upper - common, lower - common
    above = "·".join(unit for unit in upper.elements() if unit != ONE)
    below = "/".join(unit for unit in lower.elements() if unit != ONE)
    return (above or ONE) + (f"/{below}" if below else "")
