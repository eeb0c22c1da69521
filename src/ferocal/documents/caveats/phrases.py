"""What the words of a kind of caveat are, and the phrases that several kinds share."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import share_of
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import signed_significant

if TYPE_CHECKING:
    from ferocal.analysis.caveats.kinds import SizedShift

Values = Mapping[str, Any]


@dataclass(frozen=True)
class Words:
    """What a kind of caveat says.

    ``meaning`` says when it appears and ``advice`` what to do. ``seen`` makes a clause of the
    values of a caveat, in which "{}" stands for its amount; a text has names of values in braces.
    ``look`` is the command that looks closer, in which {workload}, {metric} and {configuration}
    stand for options that limit it.
    """

    meaning: str
    advice: str
    seen: Callable[[Values], str] | str
    look: str = "ferocal runs {workload} {metric} {configuration}"


def percentage(share: float) -> str:
    """A share as a signed percentage of two significant digits."""
    value = 100 * share
    # Of large ones all digits before the point.
    digits = 2 if abs(value) < 10 else math.floor(math.log10(abs(value))) + 1
    return f"{signed_significant(value, digits)} %"


def sized(size: SizedShift) -> str:
    """A difference on the scale of the analysis, such as "+3.4 %" or "−2 W"."""
    if size.scale == "ratio":
        return percentage(share_of(size.shift))
    return f"{signed_significant(size.shift)} {'points' if size.unit == '%' else size.unit}"


def unsigned(size: SizedShift) -> str:
    """The size of a difference that has no direction."""
    return sized(size).lstrip("+")


def joined(values: Sequence[str]) -> str:
    """All values of a fact that were seen."""
    return " and ".join(values)
