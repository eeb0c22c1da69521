"""Checked readings made into visits, runs and readings of the ledger."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from typing import TYPE_CHECKING

import numpy as np

from ferocal._version import __version__
from ferocal.intake.readings import Intake
from ferocal.ledger.batch import Batch, record_batch
from ferocal.ledger.records import SessionRecord, Trace
from ferocal.ledger.store import Ledger

if TYPE_CHECKING:
    from ferocal.study.load import Study


def join(parts: Sequence[Intake]) -> Intake:
    """Several intakes as one."""
    columns = {f.name: [getattr(part, f.name) for part in parts] for f in fields(Intake)}
    return Intake(**{name: np.concatenate(own) for name, own in columns.items()})


def make_batch(intake: Intake, study: Study, traces: Sequence[Trace] = ()) -> Batch:
    """Visits, runs and readings of an intake, in the order of its rows.

    Readings with a round or a named visit share that visit. Others are taken for a visit
    of their own each, which is marked. Without a named run, the n-th reading of a metric
    in a visit belongs to its n-th run. Traces are of the first run.
    """
    metrics = study.metrics()
    workloads = [workload for workload, _, _ in metrics]
    codes = {name: n for n, name in enumerate(study.workloads)}
    workload_of = np.array([codes[w] for w in workloads])[intake.series_of]
    rounds = np.nan_to_num(intake.round, nan=-1).astype(np.int64)
    known = (rounds > 0) | ~np.equal(intake.visit, "").astype(bool)
    visit_of, run_of, names_of_runs = _group(intake, workload_of, rounds, known)
    first_of_run = np.unique(run_of, return_index=True)[1]
    first_of_visit = np.unique(visit_of, return_index=True)[1]
    names = [c.name for c in study.configurations]
    levels = [c.levels for c in study.configurations]
    configuration_of = intake.configuration_of[first_of_visit].tolist()
    return Batch(
        bench=study.bench,
        visits=[
            (names[c], levels[c], r if r > 0 else None, at, bool(k))
            for c, r, at, k in zip(
                configuration_of,
                rounds[first_of_visit].tolist(),
                intake.started_at[first_of_visit].tolist(),
                known[first_of_visit].tolist(),
                strict=True,
            )
        ],
        run_visit=visit_of[first_of_run],
        run_workload=[workloads[s] for s in intake.series_of[first_of_run].tolist()],
        run_number=_numbers(names_of_runs[first_of_run]),
        run_started=intake.started_at[first_of_run].tolist(),
        run_excluded=intake.excluded[first_of_run].tolist(),
        metrics=[(workload, name, metric.unit) for workload, name, metric in metrics],
        reading_run=run_of,
        reading_metric=intake.series_of,
        columns=[intake.value, intake.samples, intake.low, intake.high, intake.resolution],
        traces=list(traces),
    )


def _group(
    intake: Intake, workload_of: np.ndarray, rounds: np.ndarray, known: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For every reading its visit and its run, in order of appearance, and what that is called."""
    import pandas as pd

    frame = pd.DataFrame(
        {"c": intake.configuration_of, "r": rounds, "v": intake.visit, "w": workload_of}
    )
    place = frame.assign(s=intake.series_of).groupby(["c", "r", "v", "s"], sort=False).cumcount()
    frame["unnamed"] = np.equal(intake.run, "").astype(bool)
    frame["run"] = np.where(frame["unnamed"], (place + 1).astype(str), intake.run)
    run_of = frame.groupby(["c", "r", "v", "w", "run", "unnamed"], sort=False).ngroup().to_numpy()
    frame["own"] = np.where(known, -1, run_of)
    visit_of = frame.groupby(["c", "r", "v", "own"], sort=False).ngroup().to_numpy()
    return visit_of, run_of, frame["run"].to_numpy(dtype=object)


def _numbers(texts: np.ndarray) -> list[int]:
    """The number of every run: what it is called if that is a number, else its place."""
    return [int(t) if t.isdecimal() and len(t) < 9 else n for n, t in enumerate(texts, 1)]


def record(
    ledger: Ledger, batch: Batch, *, kind: str, source: str, digest: str | None = None
) -> dict[str, int]:
    """Record a batch in one transaction; how many visits, runs and readings that made.

    Raises
    ------
    LedgerError
        When the ledger cannot be written; it is then as it was.
    """
    session = SessionRecord(__version__, {}, 0, False, kind, source, digest)
    record_batch(ledger, session, batch)
    return batch.counts
