"""The questions that an attribution answers, each from contrasts of its fits."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence

import numpy as np

from ferocal.analysis.data.segments import FloatArray
from ferocal.analysis.data.series import margin_on_scale
from ferocal.analysis.factors.design import Term, make_design
from ferocal.analysis.factors.fitting import Asked, Attribution
from ferocal.analysis.factors.model import FactorModel
from ferocal.analysis.factors.results import (
    FactorEffect,
    IndexPart,
    Interaction,
    Judged,
    LackOfFit,
    UnlikeEffects,
)
from ferocal.analysis.inference.student import error_behind

# Joint effects of more terms than this are of no use.
_MOST_TOGETHER = 3
# At this level metrics that a level changes by different amounts do so by more than their noise.
_UNLIKE = 0.01
Together = tuple[str, ...]


def find_effects(study: Attribution) -> list[FactorEffect]:
    """What every level of every factor does, series by series, against the first level.

    Where that is not determined for a level alone, it is compared with the nearest level before it
    with which it is.
    """
    rows: list[tuple[int, str, str, str, FloatArray | None, Together, Together]] = []
    for n in study.main_places:
        model = study.fits[n].model
        moved = _moved_with(study, model)
        for factor, levels in model.design.factors.items():
            for level in levels[1:]:
                weights, together = _joint(model, factor, level)
                facts = moved.get((factor, level), ())
                rows.append((n, factor, level, levels[0], weights, together, facts))
                if weights is None or together:
                    rows += [
                        (n, factor, level, other, difference, (), ())
                        for other, difference in _against_others(model, factor, level)
                    ]
    asked = [
        Asked(n, study.fits[n], weights, f"factors of {study.family(n)}")
        for n, _, _, _, weights, _, _ in rows
        if weights is not None
    ]
    judged = iter(study.judge(asked))
    return [
        FactorEffect(
            study.readings.series[n], factor, level, against,
            None if weights is None else next(judged),
            estimable=weights is not None and not together and not facts,
            together=(*together, *facts),
            is_between=against != study.fits[n].model.design.factors[factor][0],
        )
        for n, factor, level, against, weights, together, facts in rows
    ]  # fmt: skip


def find_interactions(study: Attribution) -> list[Interaction]:
    """Every interaction that the design determines, series by series."""
    rows: list[tuple[int, str, str, str, str, str, str]] = []
    asked: list[Asked] = []
    for n in study.main_places:
        fit = study.fits[n]
        factors = fit.model.design.factors
        for place, term in enumerate(fit.model.terms):
            if len(term.levels) != 2:
                continue
            (g, w), (f, v) = term.levels
            unit = np.eye(len(fit.model.terms))[place]
            both = [fit.model.conditional(f, v, {g: x}) for x in (factors[g][0], w)]
            family = study.family(n)
            asked += [
                Asked(n, fit, unit, f"interactions of {family}"),
                *(Asked(n, fit, weights, f"conditional {family} {place}") for weights in both),
            ]
            rows.append((n, f, v, factors[f][0], g, w, factors[g][0]))
    judged = study.judge(asked)
    return [
        Interaction(study.readings.series[n], f, v, f0, g, w, g0, *judged[3 * k : 3 * k + 3])
        for k, (n, f, v, f0, g, w, g0) in enumerate(rows)
    ]


def find_lack_of_fit(study: Attribution) -> list[LackOfFit]:
    """Of every series how well the factors add up, where that can be tested."""
    return [
        LackOfFit(study.readings.series[n], f.lack_p, f.lack_degrees, f.error_from_lack)
        for n, f in ((n, study.fits[n]) for n in study.main_places)
        if not math.isnan(f.lack_p)
    ]


def find_index_parts(study: Attribution, factor: str, level: str) -> list[IndexPart]:
    """Which workload carries the change of the index, and the index without each in turn."""
    rows = [(w, n, own, without) for w, n, own, without in study.index_parts if own in study.fits]
    places = [n for _, _, own, without in rows for n in (own, without) if n is not None]
    asked = [
        Asked(n, study.fits[n], study.fits[n].model.main(factor, level), f"part {n}")
        for n in places
    ]
    judged = dict(zip(places, study.judge(asked), strict=True))
    return [
        IndexPart(workload, weight, judged[own], None if without is None else judged[without])
        for workload, weight, own, without in rows
    ]


def _moved_with(study: Attribution, model: FactorModel) -> dict[tuple[str, str], tuple[str, ...]]:
    """By factor and level, software facts that changed with it and with nothing else."""
    found: dict[tuple[str, str], tuple[str, ...]] = {}
    rows = sorted(set(model.row_of.tolist()))
    for name, values in study.setting.seen.items():
        seen = [values[row] for row in rows]
        if None in seen or len(set(seen)) < 2:
            continue
        extended = [{**study.setting.levels[row], name: str(values[row])} for row in rows]
        reference = {**study.setting.reference, name: str(seen[0])}
        design = make_design(extended, reference, model.design.block_of)
        terms = design.main_terms
        fits = design.estimable(terms)
        lost = [t for t, fit in zip(terms, fits, strict=True) if not fit]
        own = [t for t in terms if name not in t.factors]
        alone = design.estimable(own)
        before = {t for t, fit in zip(own, alone, strict=True) if fit}
        text = f"{name}: {', '.join(dict.fromkeys(map(str, seen)))}"
        for term in lost:
            if term in before:
                found[term.levels[0]] = (*found.get(term.levels[0], ()), text)
    return found


def find_unlike(effects: Sequence[FactorEffect]) -> list[UnlikeEffects]:
    """Levels whose effects on metrics differ by more than the noise of these.

    By the ratio of what effects vary to what their errors let expect, with its F distribution of
    the fewest degrees of freedom of an error (compare Cochran 1954, The combination of estimates
    from different experiments, Biometrics 10, 101-129).
    """
    groups: dict[tuple[str, str], list[Judged]] = {}
    for e in effects:
        judged = e.judged
        if judged is None or not e.series.workload or judged.scale != "ratio" or not e.estimable:
            continue
        if not math.isnan(judged.low):
            groups.setdefault((e.factor, e.level), []).append(judged)
    found = []
    for (factor, level), members in groups.items():
        gains = np.array([j.mean * (1 if j.series.better == "higher" else -1) for j in members])
        if len(members) < 2 or not _differ(gains, members):
            continue
        order = np.argsort(gains)
        found.append(UnlikeEffects(factor, level, members[order[0]], members[order[-1]]))
    return found


def _differ(gains: FloatArray, members: Sequence[Judged]) -> bool:
    """Whether gains differ by more than the margin, and by more than their errors do."""
    shifts = [judged.shift for judged in members]
    square = np.array([error_behind(s.low, s.high, s.degrees) ** 2 for s in shifts])
    margin = max(margin_on_scale(judged.series, "ratio") for judged in members)
    if not (square > 0).all() or np.ptp(gains) <= 2 * margin:
        return False
    from ferocal.analysis.inference.special import fdtrc

    weight, degrees = 1 / square, len(gains) - 1
    ratio = float(weight @ (gains - float(weight @ gains) / weight.sum()) ** 2) / degrees
    return float(fdtrc(degrees, min(s.degrees for s in shifts), ratio)) < _UNLIKE


def _against_others(
    model: FactorModel, factor: str, level: str
) -> Iterator[tuple[str, FloatArray]]:
    """The nearest level before one with which its difference is determined, and that contrast."""
    levels = model.design.factors[factor]
    for other in reversed(levels[1 : levels.index(level)]):
        difference = model.main(factor, level) - model.main(factor, other)
        if model.determines(difference):
            yield other, difference
            return


def _joint(
    model: FactorModel, factor: str, level: str
) -> tuple[FloatArray | None, tuple[str, ...]]:
    """The contrast of a level, or of the level with as few others as make it determined."""
    own = model.main(factor, level)
    if model.determines(own):
        return own, ()
    place = model.terms.index(Term(((factor, level),)))
    tied = np.flatnonzero(np.any(np.abs(model.null[np.abs(model.null[:, place]) > 0]) > 0, axis=0))
    others = [n for n in tied.tolist() if n != place and len(model.terms[n].levels) == 1]
    for size in range(1, _MOST_TOGETHER + 1):
        for chosen in itertools.combinations(others, size):
            weights = own + sum(model.main(*model.terms[n].levels[0]) for n in chosen)
            parts = [(factor, level), *(model.terms[n].levels[0] for n in chosen)]
            # What was never measured together is no joint effect of anything.
            measured = any(all(row[f] == v for f, v in parts) for row in model.design.rows)
            if measured and model.determines(weights):
                return weights, tuple(model.terms[n].text for n in chosen)
    return None, ()
