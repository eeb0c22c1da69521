"""Decision: what is still open when measuring continues until everything is decided."""

from __future__ import annotations

from ferocal.analysis.inference.effects import counting_effects
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.answers.compare import compare
from ferocal.answers.evidence import gather
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study


def name_undecided(study: Study, ledger: Ledger) -> list[str]:
    """The effects on the bench at hand that count and are not decided yet, by name.

    Effects of primary metrics count, or all of them where none is primary.
    """
    effects = compare(study, gather(study, ledger)).effects
    here = [effect for effect in effects if effect.bench == study.bench]
    return [
        f"{e.configuration} on {e.series.workload} {e.series.metric}"
        for e in counting_effects(here)
        if e.verdict is Verdict.INCONCLUSIVE
    ]
