"""What is otherwise than in an earlier bundle of the same study."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ferocal.analysis.inference.effects import Effect
from ferocal.answers.compare import Comparison
from ferocal.study.criteria import JUDGING, judging
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Turned:
    """An effect with another verdict than before."""

    before: Effect
    now: Effect


@dataclass(frozen=True)
class ChangedCriterion:
    """By what a metric is judged otherwise than before."""

    workload: str
    metric: str
    aspect: str
    before: Any
    now: Any


@dataclass(frozen=True)
class SinceAnswer:
    """What is otherwise than in an earlier bundle, which is the ledger ``source``.

    ``turned`` are verdicts that changed, ``kept`` counts those that did not. ``configurations``
    are new ones, ``removed`` those that are no more, ``metrics`` new comparisons of known ones.
    ``baseline`` has the baselines before and now where they differ.
    """

    source: str
    turned: tuple[Turned, ...]
    kept: int
    configurations: tuple[str, ...]
    removed: tuple[str, ...]
    new_effects: tuple[Effect, ...]
    criteria: tuple[ChangedCriterion, ...]
    baseline: tuple[str, str] | None


def compare_since(
    before: tuple[Study, Comparison], now: tuple[Study, Comparison], source: str
) -> SinceAnswer:
    """What changed from an earlier state of a study to the present one."""
    (old_study, old), (new_study, new) = before, now
    known = {_place(e): e for e in old.effects if not e.control}
    present = [e for e in new.effects if not e.control]
    common = [(known[_place(e)], e) for e in present if _place(e) in known]
    turned = tuple(Turned(a, b) for a, b in common if a.verdict is not b.verdict)
    measured = {e.configuration for e in known.values()}
    return SinceAnswer(
        source=source,
        turned=turned,
        kept=len(common) - len(turned),
        configurations=tuple(
            dict.fromkeys(e.configuration for e in present if e.configuration not in measured)
        ),
        removed=tuple(sorted(measured - {e.configuration for e in present})),
        new_effects=tuple(
            e for e in present if _place(e) not in known and e.configuration in measured
        ),
        criteria=tuple(_changed(old_study, new_study)),
        baseline=(old.baseline, new.baseline) if old.baseline != new.baseline else None,
    )


def _place(effect: Effect) -> tuple[str, str, str, str]:
    series = effect.series
    return effect.bench, series.workload, series.metric, effect.configuration


def _changed(old: Study, new: Study) -> Iterator[ChangedCriterion]:
    known = {(workload, name): metric for workload, name, metric in old.metrics()}
    for workload, name, metric in new.metrics():
        if (workload, name) in known:
            before, now = judging(old, known[workload, name]), judging(new, metric)
            for aspect in JUDGING:
                if before[aspect] != now[aspect]:
                    yield ChangedCriterion(workload, name, aspect, before[aspect], now[aspect])
