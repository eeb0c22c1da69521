"""One session of measuring: the part of a plan that is still to be done."""

from __future__ import annotations

import itertools
import time
from collections.abc import Sequence
from dataclasses import asdict

from ferocal.bench.execution import FINDS_STRAYS
from ferocal.bench.machine import Machine
from ferocal.bench.verification import CheckResult, needs_observation, unobserved, verify
from ferocal.errors import FerocalError, HoldError, LedgerError, VerificationError
from ferocal.ledger.connecting import impatient
from ferocal.ledger.reading.planned import slots_of, wanted_metrics
from ferocal.ledger.reading.runs import settled_slots
from ferocal.ledger.records import Outcome, Slot, VisitRecord
from ferocal.ledger.writing.runs import Recorder
from ferocal.measure.journal import JOURNAL_FILE, take_in
from ferocal.measure.padding import random_padding, visit_context
from ferocal.measure.progress import MaskedObserver, Observer, Summary
from ferocal.measure.runs import RunTaker, Visit, add_checks
from ferocal.measure.settle import settle
from ferocal.measure.subjects import describe_subjects
from ferocal.measure.survey import Survey
from ferocal.measure.transition import SkipVisitError, StopSessionError, Transition
from ferocal.plan.order import PlannedVisit
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import first_line

_UNFOUND = "processes that a run leaves behind in a separate session"


@dataclass(frozen=True)
class Options:
    """How a session deals with what may happen.

    With ``retry``, runs that failed or timed out are taken again. With ``go_on`` a
    configuration that is not active is left out instead of ending the session. With
    ``in_place`` nothing is switched: the bench is in the wanted configuration. It begins no round
    that would not end ``within`` so many seconds, as far as those before it tell. With ``wait``
    another session on the bench is waited for. ``operator`` is who measures, if stated.
    """

    retry: bool = False
    go_on: bool = False
    in_place: bool = False
    within: float | None = None
    wait: bool = False
    operator: str | None = None


class _RoundClock:
    """Tells whether there is time for another round, by the longest one so far."""

    def __init__(self, within: float | None) -> None:
        self._within = within
        self._begun = self._round = time.monotonic()
        self._longest = 0.0
        self._rounds = 0

    def has_time(self) -> bool:
        """Whether another round can be begun; the one before it has ended."""
        now = time.monotonic()
        if self._rounds:
            self._longest = max(self._longest, now - self._round)
        self._rounds += 1
        self._round = now
        if self._within is None or self._rounds == 1:
            return True
        return now - self._begun + self._longest <= self._within


