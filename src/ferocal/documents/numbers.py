"""Numbers as people read them, with as many digits as their uncertainty supports."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal, Protocol

from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import MINUS, as_read, grouped, significant

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Scale, Series
    from ferocal.analysis.inference.verdicts import Verdict


TIMES = "\N{MULTIPLICATION SIGN}"
# Beyond such a factor a percentage is hard to picture.
LARGE_FACTOR = 3.0
# Up to such a factor between its middle and an end an interval is about even, and "±" says it.
_EVEN = 1.25
# Beyond such a one its ends are no more than a word in a table.
_WIDE = 10.0
# So many more digits are tried for the end of an interval before it is called zero.
_MORE_DIGITS = 4


class Change(Protocol):
    """A change with its interval, of whatever contrast it is."""

    @property
    def series(self) -> Series:
        """The metric."""

    @property
    def scale(self) -> Scale:
        """Whether it is a share or a difference."""

    @property
    def change(self) -> float:
        """The change, a share or in the unit."""

    @property
    def low(self) -> float:
        """The lower end of its interval."""

    @property
    def high(self) -> float:
        """The upper end of its interval."""

    @property
    def bound(self) -> str | None:
        """Of which kind it is, ">" or "<", where nothing but a bound is known."""

    @property
    def read(self) -> tuple[float, float] | None:
        """Between what it is by the ranges that were read, where no interval is known."""

    @property
    def verdict(self) -> Verdict:
        """What can be said of it."""


@dataclass(frozen=True)
class PlainChange:
    """A change of a series, from an estimate that does not name one."""

    series: Series
    scale: Scale
    change: float
    low: float
    high: float
    verdict: Verdict
    bound: str | None = None
    read: tuple[float, float] | None = None


# Numbers from here on are written with an exponent.
_LONG = 1e12
# A change near -100 % is not known more closely than this.
_LEAST_FACTOR = 1e-15


def decimals_for(uncertainty: float) -> int:
    """Decimal places that show an uncertainty with one or two significant digits.

    Two when the first digit is 1 or 2, where a single one would round by too much.
    """
    if not math.isfinite(uncertainty) or uncertainty <= 0:
        return 1
    exponent = math.floor(math.log10(uncertainty))
    leading = uncertainty / 10**exponent
    return max(0, -exponent + (1 if leading < 3 else 0))


def signed(value: float, decimals: int) -> str:
    """A number with its sign; zero has none."""
    rounded = round(value, decimals)
    # Nobody counts the digits of a longer one.
    text = grouped(abs(rounded), decimals) if abs(rounded) < _LONG else f"{abs(rounded):.2e}"
    if rounded == 0:
        return text
    return f"{'+' if rounded > 0 else MINUS}{text}"


def _change_scale(effect: Change) -> tuple[float, str]:
    if effect.scale == "ratio":
        return 100.0, "%"
    unit = effect.series.unit
    return 1.0, "points" if unit == "%" else unit


def change_decimals(effect: Change) -> int:
    """Decimal places for a change and its interval."""
    factor, _ = _change_scale(effect)
    half_width = (effect.high - effect.low) / 2
    if not math.isfinite(half_width) and math.isfinite(effect.change):
        # Without an interval two digits say all that a change seen once can.
        size = abs(factor * effect.change)
        return max(0, 1 - math.floor(math.log10(size))) if 1e-4 < size < 1e9 else 1
    return min(decimals_for(factor * half_width), 2 if effect.scale == "ratio" else 6)


def factor_text(effect: Change) -> str | None:
    """A large change as a factor, such as "× 4.2"; None for others."""
    factor = 1 + effect.change
    plain = effect.bound is None and effect.read is None
    if effect.scale != "ratio" or not plain or not math.isfinite(factor):
        return None
    if 1 / LARGE_FACTOR < factor < LARGE_FACTOR:
        return None
    if factor < _LEAST_FACTOR:
        return f"{TIMES} <{_LEAST_FACTOR:g}"
    if not 1 / _LONG < factor < _LONG:
        return f"{TIMES} {factor:.1e}"
    return f"{TIMES} {factor:.{factor_decimals(effect)}f}"


def factor_decimals(effect: Change) -> int:
    """Decimal places for a change that is written as a factor."""
    half_width = (effect.high - effect.low) / 2
    if not math.isfinite(half_width):
        return max(0, 1 - math.floor(math.log10(max(1 + effect.change, _LEAST_FACTOR))))
    return min(decimals_for(half_width), 6)


def change_words(effect: Change) -> str:
    """The change for a sentence; a large one also as a factor."""
    factor = factor_text(effect)
    return change_text(effect) if factor is None else f"{change_text(effect)} ({factor})"


def change_text(effect: Change) -> str:
    """The change with its unit, such as "+3.4 %", or ">+3.4 %" where it is a bound."""
    if math.isnan(effect.change):
        return "–"
    factor, unit = _change_scale(effect)
    if effect.read is not None:
        return f"{_span_text(effect.read, factor)} {unit}"
    places = change_decimals(effect)
    if effect.bound is None:
        return f"{signed(factor * effect.change, places)} {unit}"
    # Rounded to the side on which it stays true.
    towards = math.floor if effect.bound == ">" else math.ceil
    tenths = round(factor * effect.change * 10 ** (places + 1), 6)
    edge = towards(tenths) / 10 ** (places + 1) if math.isfinite(tenths) else tenths
    return f"{effect.bound}{signed(edge, places + 1)} {unit}"


def _span_text(ends: tuple[float, float], factor: float) -> str:
    """Two ends of a change with two digits, such as "+2.9..+9.7"."""
    size = max(abs(factor * end) for end in ends)
    places = max(0, 1 - math.floor(math.log10(size))) if 1e-4 < size < 1e9 else 1
    return "..".join(dict.fromkeys(signed(factor * end, places) for end in ends))


def interval_text(effect: Change) -> str:
    """The interval, such as "+2.1 … +4.7 %", or a dash where it is unknown."""
    if math.isnan(effect.low) or effect.verdict == "seen once":
        return "–"
    factor, unit = _change_scale(effect)
    if effect.bound is not None:
        return change_text(effect).replace(">", "above ").replace("<", "below ")
    places = change_decimals(effect)
    low, high = (_end_text(factor * end, places) for end in (effect.low, effect.high))
    return f"{low} … {high} {unit}"


def _end_text(end: float, places: int) -> str:
    """An end of an interval; one that is near zero shows on which side of it."""
    if math.isinf(end):
        return "+∞" if end > 0 else f"{MINUS}∞"
    digits = range(places, places + _MORE_DIGITS)
    return next((signed(end, n) for n in digits if round(end, n)), signed(end, places))


def interval_shape(low: float, high: float) -> Literal["even", "uneven", "wide"]:
    """How an interval of amounts that are compared by ratios can be told beside its middle."""
    reach = math.sqrt(high / low) if low > 0 else math.inf
    if reach <= _EVEN:
        return "even"
    return "uneven" if reach <= _WIDE else "wide"


def change_with_half(effect: Change) -> str:
    """The change and half of the width of its interval, as one text."""
    return " ".join(filter(None, change_and_half(effect)))


def change_and_half(effect: Change) -> tuple[str, str]:
    """The change and half of the width of its interval, as two pieces with one unit.

    The two ends of an interval that is far from symmetric; of one that says next to nothing
    the second piece is "wide".
    """
    number, _, unit = (factor_text(effect) or change_text(effect)).rpartition(" ")
    is_factor = number == TIMES
    if is_factor:
        number, unit = f"{number} {unit}", ""
    if not number:
        return unit, ""
    if effect.bound is not None or effect.verdict == "seen once" or math.isnan(effect.low):
        return number, unit
    if effect.scale == "ratio":
        shape = interval_shape(1 + effect.low, 1 + effect.high)
        if shape == "wide":
            return f"{number} {unit}".rstrip(), "wide"
        if shape == "uneven":
            return _two_ends(effect)
    factor, _ = _change_scale(effect)
    places = factor_decimals(effect) if is_factor else change_decimals(effect)
    half = grouped((1 if is_factor else factor) * (effect.high - effect.low) / 2, places)
    return number, f"±{half} {unit}".rstrip()


def _two_ends(effect: Change) -> tuple[str, str]:
    """The ends of an interval in two pieces; as factors where one of them is large."""
    if max(1 + effect.high, 1 / (1 + effect.low)) >= LARGE_FACTOR:
        low, high = (significant(1 + end, 2) for end in (effect.low, effect.high))
        return f"{TIMES} {low}", f"… {high}"
    low, _, high = interval_text(effect).partition(" … ")
    return low, f"… {high}"


def interval_name(confidence: float) -> str:
    """What an interval of this level is called, such as "95 % interval"."""
    return f"{100 * confidence:.4g} % interval"


def reading_text(
    value: float,
    ends: tuple[float, float] | None = None,
    bound: str = "",
    digits: int = 12,
    *,
    statistic: str = "",
    samples: int | None = None,
) -> str:
    """A reading as it was made: a number, a range "70..80", "75 (70..80)", or a bound ">38000".

    ``statistic`` and ``samples`` are those of the ledger: "330..340 of 5", "usually 7, best 9".
    """

    def number(amount: float) -> str:
        return f"{amount:.12g}" if digits >= 12 else as_read(amount, digits)

    if bound:
        return f"{bound}{number(value)}"
    if ends is None:
        return number(value)
    span = f"{number(ends[0])}..{number(ends[1])}"
    of = "" if samples is None else f" of {samples}"
    if statistic == "usual":
        best = ends[1] if math.isclose(value, ends[0], rel_tol=1e-9) else ends[0]
        return f"usually {number(value)}, best {number(best)}{of}"
    if statistic == "range":
        return f"{span}{of}"
    middle = math.isclose(value, (ends[0] + ends[1]) / 2, rel_tol=1e-9, abs_tol=1e-12)
    return span if middle and statistic != "settled" else f"{number(value)} ({span})"


def percent(share: float) -> str:
    """A share as per cent with two significant digits."""
    return "–" if math.isnan(share) else f"{significant(100 * share, 2)} %"


def p_text(value: float) -> str:
    """A p-value with two digits; a dash where there is none."""
    if math.isnan(value):
        return "–"
    return "<0.0001" if value < 0.0001 else f"{value:.2g}"


def margin_text(margin: float) -> str:
    """A margin as it is written in sentences, such as "±2 %"."""
    return f"±{100 * margin:.10g} %"


def series_margin(series: Series) -> str:
    """The margin of a series, as a share or in its unit."""
    if series.unit_margin is None:
        return margin_text(series.margin)
    return f"±{series.unit_margin:g} {series.unit}"


def duration(seconds: float) -> str:
    """A duration in two parts at most, such as "4 min 10 s"."""
    whole = round(seconds)
    if whole < 60:
        return f"{seconds:.2g} s" if seconds < 10 else f"{whole} s"
    parts = ((whole // 3600, "h"), (whole % 3600 // 60, "min"), (whole % 60, "s"))
    first = 0 if whole >= 3600 else 1
    return " ".join(f"{grouped(n)} {unit}" for n, unit in parts[first : first + 2] if n)
