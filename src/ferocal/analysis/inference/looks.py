"""Looks: measuring until it is decided, without finding more than there is."""

from __future__ import annotations

from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class LookPlan:
    """After which rounds the results are looked at, and the level of every look.

    ``confidence`` is the two-sided level of an interval at one look.
    """

    rounds: tuple[int, ...]
    confidence: float

    @property
    def last(self) -> int:
        """The last round."""
        return self.rounds[-1]

    @property
    def alpha(self) -> float:
        """The level of a test at one look."""
        return 1 - self.confidence

    def reached(self, rounds: int) -> list[int]:
        """The looks that so many rounds have reached."""
        return [look for look in self.rounds if look <= rounds]


# Few looks at a constant level (Pocock 1977, Group sequential methods in the design and
# analysis of clinical trials, Biometrika 64(2), 191-199), which was chosen by simulation so
# that all looks together find 5 % false differences; `benchmarks/bench_calibration.py`
# repeats the simulation.
LOOK_PLANS = (
    LookPlan((5, 7, 10), 0.9772),
    LookPlan((5, 8, 13, 20), 0.9831),
)


def plan_looks(most_rounds: int) -> LookPlan:
    """The looks for at most ``most_rounds`` rounds.

    Raises
    ------
    ValueError
        When looks are not calibrated for that many.
    """
    for plan in LOOK_PLANS:
        if plan.last == most_rounds:
            return plan
    known = " or ".join(str(plan.last) for plan in LOOK_PLANS)
    raise ValueError(f"looks are calibrated for at most {known} rounds, not for {most_rounds}")