class Session:
    """Carries out what is left of the plan, one visit after the other."""

    def __init__(
        self,
        study: Study,
        recorder: Recorder,
        machine: Machine,
        observer: Observer,
        options: Options,
    ) -> None:
        self._study = study
        self._recorder = recorder
        self._machine = machine
        observer = MaskedObserver(observer, study.mask)
        self._observer = observer
        self._options = options
        self._transition = Transition(study, recorder, machine, observer)
        self._survey = Survey(study, recorder.ledger, machine)
        self._told_unknown = False
        self._prepared = False
        self._clock = _RoundClock(options.within)
        self._runs = RunTaker(study, recorder, machine, observer, self._survey)

    def carry_out(self, visits: Sequence[PlannedVisit], *, rounds: int) -> Summary:
        """Take all runs of these visits that are not there yet.

        Ctrl-C ends the session after the run in progress has been recorded as
        interrupted; so does an operator who stops at a hold point.

        Raises
        ------
        VerificationError
            When a configuration is not active, unless the session is to continue.
        BenchChangedError
            When a hardware fact is not what it was.
        FerocalError
            When a step fails, or an operator is needed and none is there.
        """
        told = take_in(self._recorder)
        if told is not None:
            self._observer.remark(told)
        crashed = self._recorder.close_interrupted()
        settled = settled_slots(
            self._recorder.ledger,
            self._study.bench,
            retry=self._options.retry,
            wanted=wanted_metrics(self._study),
        )
        todo = [(visit, self._open_slots(visit, settled)) for visit in visits]
        total = sum(len(slots_of(self._study, visit)) for visit in visits)
        left = sum(len(slots) for _, slots in todo)
        summary = Summary(total, total - left, resumed_after_crash=crashed)
        self._observer.planned(summary.planned, summary.already)
        self._tell_unknown(left)
        try:
            if left:
                self.prepare()
            for _, group in itertools.groupby(todo, key=lambda item: item[0].round):
                open_visits = [item for item in group if item[1]]
                if open_visits and not self._clock.has_time():
                    summary.out_of_time = True
                    break
                missed = self._attempt_all(open_visits, rounds, summary)
                # Once more within the round, where the others of the round are near in time.
                self._attempt_all(missed, rounds, summary)
        except StopSessionError:
            summary.stopped = True
        except HoldError:
            self._recorder.close_interrupted("no operator was there")
            raise
        except LedgerError:
            raise  # the next session closes what is open
        except FerocalError as error:
            self._recorder.close_interrupted(first_line(error))
            raise
        except KeyboardInterrupt as ended:
            self._close_after(ended)
            summary.interrupted = True
        return summary

    def _tell_unknown(self, left: int) -> None:
        """Say once what cannot be read on the bench."""
        host, here = self._study.bench_table.host, self._study.on_this_machine
        unknown = [*self._machine.unreadable, *([_UNFOUND] if here and not FINDS_STRAYS else [])]
        if left and unknown and not self._told_unknown:
            self._told_unknown = True
            where = "this machine" if host is None else host
            self._observer.remark(f"not available on {where}: {', '.join(unknown)}")

    def _close_after(self, ended: KeyboardInterrupt) -> None:
        """Record what is known of the run in progress, wherever in it the end came.

        Whoever wants to end it does not wait for others: what cannot be recorded now is in the
        journal, or closed by the next session.
        """
        try:
            with impatient():
                told = take_in(self._recorder)
                if told is not None:
                    self._observer.remark(told)
                self._recorder.close_interrupted(str(ended) or "interrupted with Ctrl-C")
        except LedgerError as error:
            journal = self._recorder.ledger.path.with_name(JOURNAL_FILE)
            kept = f", from {JOURNAL_FILE}" if journal.exists() else ""
            self._observer.remark(f"{error}; the next `ferocal measure` records the rest{kept}")

    def prepare(self) -> None:
        """Do what the study needs once in every session, unless it is done."""
        if not self._prepared:
            self._transition.prepare()
        self._prepared = True

    def _open_slots(self, visit: PlannedVisit, settled: set[Slot]) -> list[Slot]:
        return [slot for slot in slots_of(self._study, visit) if slot not in settled]

    def _attempt_all(
        self, visits: list[tuple[PlannedVisit, list[Slot]]], rounds: int, summary: Summary
    ) -> list[tuple[PlannedVisit, list[Slot]]]:
        """Make these visits; returns those whose configuration was not active."""
        missed = []
        for planned, slots in visits:
            self._observer.visiting(planned.round, rounds, planned.configuration)
            if not self._attempt(planned, slots, summary):
                missed.append((planned, slots))
        return missed

    def _attempt(self, planned: PlannedVisit, slots: list[Slot], summary: Summary) -> bool:
        """Make a visit; whether its configuration was active."""
        taken, problems = summary.taken, len(summary.problems)
        retaken = self._runs.retaken
        try:
            visit = self._begin_visit(planned)
            if not visit.failed:
                self._take_all(visit, slots, summary)
            if visit.failed:
                # Runs that were taken before a later check failed do not count.
                summary.taken = taken
                del summary.problems[problems:]
                self._transition.distrust(visit.configuration)
                raise _not_active(planned, visit.failed)
        except SkipVisitError:
            summary.skipped += 1
        except VerificationError as error:
            if not self._options.go_on:
                raise VerificationError(
                    f"{error}\nmake the setting take effect, then run `ferocal measure` again"
                ) from None
            summary.not_active.append(self._study.mask.text(str(error)))
            self._observer.remark(str(error))
            return False
        finally:
            summary.retaken += self._runs.retaken - retaken
        return True

    def _begin_visit(self, planned: PlannedVisit) -> Visit:
        study = self._study
        configuration = study.configuration(planned.configuration)
        context = visit_context(planned)
        switching = 0.0
        if self._options.in_place:
            self._transition.assume(configuration)
        else:
            switching = self._transition.bring(configuration, context)
        checks = verify(self._machine, configuration, context)
        failed = [check for check in checks if not check.holds]
        facts, remarks = self._survey.look(configuration, context)
        if not failed:
            remarks += settle(study.bench_table.settle, self._machine, self._observer)
        for remark in remarks:
            self._observer.remark(remark)
        padding = random_padding(study, planned)
        visit_id = self._recorder.begin_visit(
            VisitRecord(
                bench=study.bench,
                configuration=configuration.name,
                levels=configuration.levels,
                round=planned.round,
                position=planned.position,
                switching=switching,
                state="not active" if failed else "active",
                checks=[asdict(check) for check in checks],
                facts=[asdict(fact) for fact in facts],
                subjects=describe_subjects(study, self._machine, configuration, context),
                remarks=remarks,
                padding=padding,
            )
        )
        watched = set(study.workloads) if needs_observation(configuration) else set()
        return Visit(
            visit_id, planned, configuration, context, checks, watched, padding, failed=failed
        )

    def _take_all(self, visit: Visit, slots: list[Slot], summary: Summary) -> None:
        for name, workload in self._study.workloads.items():
            wanted = [slot for slot in slots if slot.workload == name]
            if not wanted:
                continue
            for number in range(1, workload.warmups + 1):
                slot = Slot(visit.planned.round, visit.configuration.name, name, number)
                self._runs.take_once(visit, slot, workload, warmup=True)
                if visit.failed:
                    return
            for slot in wanted:
                finished = self._runs.finish_by_hand(slot, workload)
                ending = finished or self._runs.take(visit, slot, workload)
                if visit.failed:
                    return
                # These are still to be taken.
                open_still = ending.outcome in (Outcome.DISTURBED, Outcome.INTERRUPTED)
                summary.taken += not open_still
                if ending.reason is not None:
                    summary.problems.append((slot, ending.reason))
                self._observer.finished(slot, ending.reason)
        self._end_visit(visit)

    def _end_visit(self, visit: Visit) -> None:
        after = verify(self._machine, visit.configuration, visit.context, when="after")
        add_checks(self._recorder, visit, after)
        unseen = sorted(visit.unobserved & visit.measured)
        if unseen:
            add_checks(
                self._recorder, visit, unobserved(visit.configuration, self._machine.place, unseen)
            )
        if not visit.failed:
            self._recorder.end_visit(visit.id)


def _not_active(planned: PlannedVisit, failed: list[CheckResult]) -> VerificationError:
    lines = "\n".join(f"  {check}" for check in failed)
    return VerificationError(
        f'configuration "{planned.configuration}" is not active in round {planned.round}; '
        f"the visit is set aside\n{lines}"
    )
