"""Contrasts as they are asked for: arms, and the weight of each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray, IntArray
from ferocal.terms.frozen import dataclass


class Arm(NamedTuple):
    """A series on a bench under a configuration, by their places in the readings."""

    series: int
    bench: int
    configuration: int

    def code(self, readings: Readings) -> int:
        """The number of the arm among those of the readings."""
        strand = self.series * len(readings.benches) + self.bench
        return strand * len(readings.configurations) + self.configuration

    def select(self, readings: Readings) -> Readings:
        """The readings of the arm."""
        return readings.select(readings.arm_of == self.code(readings))


class Contrast(NamedTuple):
    """A sum of arms, each with its weight, on the scale of the analysis.

    "Configuration minus baseline" has the weights +1 and −1. Arms of one bench and
    configuration (several metrics of one run) are combined visit by visit. ``family`` names
    the tests with which the contrast shares an error rate. ``turned`` means that more is to be
    better whatever the series, and ``offset`` is taken off what is so found: a price, or what
    an ideal would be. ``doubt`` is the standard uncertainty of the weights themselves, and
    ``repeats`` how many tests like this one are made in a row, one a night, of which it is one.
    """

    weights: tuple[tuple[Arm, float], ...]
    family: str
    turned: bool = False
    offset: float = 0.0
    doubt: float = 0.0
    repeats: int = 1

    @property
    def first(self) -> Arm:
        """The arm by which the contrast is named."""
        return self.weights[0][0]


@dataclass(frozen=True)
class Terms:
    """The arms of all contrasts, one after the other, shape (t,).

    ``side`` numbers bench and configuration within a contrast, ``part`` the benches within
    a contrast; ``contrast_of_part``, ``part_of_side`` and ``sign_of_side`` say what these
    belong to, and on which side of zero their weight is; ``square_of_side`` sums the squares of
    the weights.
    """

    contrast: IntArray
    arm: IntArray
    weight: FloatArray
    side: IntArray
    part_of_side: IntArray
    sign_of_side: IntArray
    square_of_side: FloatArray
    contrast_of_part: IntArray


def find_terms(contrasts: Sequence[Contrast], readings: Readings, present: IntArray) -> Terms:
    """All arms of those contrasts of which every arm is there."""
    benches, configurations = len(readings.benches), len(readings.configurations)
    flat = [
        (n, arm.code(readings), arm, weight)
        for n, contrast in enumerate(contrasts)
        for arm, weight in contrast.weights
    ]
    contrast = np.array([row[0] for row in flat], dtype=np.int64)
    arm = np.array([row[1] for row in flat], dtype=np.int64)
    place = np.array([row[2] for row in flat], dtype=np.int64).reshape(-1, 3)
    weight = np.array([row[3] for row in flat], dtype=np.float64)
    missing = np.bincount(contrast, ~np.isin(arm, present), len(contrasts)) > 0
    usable = ~missing[contrast]
    contrast, arm, place, weight = contrast[usable], arm[usable], place[usable], weight[usable]
    part_key = contrast * benches + place[:, 1]
    side_key = part_key * configurations + place[:, 2]
    part_keys, part = _numbered(part_key)
    side_keys, side = _numbered(side_key)
    return Terms(
        contrast=contrast,
        arm=arm,
        weight=weight,
        side=side,
        part_of_side=_first_of(part, side, len(side_keys)),
        sign_of_side=_first_of(np.sign(weight).astype(np.int64), side, len(side_keys)),
        square_of_side=np.bincount(side, weight**2, len(side_keys)).astype(np.float64),
        contrast_of_part=part_keys // benches,
    )


def _numbered(keys: IntArray) -> tuple[IntArray, IntArray]:
    """Distinct keys in order of appearance, and for every element which of them it has."""
    _, first, inverse = np.unique(keys, return_index=True, return_inverse=True)
    order = np.argsort(first, kind="stable")
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    return keys[first[order]], rank[inverse]


def _first_of(values: IntArray, group: IntArray, size: int) -> IntArray:
    """The first value of every group; groups are numbered in order of appearance."""
    found = np.zeros(size, dtype=np.int64)
    found[group[::-1]] = values[::-1]
    return found
