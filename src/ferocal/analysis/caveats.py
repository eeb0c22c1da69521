"""Caveats: named reasons not to trust, or not to attribute, a number."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ferocal.analysis.readings import Scale


# What to do about each; the keys are the stable codes.
ADVICE = {
    # The plan and what came of it.
    "one-visit": "measure at least one more visit to each side, better five in rounds",
    "few-rounds": "measure at least 5",
    "unpaired-rounds": "take the missing runs with `ferocal measure --retry`",
    "not-interleaved": "measure the configurations in interleaved rounds, where a way back exists",
    "unknown-visits": "say which readings belong to one visit, or measure in rounds",
    "extended": "take the verdict as provisional, or measure a new study with --decide",
    "stale-floor": "measure a new noise floor: a control arm of ten rounds on this bench",
    # What differed between the two sides.
    "several-factors": "look at configurations that differ in one factor only",
    "undeclared-difference": "make it a factor, name it in the `explains` of one, or make it equal",
    "resources-differ": "give both sides the same: the change is not one of software alone",
    "workload-differs": "measure the same workload on both sides",
    "best-of": "read the same statistic on both sides: the best of several is no mean",
    "other-unit": "bring both to one unit, and name it in the study file",
    "conditions-differ": "find the cause and measure again under equal conditions",
    "one-sided-losses": "find out why: if slow runs are lost, the rest looks faster than it is",
    # What is odd about the readings.
    "drift": "find out what warms up or fills up; only interleaved rounds cancel it",
    "first-run": "add warmups to the workload, so that every run finds the same state",
    "outliers": "look at them with `ferocal table --runs`; exclude only what has a cause",
    "two-modes": "find what switches between the two; a centre of both describes neither",
    "coarse": "read it more finely, or lengthen the workload until the change is larger",
    "capped": "lift the cap (vsync, a frame or rate limit): above it no change can be seen",
    "implausible": "check how it was read, and exclude what cannot be true",
    "magnitude": "look for a missing digit or another unit, and exclude or correct the reading",
    "short-capture": "capture longer, at least 10,000 frames: rare hitches decide these figures",
    "difference-scale": "give the metric a margin in its own unit to show equivalence",
    "no-spread": "check that the metric is measured, and finely enough",
    # What the effects say together.
    "trade-off": "decide which of the two matters; neither tells the whole",
    "control-differs": "trust no verdict before the bench agrees with itself",
}

# Those that a test on noisy readings decides: on clean studies they are false alarms.
STATISTICAL = (
    "drift",
    "first-run",
    "outliers",
    "two-modes",
    "coarse",
    "capped",
    "magnitude",
    "conditions-differ",
    "control-differs",
)


@dataclass(frozen=True)
class Caveat:
    """A reason for caution: a stable code of `ADVICE`, and what was seen."""

    code: str
    seen: str

    @property
    def advice(self) -> str:
        """What to do about it."""
        return ADVICE[self.code]

    @property
    def text(self) -> str:
        """What was seen and what to do, as a sentence."""
        return f"{self.seen[0].upper()}{self.seen[1:]}: {self.advice}."


def percentage(share: float) -> str:
    """A share as a signed percentage of two significant digits."""
    value = 100 * share
    digits = f"{value:+.2g}" if abs(value) < 10 else f"{value:+,.0f}"
    return f"{digits} %".replace("-", "\N{MINUS SIGN}")


def sized(shift: float, scale: Scale, unit: str) -> str:
    """A difference on the scale of the analysis, such as "+3.4 %" or "−2 W"."""
    if scale == "ratio":
        return percentage(math.expm1(shift))
    return f"{shift:+.2g} {unit}".replace("-", "\N{MINUS SIGN}")
