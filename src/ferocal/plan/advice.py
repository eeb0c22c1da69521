"""What a plan costs, what it can answer, and what it cannot."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from ferocal.analysis.data.series import change_of
from ferocal.analysis.inference.components import Components
from ferocal.analysis.inference.noise_floors import KNOWN_DEGREES
from ferocal.analysis.inference.power import (
    best_runs,
    power_difference,
    power_equivalence,
    rounds_to_detect,
)
from ferocal.analysis.inference.student import t_quantile
from ferocal.plan.order import PlannedVisit, count_runs, count_switches, workloads_of
from ferocal.plan.separation import confounded_factors, planned_confounding
from ferocal.study.load import Study
from ferocal.study.metrics import margins_of
from ferocal.terms.frozen import dataclass
from ferocal.terms.roles import DECIDING, Role

# Below this many rounds an interval is so wide that few questions can be answered.
_FEW_ROUNDS = 5
# What a plan should show with this probability.
LIKELY = 0.8


@dataclass(frozen=True)
class Cost:
    """What a plan takes; ``seconds`` is None where a duration is neither seen nor stated.

    ``unknown`` names the workloads of which no duration is.
    """

    visits: int
    switches: int
    runs: int
    warmups: int
    run_seconds: float | None
    switch_seconds: float | None
    seconds: float | None
    unknown: tuple[str, ...] = ()


def estimate_cost(
    study: Study,
    visits: Sequence[PlannedVisit],
    seen_runs: Mapping[str, float],
    seen_switching: float | None,
) -> Cost:
    """The cost of these visits, from durations seen, else from those stated (s)."""
    switches = count_switches(visits)
    each = {name: seen_runs.get(name, w.takes) for name, w in study.workloads.items()}
    unknown = tuple(name for name, seconds in each.items() if seconds is None)
    seconds = 0.0
    for name in (name for visit in visits for name in workloads_of(study, visit.configuration)):
        seconds += (study.head.runs + study.workloads[name].warmups) * (each[name] or 0.0)
    switching = _stated_switching(study) if seen_switching is None else seen_switching
    runs, warmups = count_runs(study, visits)
    return Cost(
        visits=len(visits),
        switches=switches,
        runs=runs,
        warmups=warmups,
        run_seconds=None if unknown else seconds / max(1, len(visits)) / study.head.runs,
        switch_seconds=switching,
        seconds=None if unknown else seconds + switches * (switching or 0.0),
        unknown=unknown,
    )


def _stated_switching(study: Study) -> float | None:
    stated = [
        level.takes
        for factor in study.file.factor.values()
        for level in factor.level.values()
        if level.takes is not None
    ]
    return float(np.mean(stated)) if stated else None


def count_comparisons(study: Study) -> Mapping[Role, int]:
    """Sizes of the families: the comparisons of the metrics of each role."""
    roles = Counter(metric.role for _, _, metric in study.metrics())
    # The control arm is a separate family.
    others = max(1, len(study.configurations) - 1 - study.head.control)
    return {role: count * others for role, count in roles.items()}


class Advice(NamedTuple):
    """Something that a plan can answer, or cannot: what, and the values that say it."""

    code: str
    values: Mapping[str, Any]


def find_answers(study: Study, rounds: int) -> list[Advice]:
    """Questions that the plan can answer."""
    head, interval = study.head, "floor"
    if head.schedule == "rounds" and rounds > 1:
        interval = "rounds"
    elif head.schedule != "rounds" and head.visits > 1:
        interval = "visits"
    answers = [Advice("changes", {"baseline": study.baseline, "interval": interval})]
    confounded = confounded_factors(study)
    separate = tuple(f for f in study.file.factor if f not in confounded)
    if len(study.file.factor) > 1 and separate:
        answers.append(Advice("factors", {"factors": separate}))
    if head.control:
        answers.append(Advice("control", {}))
    if head.schedule == "return":
        answers.append(Advice("return", {}))
    return answers


def expect_equivalence(
    outlooks: Sequence[Outlook], roles: Mapping[tuple[str, str], Role]
) -> Advice | None:
    """In how many of the metrics that decide a plan can be expected to show that nothing changes.

    ``roles`` are by workload and metric. None where nothing is known of what decides.
    """
    for role in DECIDING:
        own = [o for o in outlooks if roles[o.workload, o.metric] == role]
        if own:
            enough = sum(o.equivalence >= LIKELY for o in own)
            return Advice("equivalence", {"enough": enough, "count": len(own), "role": role})
    return None


def find_shortcomings(study: Study, rounds: int) -> list[Advice]:
    """What the plan cannot answer, or not well."""
    head, found = study.head, []
    if head.schedule == "rounds":
        if rounds == 1:
            found.append(Advice("one-visit", {"renew": False}))
        elif rounds < _FEW_ROUNDS:
            found.append(Advice("few-rounds", {"rounds": rounds, "wanted": _FEW_ROUNDS}))
    else:
        found.append(Advice("not-interleaved", {}))
        if head.visits == 1:
            found.append(Advice("one-visit", {"renew": True}))
    comparisons = count_comparisons(study)
    if comparisons.get("secondary", 0) > 1 and "primary" not in comparisons:
        found.append(Advice("shared-error", {"comparisons": comparisons["secondary"]}))
    levels = tuple(
        f"{f}={name}"
        for f, factor in study.file.factor.items()
        for name, level in factor.level.items()
        if not level.verify
    )
    if levels:
        found.append(Advice("unproven", {"levels": levels}))
    return [
        *found,
        *(
            Advice("confounded", {"effects": effects, "separate": separate})
            for effects, separate in planned_confounding(study)
        ),
    ]


@dataclass(frozen=True)
class Outlook:
    """What to expect of one metric; None where more rounds would not do.

    ``detectable`` is the smallest change found with 80 % power, a share or in the ``unit``, and
    ``equivalence`` the probability that no change at all is shown to be within the margin.
    """

    workload: str
    metric: str
    unit: str | None
    components: Components
    detectable: float
    equivalence: float
    rounds_80: int | None
    rounds_90: int | None
    runs: int | None


def foresee(
    study: Study,
    rounds: int,
    cost: Cost,
    detect: float | None,
    components: Mapping[tuple[str, str], Components],
) -> list[Outlook]:
    """What the plan can be expected to find, metric by metric.

    ``detect`` is a change as a share, by default the margin of the metric; the level is
    divided by the number of comparisons of its role. What is not judged is left out. ``rounds`` is
    the number of visits to each side where there are no rounds; of a single one the spread must
    be known beforehand.
    """
    comparisons = count_comparisons(study)
    outlooks = []
    for workload, name, metric in study.metrics():
        known = components.get((workload, name))
        if known is None or metric.role == "context":
            continue
        alpha = 0.05 / comparisons[metric.role]
        share, in_unit = margins_of(name, metric, study.head.margin)
        margin = float(np.log1p(share)) if known.scale == "ratio" else in_unit
        change = margin
        if detect is not None and known.scale == "ratio":
            change = float(np.log1p(detect))
        found = _detectable(known, rounds, alpha)
        outlooks.append(
            Outlook(
                workload=workload,
                metric=name,
                unit=None if known.scale == "ratio" else metric.unit,
                components=known,
                detectable=change_of(found, known.scale),
                equivalence=_equivalence(known, rounds, margin),
                rounds_80=_rounds_to_find(change, known, alpha, 0.8),
                rounds_90=_rounds_to_find(change, known, alpha, 0.9),
                runs=_runs(cost, known) if study.head.schedule == "rounds" else None,
            )
        )
    return outlooks


def _rounds_to_find(
    change: float | None, known: Components, alpha: float, power: float
) -> int | None:
    if change is None:
        return None
    return rounds_to_detect(change, known.round_sd, alpha=alpha, power=power, fixed=known.fixed)


def _equivalence(known: Components, rounds: int, margin: float | None) -> float:
    """The probability that no change is shown to be within the margin; 0 without one."""
    if margin is None:
        return 0.0
    sd = _whole_sd(known, rounds)
    if rounds > 1:
        return float(power_equivalence(0.0, sd, rounds, margin)[0])
    if sd == 0:
        return 1.0
    reach = margin / sd - float(t_quantile(_degrees(known), 0.975))
    return max(0.0, math.erf(reach / math.sqrt(2)))


def _detectable(known: Components, rounds: int, alpha: float) -> float:
    """The smallest effect found with 80 % power, by bisection to a thousandth of it."""
    sd = _whole_sd(known, rounds)
    if rounds < 2:
        # Of one visit to each side, with the spread known beforehand.
        degrees = _degrees(known)
        return float(t_quantile(degrees, 1 - alpha / 2) + t_quantile(degrees, 0.8)) * sd
    low, high = 0.0, 100 * sd
    while high - low > 1e-3 * high:
        middle = (low + high) / 2
        enough = power_difference(middle, sd, rounds, alpha=alpha) >= 0.8
        low, high = (low, middle) if enough else (middle, high)
    return high


def _whole_sd(known: Components, rounds: int) -> float:
    """The spread with which so many rounds would have the uncertainty that they do have."""
    return math.sqrt(known.round_sd**2 + rounds * known.fixed**2)


def _degrees(known: Components) -> float:
    """The degrees of freedom of a spread; as many as one likes where it is only stated."""
    return known.degrees or KNOWN_DEGREES


def _runs(cost: Cost, known: Components) -> int | None:
    if cost.run_seconds is None or cost.switch_seconds is None or np.isnan(known.run_variance):
        return None
    return best_runs(
        cost.switch_seconds, cost.run_seconds, known.run_variance, known.visit_variance
    )
