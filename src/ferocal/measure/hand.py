"""Readings by hand: an operator is asked for every one of them."""

from __future__ import annotations

from statistics import median

from ferocal.errors import HoldError
from ferocal.ledger.reading.runs import read_values
from ferocal.ledger.records import Ending, Outcome, Slot, Value
from ferocal.ledger.store import Ledger
from ferocal.measure.progress import Answer, Observer, Question
from ferocal.study.load import Study
from ferocal.study.model import Workload


class Hand:
    """Asks the operator for the readings of a run."""

    def __init__(self, study: Study, ledger: Ledger, observer: Observer) -> None:
        self._study = study
        self._ledger = ledger
        self._observer = observer

    def complete(self, ending: Ending, slot: Slot, workload: Workload) -> Ending:
        """The ending of a run, with the readings of the operator.

        A reading that the operator calls failed makes the run a failed one.

        Raises
        ------
        HoldError
            When there is nobody to ask.
        KeyboardInterrupt
            When the operator ends the session at a question.
        """
        values = list(ending.values)
        for name, metric in workload.asked.items():
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
            )
            answer = self._observer.ask(question)
            if answer is None:
                raise HoldError(
                    f"{slot.workload} is read by an operator, and none is here: run "
                    "`ferocal measure` in a terminal; it goes on from here"
                )
            if answer.reading is None:
                return Ending(Outcome.FAILED, answer.reason, ending.wall, streams=ending.streams)
            values.append(_value(slot.workload, name, metric.unit, answer, metric.step))
        return Ending(
            ending.outcome,
            ending.reason,
            ending.wall,
            values,
            ending.traces,
            ending.streams,
            ending.exit_status,
        )


def _value(workload: str, name: str, unit: str, answer: Answer, resolution: float | None) -> Value:
    reading = answer.reading
    assert reading is not None
    return Value(
        workload,
        name,
        unit,
        reading.value,
        low=reading.low,
        high=reading.high,
        resolution=resolution,
    )
