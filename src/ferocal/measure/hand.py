"""Readings by hand: an operator is asked for every one of them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from statistics import median

from ferocal.errors import HoldError
from ferocal.intake.trace_files import read_capture
from ferocal.intake.typed import TypedReading
from ferocal.ledger.reading.runs import ID_LENGTH, read_values, workload_of_run
from ferocal.ledger.records import Absence, Ending, Note, Outcome, Slot, Value
from ferocal.ledger.writing.additions import add_note, correct_reading
from ferocal.ledger.writing.store import WritableLedger
from ferocal.measure.progress import Answer, Observer, Question
from ferocal.measure.traces import summarise_captures
from ferocal.study.load import Study
from ferocal.study.metrics import Metric
from ferocal.study.model import Workload
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import counted
from ferocal.traces.capture import Trace, TraceError

_TYPED_AGAIN = "typed again by the operator"


@dataclass
class _Answered:
    """What one metric of a run came to."""

    values: list[Value]
    absences: list[Absence]
    traces: list[Trace]
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Last:
    """The last reading of the run before, to which the operator may return."""

    run_id: int
    slot: Slot
    workload: Workload
    name: str


class Hand:
    """Asks the operator for the readings of a run."""

    def __init__(self, study: Study, ledger: WritableLedger, observer: Observer) -> None:
        self._study = study
        self._ledger = ledger
        self._observer = observer
        self._last: _Last | None = None
        self._notes: list[str] = []

    def complete(
        self,
        ending: Ending,
        slot: Slot,
        workload: Workload,
        keep: Callable[[Ending], None],
        known: Collection[str] = (),
    ) -> Ending:
        """The ending of a run, with the readings of the operator.

        What the operator cannot read is absent, with the reason; the other readings count.
        Whenever something was answered, ``keep`` gets the ending that the run has without the
        rest. What is ``known`` is not asked for.

        Raises
        ------
        HoldError
            When there is no operator to ask.
        KeyboardInterrupt
            When the operator ends the session at a question.
        """
        asked = [(name, metric) for name, metric in workload.asked.items() if name not in known]
        found: list[_Answered] = []
        while len(found) < len(asked):
            name, metric = asked[len(found)]
            answered = self._ask(slot, workload, name, metric, may_go_back=bool(found))
            if answered is not None:
                found.append(answered)
            elif found:
                found.pop()
            else:
                self._return_to_last()
            so_far = _with(ending, found)
            if left := len(asked) - len(found):
                reason = f"the operator had not given {counted(left, 'reading')} yet"
                so_far = replace(so_far, outcome=Outcome.INTERRUPTED, reason=reason)
            keep(so_far)
        self._notes = [note for part in found for note in part.notes]
        return _with(ending, found)

    def remember(self, run_id: int, slot: Slot, workload: Workload, ending: Ending) -> None:
        """Remember which reading was typed last, now that it is recorded; keep the remarks."""
        for note in self._notes:
            uid, _ = workload_of_run(self._ledger, run_id)
            add_note(self._ledger, Note(note, run=uid[:ID_LENGTH]))
        self._notes = []
        typed = [v.metric for v in ending.values if v.metric in workload.asked]
        typed = [name for name in typed if workload.metric[name].kind == "value"]
        self._last = _Last(run_id, slot, workload, typed[-1]) if typed else None

    def _return_to_last(self) -> None:
        """Ask once more for the last reading of the run before, and correct it."""
        last, self._last = self._last, None
        if last is None:
            self._observer.remark("no previous reading")
            return
        metric = last.workload.metric[last.name]
        answered = self._ask(last.slot, last.workload, last.name, metric, may_go_back=False)
        if answered is not None and answered.values:
            correct_reading(self._ledger, last.run_id, answered.values[0], _TYPED_AGAIN)

    def _ask(
        self, slot: Slot, workload: Workload, name: str, metric: Metric, *, may_go_back: bool
    ) -> _Answered | None:
        """What an operator answers for one metric; None to go back to the one before."""
        fellows = read_values(
            self._ledger, self._study.bench, slot.configuration, slot.workload, name
        )
        question = Question(
            configuration=slot.configuration,
            workload=slot.workload,
            number=slot.number,
            runs=self._study.head.runs,
            instructions=workload.instructions,
            name=name,
            metric=metric,
            fellows=median(fellows) if fellows else None,
            file=metric.kind != "value",
            may_go_back=may_go_back or self._last is not None,
        )
        while True:
            answer = self._observer.ask(question)
            if answer is None:
                raise HoldError(
                    f"{slot.workload} needs an operator: run `ferocal measure` in a terminal, "
                    "which resumes here"
                )
            try:
                return self._understand(answer, slot, name, metric)
            except TraceError as error:
                self._observer.remark(str(error))

    def _understand(
        self, answer: Answer, slot: Slot, name: str, metric: Metric
    ) -> _Answered | None:
        if answer.back:
            return None
        if answer.mark is not None:
            gap = (slot.workload, name, metric.unit, answer.mark.mark, answer.mark.reason or None)
            return _Answered([], [Absence(*gap)], [])
        if answer.file is not None:
            path = self._study.directory / answer.file.expanduser()
            captures = [read_capture(path, metric)]
            values, traces = summarise_captures(slot.workload, name, metric, captures)
            return _Answered(values, [], traces)
        assert answer.reading is not None
        value = _value(slot.workload, name, metric, answer.reading)
        note = answer.reading.remark
        return _Answered([value], [], [], (f"{name}: {note}",) if note else ())


def _with(ending: Ending, found: Sequence[_Answered]) -> Ending:
    return replace(
        ending,
        values=[*ending.values, *(value for part in found for value in part.values)],
        absences=[gap for part in found for gap in part.absences],
        traces=[*ending.traces, *(trace for part in found for trace in part.traces)],
    )


def _value(workload: str, name: str, metric: Metric, reading: TypedReading) -> Value:
    return Value(
        workload,
        name,
        metric.unit,
        reading.value,
        low=reading.low,
        high=reading.high,
        resolution=metric.step,
        bound=reading.bound,
        samples=reading.samples,
        statistic=reading.statistic or None,
    )
