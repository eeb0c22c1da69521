"""What a bench can resolve, from a load that never changes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ferocal.analysis.inference.noise_floors import share_of_runs
from ferocal.analysis.inference.power import rounds_to_detect


@dataclass(frozen=True)
class BenchNoise:
    """Spread on the scale of natural logarithms.

    ``run_sd`` is that of single runs within a stretch, ``stretch_sd`` what stretches add to it.
    """

    run_sd: float
    stretch_sd: float

    def rounds_for(self, change: float, runs: int) -> int | None:
        """How many rounds of so many runs find a change, a share, with 80 % power.

        Stretches stand for visits. None where more than a hundred would be needed.
        """
        variance = 2 * (self.stretch_sd**2 + share_of_runs(runs) * self.run_sd**2)
        return rounds_to_detect(math.log1p(change), math.sqrt(variance))


def estimate_noise(stretches: Sequence[Sequence[float]]) -> BenchNoise:
    """The spread within and between stretches of positive times.

    Between is what the variance of medians leaves after the share of the runs in it (a one-way
    analysis of variance, with medians for means).
    """
    logs = [np.log(np.array(walls)) for walls in stretches]
    squares = sum(float(np.sum((x - x.mean()) ** 2)) for x in logs)
    degrees = sum(len(x) - 1 for x in logs)
    within = squares / degrees if degrees else 0.0
    medians = np.array([np.median(x) for x in logs])
    runs = float(np.mean([len(x) for x in logs]))
    between = float(np.var(medians, ddof=1)) - share_of_runs(runs) * within
    return BenchNoise(math.sqrt(within), math.sqrt(max(0.0, between)))
