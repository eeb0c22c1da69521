"""A new release against an earlier one: both in common rounds, none of the others again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ferocal.errors import UsageError
from ferocal.ledger.reading.visits import read_visits
from ferocal.ledger.store import Ledger
from ferocal.measure.campaign import on_bench
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Options, Session
from ferocal.plan.order import plan_rounds
from ferocal.study.load import Study


def measure_newest(
    study: Study,
    observer: Observer,
    options: Options,
    names: Sequence[str],
    *,
    rounds: int | None = None,
) -> Summary:
    """Take ``rounds`` common rounds of some configurations, by default as many as the study has.

    The newest is the first of ``names``; without another it is measured alone. Rounds that they
    have in common already count, whatever else was measured in them, and the others come after all
    that were measured. The errors are those of `on_bench` and `Session.carry_out`.

    Raises
    ------
    UsageError
        When the schedule has no rounds, since changes cannot be undone.
    """
    if study.head.schedule != "rounds":
        raise UsageError(
            f'the schedule is "{study.head.schedule}", which has no common rounds: take the new '
            "level alone with `ferocal measure`"
        )
    wanted = rounds or study.head.rounds
    with on_bench(study, observer, options, rounds=rounds) as (recorder, executor):
        before = _rounds_before(recorder.ledger, study.bench, names)
        visits = [
            replace(visit, round=visit.round + before)
            for visit in plan_rounds(sorted(names, key=study.names.index), wanted, study.head.seed)
        ]
        session = Session(study, recorder, executor, observer, options)
        return session.carry_out(visits, rounds=visits[-1].round)


def _rounds_before(ledger: Ledger, bench: str, names: Sequence[str]) -> int:
    """The last round before those that these configurations have in common, or will have."""
    visits = [v for v in read_visits(ledger).values() if v.bench == bench and v.state == "active"]
    numbers = {
        name: {v.round for v in visits if v.configuration == name and v.round is not None}
        for name in names
    }
    last = max((v.round for v in visits if v.round is not None), default=0)
    newest = numbers[names[0]]
    common = set.intersection(*numbers.values())
    if common:
        return min(common) - 1
    # Its first visit was made, and then the session ended.
    return last - 1 if last in newest else last
