"""What is said of readings: their trends, their spread, and what they can be."""

from __future__ import annotations

from ferocal.documents.caveats.phrases import Values, Words, sized
from ferocal.terms.bounds import LONGEST_MEDIAN, SHORTEST_MEDIAN
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted


def _drift(values: Values) -> str:
    text = f"scores drift by {sized(values['by'])} from the first visit to the last"
    return f"{text} (p = {values['p']:.1g})"


def _first_run(values: Values) -> str:
    text = f"the first run of a visit differs by {sized(values['by'])} from the rest"
    return f"{text} (p = {values['p']:.1g})"


def _outliers(values: Values) -> str:
    count, number = values["count"], values["round"]
    text = f"{counted(count, 'outlier')} in {counted(values['readings'], 'reading')}: "
    where = "" if number is None else f" in round {number}"
    return f"{text}{'' if count == 1 else 'up to '}{sized(values['worst'])}{where}"


def _two_modes(values: Values) -> str:
    low, high = significant(values["low"]), significant(values["high"])
    text = f"the readings have two modes: {values['lower']} of {values['readings']} near {low}"
    return f"{text}, the rest near {high} {values['unit']}"


def _coarse(values: Values) -> str:
    unit = values["unit"]
    text = f"the change ({significant(values['change'], 2)} {unit}) is smaller than the resolution "
    return f"{text}of the readings ({values['step']:g} {unit})"


def _steps_differ(values: Values) -> str:
    unit = values["unit"]
    other = f"steps of {values['fine']:g} {unit}" if values["fine"] else "finer steps"
    text = f"readings have steps of {values['coarse']:g} {unit}, the other side has {other}"
    return text + (" (covered by the declared resolution)" if values["declared"] else "")


def _capped(values: Values) -> str:
    best = f"{significant(values['best'])} {values['unit']}"
    return f"{100 * values['share']:.0f} % of the readings are exactly {best}, their best value"


def _implausible(values: Values) -> str:
    low, high, first = (significant(values[name], 6) for name in ("low", "high", "first"))
    text = f"{values['outside']} of {counted(values['readings'], 'reading')} outside {low} to "
    return f"{text}{high} {values['unit']}, such as {first}"


def _odd_frames(values: Values) -> str:
    side = "above" if values["median"] > LONGEST_MEDIAN else "below"
    limit = LONGEST_MEDIAN if side == "above" else SHORTEST_MEDIAN
    return f"the median frame lasts {significant(values['median'], 3)} ms, {side} {limit:g} ms"


def _magnitude(values: Values) -> str:
    if "factor" in values:
        factor = significant(values["factor"], 2)
        return f"two single readings are {factor} times apart (a missing digit?)"
    odd = f"{significant(values['odd'], 6)} {values['unit']}"
    return f"a reading of {odd}, the others are near {significant(values['others'])}"


def _units(values: Values) -> str:
    low, high = (f"{significant(values[end])} {values['unit']}" for end in ("low", "high"))
    return f"one configuration reads near {low}, another near {high}: a different unit?"


WORDS = {
    "drift": Words(
        "scores drift over the study",
        "find out what warms up or fills up; only interleaved rounds cancel it",
        _drift,
    ),
    "first-run": Words(
        "the first run of a visit differs from the others",
        "add warmups to the workload, so every run starts in the same state",
        _first_run,
    ),
    "outliers": Words(
        "outliers",
        "inspect them with `ferocal runs --metric NAME`; exclude only those with a known cause",
        _outliers,
    ),
    "two-modes": Words(
        "readings in two groups",
        "find what switches between them; an average of both describes neither",
        _two_modes,
    ),
    "coarse": Words(
        "the change is smaller than the resolution of the readings",
        "use a finer resolution, or lengthen the workload",
        _coarse,
    ),
    "steps-differ": Words(
        "one side has a far coarser resolution than the other",
        "declare the coarser step as `resolution`, or use one clock for both sides",
        _steps_differ,
    ),
    "capped": Words(
        "many readings at exactly their best value",
        "lift the cap (vsync, a frame or rate limit), which hides changes above it",
        _capped,
    ),
    "implausible": Words(
        "readings outside the plausible range",
        "check how they were read, and exclude those that cannot be true",
        _implausible,
    ),
    "odd-frames": Words(
        "half of the frames last longer or shorter than what is shown anywhere",
        "look for another unit; load the captures again with `--unit`",
        _odd_frames,
        look="ferocal frames {workload} {configuration}",
    ),
    "magnitude": Words(
        "readings of another order of magnitude than the others",
        "look for a missing digit or a different unit; exclude or correct the reading",
        _magnitude,
    ),
    "unit-doubtful": Words(
        "configurations that differ by the ratio of two units",
        "state the unit of the readings, or `accept` the difference with a reason",
        _units,
    ),
    "short-capture": Words(
        "captures of fewer than 10 000 samples",
        "capture at least 10 000 frames: rare hitches dominate these figures",
        "captures are short ({} frames; 10 000 wanted): rare hitches dominate the lows",
        look="ferocal frames {workload}",
    ),
}
