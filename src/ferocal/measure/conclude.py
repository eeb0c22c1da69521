"""The result of a run."""

from __future__ import annotations

from ferocal.bench.execution import Completed
from ferocal.bench.limits import TooLongError, time_limit
from ferocal.ledger.records import Ending, Outcome, Value
from ferocal.measure.extract import ExtractionError, extract_values
from ferocal.measure.traces import Written
from ferocal.study.model import Workload
from ferocal.terms.wording import first_line, listed
from ferocal.traces.capture import Trace


def conclude_run(
    name: str,
    workload: Workload,
    completed: Completed,
    *,
    warmup: bool,
    written: Written,
) -> Ending:
    """Build a run's result: its outcome, the reason, and its readings (none of a warm-up)."""
    outcome, reason = _outcome_of(workload, completed)
    values: list[Value] = []
    traces: list[Trace] = []
    if outcome == Outcome.OK and not warmup:
        written.fetch()
        try:
            with time_limit(workload.timeout):
                values, traces = extract_values(name, workload.read, completed, written)
        except TooLongError as error:
            outcome = Outcome.FAILED
            reason = (
                f"reading its results {error}, the time limit of the workload: make its patterns "
                "simpler, or have it write less"
            )
        except ExtractionError as error:
            outcome, reason = Outcome.FAILED, str(error)
        except Exception as error:  # a session of days does not end for one odd output
            outcome = Outcome.FAILED
            reason = f"its output cannot be read: {type(error).__name__}: {first_line(error)}"
    streams = {
        "stdout": (completed.stdout, completed.stdout_size),
        "stderr": (completed.stderr, len(completed.stderr)),
    }
    kept = {name: stream for name, stream in streams.items() if stream[1]}
    return Ending(
        outcome,
        reason,
        completed.wall,
        values,
        traces=traces,
        streams=kept,
        exit_status=completed.exit_status,
    )


def _outcome_of(workload: Workload, completed: Completed) -> tuple[Outcome, str | None]:
    """How the command itself ended, and why that is not a success."""
    reason = completed.failure
    if reason is not None:
        outcomes = {"timeout": Outcome.TIMEOUT, "connection": Outcome.INTERRUPTED}
        outcome = outcomes.get(completed.ended_for or "", Outcome.FAILED)
        return outcome, f"{reason}: {completed.complaint}" if completed.complaint else reason
    if completed.left_behind and (clocked := _process_sources(workload)):
        went = listed(completed.left_behind)
        return Outcome.FAILED, (
            f"the command ended while {went} kept running in a separate session, so "
            f"{listed(clocked)} is not that of the work; keep it in the foreground"
        )
    return Outcome.OK, None


def _process_sources(workload: Workload) -> list[str]:
    """What is read of the processes of a run themselves."""
    return [m.source for m in workload.metric.values() if isinstance(m.source, str)]
