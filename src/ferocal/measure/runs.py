"""Taking runs: what is done around each, who else was busy, and taking it again."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, replace
from typing import Any

from ferocal.bench.commands import prepare
from ferocal.bench.conditions import Busy, disturbance
from ferocal.bench.execution import Completed, Invocation
from ferocal.bench.machine import Machine
from ferocal.bench.verification import CheckResult, verify_reported, verify_running
from ferocal.ledger.reading.runs import incomplete_run
from ferocal.ledger.records import Ending, Outcome, Slot
from ferocal.ledger.writing.runs import Recorder
from ferocal.measure.conclude import conclude_run
from ferocal.measure.hand import Hand
from ferocal.measure.journal import journaled, keep_ending
from ferocal.measure.padding import Padding
from ferocal.measure.progress import Observer
from ferocal.measure.survey import Survey
from ferocal.measure.traces import Written
from ferocal.plan.order import PlannedVisit
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.masking import Mask
from ferocal.study.model import Step, Workload
from ferocal.terms.conditions import (
    BUSIEST_OTHERS,
    BUSY_RESOLUTION,
    BUSY_SHARE_OF_OTHERS,
    LEFT_BEHIND,
    PROCESSORS_ALLOWED,
    STOLEN_SHARE,
    UTILISATION,
)
from ferocal.terms.wording import listed

# A run during which the connection to the bench was lost is taken again, so often.
_MOST_LOST = 100


@dataclass
class Visit:
    """A visit under way.

    ``unobserved`` are the workloads whose processes are still to be looked at, ``measured`` those
    of which there is a run that counts.
    """

    id: int
    planned: PlannedVisit
    configuration: Configuration
    context: dict[str, str]
    checks: list[CheckResult]
    unobserved: set[str]
    padding: int | None
    runs: int = 0
    measured: set[str] = field(default_factory=set)
    failed: list[CheckResult] = field(default_factory=list)


class RunTaker:
    """Takes the runs of visits, one by one, and records each."""

    def __init__(
        self,
        study: Study,
        recorder: Recorder,
        machine: Machine,
        observer: Observer,
        survey: Survey,
    ) -> None:
        self._study = study
        self._recorder = recorder
        self._machine = machine
        self._observer = observer
        self._survey = survey
        self._hand = Hand(study, recorder.ledger, observer)
        self._meter = machine.meter()
        self._padding = Padding(study, machine.place)
        self._told: set[str] = set()
        self.retaken = 0

    def finish_by_hand(self, slot: Slot, workload: Workload) -> Ending | None:
        """Ask for the rest of a run that was left incomplete; None where there is none.

        Its command is not run again: what was read of it was read of that execution.
        """
        begun = incomplete_run(self._recorder.ledger, self._study.bench, slot)
        if begun is None or not workload.asked:
            return None
        kept = listed([f"{name} = {text}" for name, text in begun.read.items()])
        self._observer.remark(
            f"{slot.workload}, run {slot.number}: {kept} was kept when an earlier session ended; "
            "only the rest is asked for"
        )
        self._recorder.begun = begun.uid
        rest = self._hand.complete(Ending(Outcome.OK), slot, workload, self._keep, begun.read)
        ending = _masked(rest, self._study.mask)
        with journaled(self._recorder, ending):
            self._recorder.complete_run(begun.id, ending)
        self._hand.remember(begun.id, slot, workload, ending)
        return ending

    def _keep(self, ending: Ending) -> None:
        """Keep what an operator has answered of a run, whatever becomes of this session."""
        keep_ending(self._recorder, _masked(ending, self._study.mask))

    def take(self, visit: Visit, slot: Slot, workload: Workload) -> Ending:
        """Take a run; if it failed or was disturbed and may be retaken, take it again.

        Whether a run was disturbed depends on what others did meanwhile, never on its value.
        """
        left = {
            Outcome.DISTURBED: self._study.bench_table.quiet.retakes,
            Outcome.FAILED: workload.retakes,
            Outcome.TIMEOUT: workload.retakes,
            Outcome.INTERRUPTED: _MOST_LOST,
        }
        while True:
            ending = self.take_once(visit, slot, workload, warmup=False)
            if visit.failed or left.get(ending.outcome, 0) < 1:
                return ending
            left[ending.outcome] -= 1
            self.retaken += 1
            self._observer.remark(
                f"{slot.workload}, run {slot.number}: {ending.reason}; it is taken again"
            )

    def take_once(self, visit: Visit, slot: Slot, workload: Workload, *, warmup: bool) -> Ending:
        """Take one run, or warm up, and record it."""
        self._observer.running(slot.workload, warmup=warmup)
        visit.runs += 1
        configuration = visit.configuration
        environment = {**visit.context, **workload.environment, **configuration.environment}
        before, losses = self._conditions(environment), self._machine.losses
        run_id = self._recorder.begin_run(visit.id, slot, visit.runs, warmup=warmup)
        seen: dict[str, Any] = {}
        problem = self._around("before", workload.before, environment)
        if self._machine.losses > losses:
            ending = Ending(Outcome.INTERRUPTED, "the connection was lost before it began")
        elif problem is not None:
            ending = Ending(Outcome.FAILED, problem)
        elif workload.by_hand:
            ending = self._hand.complete(Ending(Outcome.OK), slot, workload, self._keep)
        else:
            ending, seen = self._carry_out(visit, slot, workload, environment, warmup=warmup)
            if workload.before and self._machine.losses > losses and ending.outcome == Outcome.OK:
                reason = "the connection was lost, and with it what was started before the run"
                ending = replace(ending, outcome=Outcome.INTERRUPTED, reason=reason)
        conditions = {"before": before, "after": self._conditions(environment), **seen}
        ending = _masked(replace(ending, conditions=conditions), self._study.mask)
        with journaled(self._recorder, ending):
            self._recorder.end_run(run_id, ending)
        if workload.asked and not warmup:
            self._hand.remember(run_id, slot, workload, ending)
        problem = self._around("after", workload.after, environment)
        if problem is not None:
            self._observer.remark(f"{slot.workload}, run {slot.number}: {problem}")
        if workload.before or workload.after:
            self._tell_of_unended(f"a step of {slot.workload}", self._machine.end_guests())
        return ending

    def _around(
        self, when: str, steps: tuple[Step, ...], environment: dict[str, str]
    ) -> str | None:
        """Do what belongs before or after a run; what failed, if anything did."""
        for step in steps:
            self._observer.doing(f"{when} the run")
            # What a run needs beside it lives until its last step is done.
            invocation = prepare(step, self._machine.place, environment, then="guest")
            for _ in range(step.retries + 1):
                completed = self._machine.run(invocation)
                if completed.failure is None:
                    break
            else:
                text = f"{when} it, `{' '.join(invocation.words)}` {completed.failure}"
                return f"{text}: {completed.complaint}" if completed.complaint else text
        return None

    def _carry_out(
        self,
        visit: Visit,
        slot: Slot,
        workload: Workload,
        environment: dict[str, str],
        *,
        warmup: bool,
    ) -> tuple[Ending, dict[str, Any]]:
        """Run the command of a workload; how it ended, and what was seen around it."""
        study, configuration, place = self._study, visit.configuration, self._machine.place
        invocation = prepare(workload, place, environment, configuration.prefix)
        invocation = replace(
            invocation,
            environment=self._padding.pad(invocation.environment, visit.padding),
            observe=slot.workload in visit.unobserved,
            once=True,
        )
        written = Written.by(self._machine, workload.read)
        completed, busy = self._execute(invocation)
        ending = conclude_run(slot.workload, workload, completed, warmup=warmup, written=written)
        self._tell_of_strays(slot.workload, completed)
        # A run that is over before it could be observed leaves that to the next one of the visit.
        if invocation.observe and completed.error is None and completed.processes != ():
            visit.unobserved.discard(slot.workload)
            results = verify_running(configuration, place, completed.processes)
            add_checks(self._recorder, visit, results)
        if completed.failure is None:
            add_checks(self._recorder, visit, verify_reported(configuration, completed))
        reason = disturbance(study.bench_table.quiet, busy)
        if visit.failed:
            ending = replace(ending, outcome=Outcome.NOT_ACTIVE, values=())
        elif reason is not None and ending.outcome == Outcome.OK:
            ending = replace(ending, outcome=Outcome.DISTURBED, reason=reason)
        elif workload.asked and not warmup and ending.outcome == Outcome.OK:
            ending = self._hand.complete(ending, slot, workload, self._keep)
        if ending.outcome == Outcome.OK and not warmup:
            visit.measured.add(slot.workload)
        return ending, _seen(completed, busy)

    def _execute(self, invocation: Invocation) -> tuple[Completed, Busy]:
        """Run to the end; the completed process, and how busy others were meanwhile."""
        self._meter.begin()
        completed = self._machine.run(invocation)
        return completed, self._meter.end(completed.cpu)

    def _tell_of_strays(self, workload: str, completed: Completed) -> None:
        self._tell_of_unended(workload, completed.unended)
        if completed.left_behind and workload not in self._told:
            self._told.add(workload)
            self._observer.remark(
                f"{workload} left {listed(completed.left_behind)} running in a separate "
                "session, beside later runs; it was ended"
            )

    def _tell_of_unended(self, who: str, names: tuple[str, ...]) -> None:
        if names:
            self._observer.remark(
                f"{who} left {listed(names)} running, which could not be ended: later runs may be "
                "disturbed"
            )

    def _conditions(self, environment: dict[str, str]) -> dict[str, Any]:
        return {**self._machine.conditions(), **self._survey.probe_conditions(environment)}


def _masked(ending: Ending, mask: Mask) -> Ending:
    """An ending without what is private in the study."""
    if not mask.texts:
        return ending
    return replace(
        ending,
        reason=mask.value(ending.reason),
        streams={name: (mask.data(kept), size) for name, (kept, size) in ending.streams.items()},
        absences=[replace(gap, reason=mask.value(gap.reason)) for gap in ending.absences],
        conditions=mask.value(ending.conditions),
    )


def add_checks(recorder: Recorder, visit: Visit, results: list[CheckResult]) -> None:
    """Keep later checks with their visit; set it aside when one of them fails.

    What held before and holds again is kept once.
    """
    held = {(check.level, check.expected) for check in visit.checks if check.holds}
    new = [c for c in results if not (c.holds and (c.level, c.expected) in held)]
    if not new:
        return
    visit.checks += new
    visit.failed += [check for check in new if not check.holds]
    kept = [asdict(check) for check in visit.checks]
    if visit.failed:
        recorder.set_aside(visit.id, kept)
    else:
        recorder.add_checks(visit.id, kept)


def _seen(completed: Completed, busy: Busy) -> dict[str, Any]:
    """What was seen of a run besides its readings, by the keys of the ledger."""
    processors, cpu = completed.processors, completed.cpu
    utilisation = None
    if cpu and processors and completed.wall > 0:
        utilisation = cpu / completed.wall / processors
    seen: dict[str, Any] = {
        BUSY_SHARE_OF_OTHERS: busy.others,
        BUSY_RESOLUTION: busy.resolution,
        STOLEN_SHARE: busy.stolen,
        BUSIEST_OTHERS: list(busy.names),
        PROCESSORS_ALLOWED: processors,
        UTILISATION: utilisation,
    }
    if completed.left_behind:
        seen[LEFT_BEHIND] = list(completed.left_behind)
    return seen
