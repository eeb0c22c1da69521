"""One session of measuring: the part of a plan that is still to be done."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass

from filelock import FileLock, Timeout

from ferocal.bench.commands import prepare
from ferocal.bench.execution import Completed, Executor
from ferocal.bench.facts import probe_facts
from ferocal.bench.verification import CheckResult, verify
from ferocal.errors import FerocalError, VerificationError
from ferocal.ledger.records import Ending, Outcome, Slot, VisitRecord
from ferocal.ledger.store import Ledger
from ferocal.measure.extract import ExtractionError, extract_values
from ferocal.measure.progress import Observer, Summary
from ferocal.plan.order import PlannedVisit, plan_rounds
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.model import Workload

LOCK_FILE = "measure.lock"


@dataclass(frozen=True)
class _Visit:
    """A visit under way."""

    id: int
    configuration: Configuration
    context: dict[str, str]


def slots_of(study: Study, planned: PlannedVisit) -> list[Slot]:
    """The runs of a planned visit, in order."""
    return [
        Slot(planned.round, planned.configuration, workload, number)
        for workload in study.workloads
        for number in range(1, study.head.runs + 1)
    ]


@contextmanager
def measuring_lock(study: Study) -> Iterator[None]:
    """Hold the right to measure in a study.

    Raises
    ------
    FerocalError
        When another process holds it.
    """
    lock = FileLock(study.directory / LOCK_FILE)
    try:
        lock.acquire(blocking=False)
    except Timeout:
        raise FerocalError(
            f"{study.directory}: another `ferocal measure` is at work in this study; "
            "wait for it to end, or end it"
        ) from None
    except OSError as error:
        raise FerocalError(f"{study.directory}: cannot be written: {error.strerror}") from None
    try:
        yield
    finally:
        lock.release()


class Session:
    """Carries out what is left of the plan, one visit after the other."""

    def __init__(
        self, study: Study, ledger: Ledger, executor: Executor, observer: Observer
    ) -> None:
        self._study = study
        self._ledger = ledger
        self._executor = executor
        self._observer = observer

    def carry_out(self, rounds: int, *, retry: bool = False) -> Summary:
        """Take all runs of ``rounds`` rounds that are not there yet.

        With ``retry``, runs that failed or overran are taken again. Ctrl-C ends the
        session after the run in progress has been recorded as interrupted.

        Raises
        ------
        VerificationError
            When a configuration is not active; nothing is run in it.
        """
        names = [configuration.name for configuration in self._study.configurations]
        visits = plan_rounds(names, rounds, self._study.head.seed)
        crashed = self._ledger.close_interrupted()
        settled = self._ledger.settled(failures=not retry)
        todo = {visit: self._open_slots(visit, settled) for visit in visits}
        total = len(visits) * len(self._study.workloads) * self._study.head.runs
        summary = Summary(total, total - sum(map(len, todo.values())), resumed_after_crash=crashed)
        self._observer.planned(summary.planned, summary.already)
        try:
            for planned, slots in todo.items():
                if slots:
                    self._observer.visiting(planned.round, rounds, planned.configuration)
                    self._make_visit(planned, slots, summary)
        except KeyboardInterrupt:
            summary.interrupted = True
        return summary

    def _open_slots(self, visit: PlannedVisit, settled: set[Slot]) -> list[Slot]:
        return [slot for slot in slots_of(self._study, visit) if slot not in settled]

    def _make_visit(self, planned: PlannedVisit, slots: list[Slot], summary: Summary) -> None:
        visit = self._begin_visit(planned)
        for name, workload in self._study.workloads.items():
            wanted = [slot for slot in slots if slot.workload == name]
            if not wanted:
                continue
            for number in range(1, workload.warmups + 1):
                self._observer.running(name, warmup=True)
                slot = Slot(planned.round, planned.configuration, name, number)
                self._take(visit, slot, workload, warmup=True)
            for slot in wanted:
                self._observer.running(name, warmup=False)
                ending = self._take(visit, slot, workload, warmup=False)
                summary.taken += 1
                if ending.reason is not None:
                    summary.problems.append((slot, ending.reason))
                self._observer.finished(slot, ending.reason)

    def _begin_visit(self, planned: PlannedVisit) -> _Visit:
        configuration = self._study.configuration(planned.configuration)
        context = {
            "FEROCAL_CONFIGURATION": configuration.name,
            "FEROCAL_ROUND": str(planned.round),
            "FEROCAL_VISIT": str(planned.position),
        }
        checks = verify(self._executor, configuration, self._study.directory, context)
        failed = [check for check in checks if not check.holds]
        visit_id = self._ledger.begin_visit(
            VisitRecord(
                bench=self._study.bench,
                configuration=configuration.name,
                levels=configuration.levels,
                round=planned.round,
                position=planned.position,
                state="not active" if failed else "active",
                checks=[asdict(check) for check in checks],
                facts={"declared": dict(self._study.declared_facts), **asdict(probe_facts())},
            )
        )
        if failed:
            raise _not_active(planned, failed)
        return _Visit(visit_id, configuration, context)

    def _take(self, visit: _Visit, slot: Slot, workload: Workload, *, warmup: bool) -> Ending:
        run_id = self._ledger.begin_run(visit.id, slot, warmup=warmup)
        configuration = visit.configuration
        environment = {**visit.context, **workload.environment, **configuration.environment}
        invocation = prepare(workload, self._study.directory, environment, configuration.prefix)
        try:
            completed = self._executor.run(invocation)
        except KeyboardInterrupt:
            self._ledger.end_run(run_id, Ending(Outcome.INTERRUPTED, "interrupted with Ctrl-C"))
            raise
        ending = conclude(slot.workload, workload, completed, warmup=warmup)
        self._ledger.end_run(run_id, ending)
        return ending


def conclude(name: str, workload: Workload, completed: Completed, *, warmup: bool) -> Ending:
    """What a run came to: its outcome, why, and its readings (none of a warm-up)."""
    outcome, reason = Outcome.OK, completed.failure
    values = []
    if reason is not None:
        outcome = Outcome.OVERRAN if completed.ended_for == "overran" else Outcome.FAILED
        complaint = completed.stderr.decode("utf-8", "replace").strip()[-400:]
        reason = f"{reason}: {complaint}" if complaint else reason
    elif not warmup:
        try:
            values = extract_values(name, workload.metric, completed)
        except ExtractionError as error:
            outcome, reason = Outcome.FAILED, str(error)
    streams = {
        "stdout": (completed.stdout, completed.stdout_size),
        "stderr": (completed.stderr, len(completed.stderr)),
    }
    kept = {name: stream for name, stream in streams.items() if stream[1]}
    return Ending(outcome, reason, completed.wall, values, kept)


def _not_active(planned: PlannedVisit, failed: list[CheckResult]) -> VerificationError:
    lines = "\n".join(f"  {check}" for check in failed)
    return VerificationError(
        f'configuration "{planned.configuration}" is not active in round {planned.round}; '
        f"nothing was run in it\n{lines}\n"
        "bring the setting into force, then run `ferocal measure` again"
    )
