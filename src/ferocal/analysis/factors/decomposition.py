"""The change between two combinations, divided among the factors in which they differ."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.factors.design import Levels
from ferocal.analysis.factors.fitting import Asked, Attribution
from ferocal.analysis.factors.model import FactorModel
from ferocal.analysis.factors.results import Decomposition, FactorShare, Judged

# Of more factors not all orders of switching are gone through.
MOST_FACTORS = 12


def share_contrasts(model: FactorModel, start: Levels, end: Levels) -> Mapping[str, FloatArray]:
    """For every factor in which two combinations differ, the contrast that is its part.

    The parts are coefficients where factors do not act on each other, else the mean over the
    orders in which the factors can be switched (Shapley 1953, A value for n-person games), and
    add up to the whole change.

    Raises
    ------
    ValueError
        When the combinations differ in more than `MOST_FACTORS` factors.
    """
    differing = [factor for factor in model.design.factors if start[factor] != end[factor]]
    if len(differing) > MOST_FACTORS:
        raise ValueError(f"{len(differing)} factors differ, more than {MOST_FACTORS}")
    found = {}
    for factor in differing:
        others = [f for f in differing if f != factor]
        total = np.zeros(len(model.terms))
        for size in range(len(others) + 1):
            weight = 1 / (len(differing) * math.comb(len(others), size))
            for switched in itertools.combinations(others, size):
                before = {**start, **{f: end[f] for f in switched}}
                after = {**before, factor: end[factor]}
                total += weight * model.between(before, after)
        found[factor] = total
    return found


def lies_between(levels: Levels, start: Levels, end: Levels) -> bool:
    """Whether a combination has some levels of the one, and some of the other, and no third."""
    factors = [f for f in start if start[f] != end[f]]
    own = [levels[f] for f in factors]
    mixed = all(v in (start[f], end[f]) for f, v in zip(factors, own, strict=True))
    same = all(levels[f] == start[f] for f in start if f not in factors)
    ends = ([start[f] for f in factors], [end[f] for f in factors])
    return mixed and same and own not in ends


def decompose(study: Attribution, start: int, end: int) -> list[Decomposition]:
    """The change between two configurations, series by series, where it is determined."""
    names, levels = study.readings.configurations, study.setting.levels
    known: dict[int, dict[tuple[str, ...], FloatArray]] = {}
    asked: list[Asked] = []
    chosen: list[int] = []
    for n in study.main_places:
        fit = study.fits[n]
        if not {start, end} <= set(fit.model.row_of.tolist()):
            continue
        if id(fit.model) not in known:  # many metrics share a model
            parts_of = share_contrasts(fit.model, levels[start], levels[end])
            known[id(fit.model)] = _determined(fit.model, parts_of)
        shares = known[id(fit.model)]
        whole = sum(shares.values(), np.zeros(len(fit.model.terms)))
        if all(fit.model.determines(w) for w in (*shares.values(), whole)):
            chosen.append(n)
            asked += [Asked(n, fit, w, f"decomposition {n}") for w in (whole, *shares.values())]
    judged = iter(study.judge(asked))
    measured = study.measured(chosen, start, end)
    found = []
    for n in chosen:
        model = study.fits[n].model
        total = next(judged)
        rows = sorted(set(model.row_of.tolist()))
        ends = (levels[start], levels[end])
        found.append(
            Decomposition(
                study.readings.series[n],
                names[start],
                names[end],
                total,
                tuple(_share(tied, ends, next(judged), total) for tied in known[id(model)]),
                measured[n] - total.mean,
                study.fits[n].lacks,
                tuple(names[r] for r in rows if lies_between(levels[r], *ends)),
            )
        )
    return found


def _share(
    tied: tuple[str, ...], ends: tuple[Levels, Levels], part: Judged, total: Judged
) -> FactorShare:
    begin, finish = ("+".join(levels[f] for f in tied) for levels in ends)
    return FactorShare(" and ".join(tied), begin, finish, part, _ratio(part.mean, total.mean))


def _determined(
    model: FactorModel, shares: Mapping[str, FloatArray]
) -> dict[tuple[str, ...], FloatArray]:
    """The parts of factors; those that are not determined are one part together."""
    alone = {f: weights for f, weights in shares.items() if model.determines(weights)}
    tied = tuple(f for f in shares if f not in alone)
    found: dict[tuple[str, ...], FloatArray] = {(f,): weights for f, weights in alone.items()}
    if tied:
        found[tied] = np.sum([shares[f] for f in tied], axis=0)
    return found


def _ratio(part: float, whole: float) -> float:
    return part / whole if whole else math.nan
