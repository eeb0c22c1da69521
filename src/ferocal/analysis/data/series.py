"""Series: one metric of one workload, without any reading of it.

Imports no NumPy, so that what only names metrics starts fast.
"""

from __future__ import annotations

import math
from typing import Literal

from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import Role

Scale = Literal["ratio", "difference"]
# Of what is less, the exponential is a number.
_LARGEST_LOGARITHM = 709.0


@dataclass(frozen=True)
class Series:
    """One metric of one workload.

    ``margin`` is a share (0.02 is 2 %). With ``unit_margin``, in the unit of the metric,
    effects are differences in that unit, and that margin applies instead. ``resolution``
    is the smallest step that a reading can show, and ``plausible`` the lowest and highest
    value that can be true, both in the unit. ``noise`` is the standard deviation between visits
    as stated, a share, ``unit_noise`` the same in the unit. What is computed
    ``of_frames`` summarises as many as it has samples; it has ``assumed_times`` where it
    is unknown how far apart its values are. Where neither direction is better there is no verdict.
    For people it is called ``label``, which is empty where the workload says enough; ``depth``
    counts the scores that it is part of, one within the other. It is of a ``size`` of the
    ``sized_workload`` where that has several; ``weight`` is that of its workload in an index.
    Where it is ``metered``, it was taken or computed by Ferocal itself, so that its unit is beyond
    doubt.
    ``per`` names the declared quantities that its formula contains, such as a number of cores. It
    is ``part_of`` another metric of its workload, or of none, and ``trades_with`` are those that
    were declared to be read with it.
    """

    workload: str
    metric: str
    unit: str
    better: Literal["higher", "lower", "none"]
    margin: float
    role: Role = "secondary"
    unit_margin: float | None = None
    resolution: float | None = None
    plausible: tuple[float, float] | None = None
    noise: float | None = None
    unit_noise: float | None = None
    of_frames: bool = False
    assumed_times: bool = False
    group: str = ""
    label: str | None = None
    depth: int = 0
    sized_workload: str = ""
    size: float | None = None
    weight: float = 1.0
    metered: bool = False
    per: tuple[str, ...] = ()
    part_of: str = ""
    trades_with: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """Workload and metric as they are called in sentences."""
        label = self.metric if self.label is None else self.label
        return f"{self.workload} {label}".strip()


def margin_on_scale(series: Series, scale: Scale) -> float:
    """The margin on the scale of the analysis; NaN where a share does not apply."""
    if scale == "ratio":
        return math.log1p(series.margin)
    return float("nan") if series.unit_margin is None else series.unit_margin


def share_of(shift: float) -> float:
    """A change on the logarithmic scale as a share, infinite where no number is as large."""
    return math.inf if shift >= _LARGEST_LOGARITHM else math.expm1(shift)


def change_of(shift: float, scale: Scale) -> float:
    """A shift on the scale of the analysis as a change: a share, or in the unit."""
    return share_of(shift) if scale == "ratio" else shift


def factor_of(shift: float) -> float:
    """What a value on the logarithmic scale stands for, infinite where no number is as large."""
    return math.inf if shift >= _LARGEST_LOGARITHM else math.exp(shift)
