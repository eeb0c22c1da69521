"""Readings as people type them: checked, and asked for again rather than guessed."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import replace

from ferocal.intake.forms import ALONE, NumberError, NumberForm
from ferocal.study.metrics import RANGE, SETTLED, USUAL
from ferocal.terms.bounds import BEYOND, BEYOND_SAMPLES, MOST_SAMPLES, beyond
from ferocal.terms.frozen import dataclass
from ferocal.terms.units import TIME, UnitError, convert, is_time
from ferocal.terms.wording import shortened

_NUMBER = r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?"
_TO = r"\s*(?:\.\.|…|–|-)\s*"
_UNIT = r"(?P<unit>%|[^-\d\s!.,;:()*~<>\[\]][^\s!()*,;\[\]]*)"
_OF = r"(?:\s+of\s+(?P<of>\d+))"
# A bound, a number, a range, or a settled number with the span seen around it.
_READING = re.compile(
    rf"(?P<statistic>mean|average|median|best)?\s*(?P<bound>[<>])?\s*(?P<first>{_NUMBER})"
    rf"(?:{_TO}(?P<last>\d+(?:\.\d+)?))?\s*{_UNIT}?"
    rf"(?:\s*\(\s*(?P<low>{_NUMBER}){_TO}(?P<high>{_NUMBER})\s*\))?{_OF}?"
)
# Of repeats, what came mostly and what came once.
_USUAL = re.compile(
    rf"(?:usually|typically)\s+(?P<first>{_NUMBER})\s*{_UNIT}?\s*,\s*best\s+(?P<best>{_NUMBER})"
    rf"(?:\s*(?P=unit))?{_OF}?"
)
_CLOCK = re.compile(r"(?:(?P<h>\d+):)?(?P<min>\d{1,2}):(?P<s>\d\d(?:\.\d+)?)")
_PARTS = re.compile(
    r"(?=\d)(?:(?P<h>\d+)\s*(?:h|hr|hours?)\s*)?(?:(?P<min>\d+)\s*(?:min|m|minutes?)\s*)?"
    r"(?:(?P<s>\d+(?:\.\d+)?)\s*(?:s|sec|seconds?))?"
)
# What stands around a number and is none of it: about so much, a mark of a footnote, a remark.
_ABOUT = re.compile(r"(?:[~≈]|(?:ca\.?|approx\.?|about)\s)\s*", re.IGNORECASE)
FOOTNOTE = r"(?:[*†‡§]+|[¹²³⁴-⁹]+|\[\w{1,2}\])"
_FOOTNOTE = re.compile(rf"\s*(?P<sign>{FOOTNOTE})$")
_PLUS_MINUS = re.compile(r"\s*\(?\s*(?P<text>(?:±|\+/-)\s*\d[\d.,]*\s*%?)\s*\)?$")
_REMARK = re.compile(r"\s*\((?P<text>[^()]*[^\W\d_][^()]*)\)$")
_MARK = re.compile(
    r"\s*(?P<mark>not active|inactive|absent|n/?a|none|[-–—])"
    r"(?:$|\s*[:(]\s*|\s+)(?P<reason>.*?)\)?\s*",
    re.IGNORECASE,
)
_ODD_FACTOR = 5.0
HOW = "21.4, 70..80, 75 (70..80), >38000, 330..340 of 5 or 3:25"


class TypedError(ValueError):
    """What was typed is not understood, or hardly true; says what would be right."""


@dataclass(frozen=True)
class TypedReading:
    """A reading in the unit of its metric.

    A range has its ends, and its middle as value, unless the display settled on one. With a
    ``bound`` ("<" or ">") the true value is below or above. It is ``kept``, however unlikely,
    where the operator has insisted on it. ``statistic`` and ``samples`` are what it is of how many
    repeats, as far as said; of a display that settled it is `SETTLED`, of the ends of repeats
    `RANGE`, and `USUAL` of what came mostly, beside the best. ``note`` is what was remarked, and
    ``sign`` that of a footnote.
    """

    value: float
    low: float | None = None
    high: float | None = None
    bound: str | None = None
    kept: bool = False
    statistic: str = ""
    samples: int | None = None
    note: str = ""
    sign: str = ""

    @property
    def remark(self) -> str:
        """What is to be kept as a note, with the sign of a footnote that stands alone."""
        return self.note or (f"marked {self.sign}" if self.sign else "")


@dataclass(frozen=True)
class TypedMark:
    """No reading: whether it is "absent" or the level "not active", and why ("" if not said)."""

    mark: str
    reason: str


def parse_mark(text: str) -> TypedMark | None:
    """What stands for no reading ("n/a", "- no sound", "not active"); None for anything else.

    Raises
    ------
    TypedError
        When it may just as well be a negative number.
    """
    match = _MARK.fullmatch(text)
    if match is None:
        return None
    reason = match["reason"].strip()
    if reason[:1].isdigit() and not match["mark"].isalpha():
        raise TypedError(f'"{text.strip()}" may be -{reason}, or no value: write -{reason} or n/a')
    active = match["mark"].lower() in ("not active", "inactive")
    return TypedMark("not active" if active else "absent", reason)


def comma_is_decimal(texts: Iterable[str]) -> bool:
    """Whether the comma in numbers of one file or column surely is their decimal sign.

    It is where none has a point and one has a comma that cannot separate thousands.
    """
    single = [text for text in map(str.strip, texts) if re.fullmatch(r"[-+−]?\d+[.,]\d+", text)]
    if any("." in text for text in single):
        return False
    return any(not re.fullmatch(r"[-+−]?[1-9]\d{0,2},\d{3}", text) for text in single)


def duration_of(text: str) -> float | None:
    """The seconds of "3:25", "1:02:03" or "2 min 5 s", None for anything else."""
    match = _CLOCK.fullmatch(text) or _PARTS.fullmatch(text)
    if match is None or not text:
        return None
    parts = {name: float(part) for name, part in match.groupdict().items() if part}
    minutes_beyond = parts.get("min", 0.0) >= 60 and "h" in parts
    if minutes_beyond or (parts.get("s", 0.0) >= 60 and len(parts) > 1):
        return None
    return sum(parts[name] * TIME[name] for name in parts)


def unit_in(text: str) -> str | None:
    """The unit that stands in a cell beside its number, "" if none does, None for no reading."""
    core = _apart(text.strip().rstrip("!"))[0]
    for decimal in (".", ","):
        try:
            plain = NumberForm(decimal).plain(core)
        except NumberError:
            continue
        match = _USUAL.fullmatch(plain) or _READING.fullmatch(plain)
        if match is not None or duration_of(plain) is not None:
            return "s" if match is None else match["unit"] or ""
    return None


def single_number(text: str, form: NumberForm) -> str:
    """The only number of a cell as programs write it, without what stands around it; "" for none.

    Raises
    ------
    NumberError
        When it is none in the form of its file.
    """
    plain = form.plain(_apart(text.strip().rstrip("!"))[0]).lstrip("×x±+ ")
    match = _READING.fullmatch(plain)
    if match is None or match["last"]:
        return ""
    return match["first"]


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
    reading = parse_reading(text, unit, unit)
    if reading is None:
        raise TypedError(f'"{text.strip()}" is not a number; type it like {HOW}')
    if is_time(unit) and reading.value <= 0:
        raise TypedError(f"{reading.value:g} {unit} is not a duration")
    if not reading.kept:
        _check_likely(reading.value, unit, plausible, fellows)
    return reading


def parse_reading(
    text: str, unit: str, wanted: str, form: NumberForm = ALONE
) -> TypedReading | None:
    """A reading of any kind in the ``wanted`` unit; None for what is none.

    ``unit`` is what the number is in where none stands beside it, ``form`` that of the numbers of
    its file.

    Raises
    ------
    TypedError
        When it is one and makes no sense.
    """
    core, about, sign, note = _apart(text.strip().rstrip("!"))
    kept = text.rstrip().endswith("!")
    try:
        plain = form.plain(core)
    except NumberError as error:
        raise TypedError(str(error)) from None
    seconds = duration_of(plain)
    if seconds is not None and (is_time(unit) or ":" in plain):
        reading = _duration(plain, seconds, unit, wanted)
    else:
        match = _USUAL.fullmatch(plain) or _READING.fullmatch(plain)
        if match is None:
            return None
        reading = _reading(match, core, match["unit"] or unit, wanted)
    told = ", ".join(filter(None, ("about" if about else "", note)))
    return replace(reading, kept=kept, note=told, sign=sign)


def _apart(text: str) -> tuple[str, bool, str, str]:
    """The reading alone, whether it is about so much, the sign of a footnote, and a remark."""
    about = _ABOUT.match(text)
    if about:
        text = text[about.end() :]
    remark = _PLUS_MINUS.search(text) or _REMARK.search(text)
    if remark and text[: remark.start()].strip():
        text = text[: remark.start()].rstrip()
    else:
        remark = None
    mark = _FOOTNOTE.search(text)
    if mark:
        text = text[: mark.start()].rstrip()
    sign, note = (mark["sign"] if mark else ""), (remark["text"].strip() if remark else "")
    return text, about is not None, sign, note


def _duration(text: str, seconds: float, unit: str, wanted: str) -> TypedReading:
    if ":" in text and (not is_time(unit) or unit in ("h", "d")):
        raise TypedError(
            f'"{text}" is not a number in {unit}; write a duration in the unit of the metric '
            f"({seconds:g} s)"
        )
    return TypedReading(_converted(seconds, "s", wanted))


def _converted(value: float, unit: str, wanted: str) -> float:
    try:
        return convert(value, unit, wanted)
    except UnitError as error:
        raise TypedError(str(error)) from None


def _reading(match: re.Match[str], text: str, unit: str, wanted: str) -> TypedReading:
    """What a text of the shape of a reading says, in the wanted unit."""
    shown = shortened(text, 40)
    named = {name: part for name, part in match.groupdict().items() if part}
    first, last, low, high, best = (
        _converted(float(named[name]), unit, wanted) if name in named else None
        for name in ("first", "last", "low", "high", "best")
    )
    assert first is not None
    if any(beyond(end) for end in (first, last, low, high, best) if end is not None):
        raise TypedError(f'"{shown}" {BEYOND}')
    stated = named.get("of")
    # As a number with a point, which thousands of digits may be too.
    if stated is not None and not 1 <= float(stated) <= MOST_SAMPLES:
        raise TypedError(f'"{shown}": {shortened(stated, 20)} {BEYOND_SAMPLES}')
    samples = None if stated is None else int(stated)
    statistic = {"average": "mean"}.get(named.get("statistic", ""), named.get("statistic", ""))
    if best is not None:
        low, high = min(first, best), max(first, best)
        return TypedReading(first, low, high, statistic=USUAL, samples=samples)
    bound = named.get("bound")
    if bound and (last is not None or low is not None):
        raise TypedError(f'"{shown}" is both a bound and a range')
    if last is not None and low is not None:
        raise TypedError(f'"{shown}" has two ranges')
    if last is not None:
        low, high = first, last
        statistic = RANGE if samples is not None else statistic
    if low is None or high is None:
        return TypedReading(first, bound=bound, statistic=statistic, samples=samples)
    if low >= high:
        raise TypedError(f'the range "{shown}" does not go from low to high')
    value = (low + high) / 2 if last is not None else first
    if not low <= value <= high:
        raise TypedError(f'"{shown}": the value is outside its own range')
    settled = SETTLED if last is None and not statistic else statistic
    return TypedReading(value, low, high, statistic=settled, samples=samples)


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
