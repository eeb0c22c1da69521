"""Measuring until it is decided: rounds, a look, and more rounds while something is open."""

from __future__ import annotations

from dataclasses import replace

from ferocal.analysis.effects import Effect
from ferocal.analysis.looks import plan_looks
from ferocal.analysis.verdicts import Verdict
from ferocal.comparison import compare
from ferocal.errors import UsageError
from ferocal.evidence import gather
from ferocal.ledger.store import Ledger
from ferocal.measure.campaign import on_bench
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Options, Session
from ferocal.plan.order import plan_study
from ferocal.study.load import Study

DEFAULT_LIMIT = 20


def measure_until_decided(
    study: Study, observer: Observer, options: Options, *, limit: int = DEFAULT_LIMIT
) -> Summary:
    """Measure whole rounds, look, and stop when every primary metric is decided.

    Without primary metrics all of them count. Each look is recorded, so that the
    comparison knows with which level it has to judge.

    Raises
    ------
    UsageError
        When looks are not calibrated for the limit, or the schedule has no rounds.
    FerocalError
        What `on_bench` and `Session.carry_out` raise.
    """
    try:
        looks = plan_looks(limit)
    except ValueError as error:
        raise UsageError(f"--decide with --rounds: {error}") from None
    plan_study(study, limit)
    with on_bench(study, rounds=limit, decide=True) as (ledger, executor):
        total = Summary(0, 0)
        for look in looks.rounds:
            session = Session(study, ledger, executor, observer, options)
            total = _add(total, session.carry_out(plan_study(study, look), rounds=limit))
            if total.remaining:
                return total
            undecided = _undecided(study, ledger, look, limit)
            if not undecided:
                observer.remark(f"look after round {look}: everything is decided")
                return total
            observer.remark(f"look after round {look}: still open: {', '.join(undecided)}")
    return total


def _undecided(study: Study, ledger: Ledger, look: int, limit: int) -> list[str]:
    """Record a look; the names of those effects that count and are not decided yet."""
    ledger.record_look(look, limit)
    effects = compare(study, gather(study, ledger)).effects
    own = [effect for effect in effects if not effect.control]
    counting = [effect for effect in own if effect.series.primary] or own
    return [_name(e) for e in counting if e.verdict is Verdict.INCONCLUSIVE]


def _name(effect: Effect) -> str:
    return f"{effect.configuration} on {effect.series.workload} {effect.series.metric}"


def _add(total: Summary, later: Summary) -> Summary:
    """Two parts of one session as one; the later plan holds the earlier one."""
    return replace(
        later,
        already=later.already - total.taken,
        taken=total.taken + later.taken,
        problems=total.problems + later.problems,
        not_active=total.not_active + later.not_active,
        skipped=total.skipped + later.skipped,
        resumed_after_crash=total.resumed_after_crash + later.resumed_after_crash,
    )
