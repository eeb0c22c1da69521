"""Measuring until it is decided: rounds, a look, and more rounds while something is open."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from ferocal.analysis.inference.looks import plan_looks
from ferocal.errors import UsageError
from ferocal.ledger.store import Ledger
from ferocal.measure.campaign import on_bench
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Options, Session
from ferocal.plan.order import plan_study
from ferocal.study.load import Study

DEFAULT_ROUNDS = 20


# Names the effects that count and are not decided yet.
Judge = Callable[[Study, Ledger], list[str]]


def measure_until_decided(
    study: Study,
    observer: Observer,
    options: Options,
    judge: Judge,
    *,
    most_rounds: int = DEFAULT_ROUNDS,
) -> Summary:
    """Measure whole rounds, look, and stop when nothing that counts is open.

    Each look is recorded before ``judge`` is asked, so that it knows with which level it has
    to judge.

    Raises
    ------
    UsageError
        When looks are not calibrated for so many rounds, or the schedule has no rounds.
    FerocalError
        What `on_bench` and `Session.carry_out` raise.
    """
    try:
        looks = plan_looks(most_rounds)
    except ValueError as error:
        raise UsageError(f"--decide with --rounds: {error}") from None
    plan_study(study, most_rounds)
    with on_bench(study, observer, options, rounds=most_rounds, decide=True) as (
        recorder,
        executor,
    ):
        total = Summary(0, 0)
        for look in looks.rounds:
            session = Session(study, recorder, executor, observer, options)
            total = _add(total, session.carry_out(plan_study(study, look), rounds=most_rounds))
            if total.remaining:
                return total
            recorder.record_look(study.bench, look, most_rounds)
            undecided = judge(study, recorder.ledger)
            if not undecided:
                observer.remark(f"look after round {look}: everything is decided")
                return total
            observer.remark(f"look after round {look}: still open: {', '.join(undecided)}")
    return total


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
        retaken=total.retaken + later.retaken,
    )
