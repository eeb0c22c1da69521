"""What attribution finds: effects of levels, interactions, shares, scaling."""

from __future__ import annotations

from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Estimate
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True, kw_only=True)
class Judged(Estimate):
    """A contrast as it was judged, of a series."""

    series: Series

    @property
    def mean(self) -> float:
        """The change on the scale of the analysis."""
        return self.shift.mean


@dataclass(frozen=True)
class FactorEffect:
    """The change due to a level of a factor, averaged over the levels of the others.

    It is ``against`` the first level, or another one where ``is_between`` others.
    Where it is not ``estimable``, ``judged`` is that of the level with what always came with
    it, ``together``; None where not even that is known.
    """

    series: Series
    factor: str
    level: str
    against: str
    judged: Judged | None
    estimable: bool
    together: tuple[str, ...] = ()
    is_between: bool = False


@dataclass(frozen=True)
class UnlikeEffects:
    """A level that changes metrics by different amounts: the least and the most, as gains."""

    factor: str
    level: str
    least: Judged
    most: Judged


@dataclass(frozen=True)
class Interaction:
    """Whether a level does another thing beside a level of another factor.

    ``judged`` is a ratio of ratios (a difference of differences); ``with_first`` and
    ``with_other`` are the effect of ``level`` beside the first and beside the other level.
    """

    series: Series
    factor: str
    level: str
    against: str
    other: str
    other_level: str
    other_first: str
    judged: Judged
    with_first: Judged
    with_other: Judged


@dataclass(frozen=True)
class LackOfFit:
    """How well the factors add up for a series; ``used`` says that the error rests on it."""

    series: Series
    p_value: float
    degrees: int
    used: bool


@dataclass(frozen=True)
class FactorShare:
    """The part of a factor in a whole change; ``share`` of it on the scale of the analysis."""

    factor: str
    start: str
    end: str
    judged: Judged
    share: float


@dataclass(frozen=True)
class Decomposition:
    """The change between two configurations as the sum of the parts of their factors.

    ``rest`` is what the model leaves of the change that was measured, and ``lacks`` says whether
    that is more than chance (lack of fit). ``through`` are the measured configurations that lie
    between, which hold one factor while another changes.
    """

    series: Series
    start: str
    end: str
    total: Judged
    parts: tuple[FactorShare, ...]
    rest: float
    lacks: bool
    through: tuple[str, ...]


@dataclass(frozen=True)
class ScalingStep:
    """One amount of a resource against the least: speed, and speed per unit of it.

    ``speed`` and ``efficiency`` are changes; an efficiency of −0.2 is 80 % of the ideal.
    """

    level: str
    amount: float
    speed: Judged
    efficiency: Judged

    @property
    def use(self) -> str:
        """Whether what there is more of is used: at least half of what it could give, on logs."""
        verdict, gain = self.speed.verdict, self.speed.mean
        if verdict is Verdict.EQUIVALENT:
            return "ignored"
        if verdict is Verdict.BETTER:
            # The efficiency is what is left of the ideal, so that both differ by that.
            return "used" if gain >= (gain - self.efficiency.mean) / 2 else "partly"
        return "slower" if verdict is Verdict.WORSE else str(verdict)


@dataclass(frozen=True)
class Scaling:
    """How a series scales with a factor that can be counted.

    ``serial`` is the share of the work that more of it does not speed up, NaN below three amounts.
    """

    series: Series
    factor: str
    least: float
    first: str
    steps: tuple[ScalingStep, ...]
    serial: float
    serial_half_width: float


@dataclass(frozen=True)
class IndexPart:
    """What one workload does in an index: its own change, and the index without it."""

    workload: str
    weight: float
    own: Judged
    without: Judged | None
