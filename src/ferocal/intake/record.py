"""Checked readings made into visits, runs and readings of the ledger."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal._version import __version__
from ferocal.errors import IntakeError
from ferocal.intake.columns import combine, repeats
from ferocal.intake.readings import DAY, ID, Intake
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.sessions import find_load
from ferocal.ledger.reading.visits import NamedVisit, read_named_visits
from ferocal.ledger.records import SessionRecord
from ferocal.ledger.store import Ledger
from ferocal.ledger.writing.additions import freeze_claims
from ferocal.ledger.writing.batch import Batch, BatchAbsence, BatchVisit, record_batch
from ferocal.ledger.writing.store import WritableLedger
from ferocal.study.claims import claims_of
from ferocal.study.criteria import criteria_of
from ferocal.traces.capture import Trace

if TYPE_CHECKING:
    from ferocal.study.load import Study


# By the name of a run, the workload and the trace of each capture.
TracesOfRuns = Mapping[str, Sequence[tuple[str, Trace]]]


def make_batch(
    intake: Intake, study: Study, traces: TracesOfRuns | None = None, *, renew: bool = False
) -> Batch:
    """Visits, runs and readings of an intake, in the order of its rows.

    Readings with a round or a named visit share that visit. Each of the others is
    taken for a separate visit, which is marked. Without a named run, the n-th reading of a metric
    in a visit belongs to its n-th run. Traces go to the first run of their name and workload.
    Runs that are named by an id, as exported ones are, keep it unless ``renew`` is true.
    """
    metrics = study.read_metrics()
    workloads = [workload for workload, _, _ in metrics]
    visit_of, run_of, number = _group(intake, study)
    first_of_run, first_of_visit = (np.flatnonzero(~repeats(codes)) for codes in (run_of, visit_of))
    run_workload = [workloads[s] for s in intake.series_of[first_of_run].tolist()]
    run_names = intake.run.at(first_of_run)
    kept = _attached(zip(run_names, run_workload, strict=True), traces or {})
    marked = any(intake.mark.names)
    read = np.flatnonzero(~intake.mark.given) if marked else slice(None)
    return Batch(
        visits=_visits(intake, study, visit_of, first_of_visit),
        run_visit=visit_of[first_of_run],
        run_uid=[""] * len(run_names) if renew else _ids(run_names),
        run_workload=run_workload,
        run_number=number[first_of_run].tolist(),
        run_started=intake.started_at.at(first_of_run),
        run_excluded=intake.excluded.at(first_of_run),
        metrics=[(workload, name, metric.unit) for workload, name, metric in metrics],
        reading_run=run_of[read],
        reading_metric=intake.series_of[read],
        columns=[
            column[read]
            for column in (intake.value, intake.samples, intake.low, intake.high, intake.resolution)
        ],
        texts=[
            labels.at(np.arange(len(intake.value))[read]) if any(labels.names) else None
            for labels in (intake.bound, intake.statistic)
        ],
        absences=[
            BatchAbsence(
                int(run_of[n]), int(intake.series_of[n]), intake.mark[n], intake.reason[n] or None
            )
            for n in (np.flatnonzero(intake.mark.given).tolist() if marked else ())
        ],
        traces=kept,
        notes=_notes(intake, run_of),
        run_ambient=_ambient_of_runs(intake, run_of, len(run_names)),
    )


def _notes(intake: Intake, run_of: np.ndarray) -> list[tuple[int, str, str]]:
    """What was remarked, with the place of the run and the source, each once."""
    if not any(intake.note.names) and not any(intake.source.names):
        return []
    rows = np.flatnonzero(intake.note.given | intake.source.given)
    columns = (run_of[rows].tolist(), intake.note.at(rows), intake.source.at(rows))
    return list(dict.fromkeys(zip(*columns, strict=True)))


def _ambient_of_runs(intake: Intake, run_of: np.ndarray, count: int) -> dict[int, float]:
    """By place of the run the temperature around the bench, where it is known."""
    rows = np.flatnonzero(~np.isnan(intake.ambient))
    return dict(zip(run_of[rows].tolist(), intake.ambient[rows].tolist(), strict=True))


def _stated_of_visits(
    intake: Intake, study: Study, visit_of: np.ndarray
) -> list[tuple[int, str, str, str]]:
    """By visit, the workload with the version and the architecture that a file states of it."""
    stated = intake.version.given | intake.architecture.given
    if not stated.any():
        return []
    rows = np.flatnonzero(stated)
    names = [workload for workload, _, _ in study.read_metrics()]
    columns = (
        visit_of[rows].tolist(),
        [names[s] for s in intake.series_of[rows].tolist()],
        intake.version.at(rows),
        intake.architecture.at(rows),
    )
    return list(dict.fromkeys(zip(*columns, strict=True)))


# How it is called that a level was active because a table says so.
AS_STATED = "as stated by the file"


def _visits(
    intake: Intake, study: Study, visit_of: np.ndarray, first: np.ndarray
) -> list[BatchVisit]:
    """The visits, each as the ``first`` of its rows has it, with what the file states of them."""
    visits = _bare_visits(intake, study, visit_of, first)
    for place, workload, version, architecture in _stated_of_visits(intake, study, visit_of):
        visit = visits[place]
        if version:
            subject = {"arguments": [], "version": version, "files": {}, "statistics": {}}
            visit.subjects[workload] = subject
        if architecture:
            fact = {"name": "architecture of programs", "value": architecture, "kind": "software"}
            if fact not in visit.facts:
                visit.facts.append(fact)
        seen = f"{workload} {version}" if version else architecture
        for factor, level in visit.levels.items():
            check = {"level": f"{factor}={level}", "expected": AS_STATED, "seen": seen}
            visit.checks.append({**check, "holds": True})
    return visits


def _bare_visits(
    intake: Intake, study: Study, visit_of: np.ndarray, first: np.ndarray
) -> list[BatchVisit]:
    columns = zip(
        intake.bench_of[first].tolist(),
        intake.configuration_of[first].tolist(),
        _round_of_visits(intake, visit_of, len(first)),
        intake.started_at.at(first),
        _knows_visit(intake, _sittings(intake))[first].tolist(),
        intake.visit.at(first),
        strict=True,
    )
    return [
        BatchVisit(
            bench=study.benches[bench],
            configuration=study.configurations[c].name,
            levels=study.configurations[c].levels,
            round=number if number > 0 else None,
            started_at=started_at,
            known=known,
            name=name or None,
        )
        for bench, c, number, started_at, known, name in columns
    ]


def _sittings(intake: Intake) -> np.ndarray:
    """By row, the date on which numbered runs were taken without a visit, as a code; −1 for none.

    Such runs are of one visit, unless a number comes twice.
    """
    import pandas as pd

    nowhere = np.broadcast_to(np.int64(-1), len(intake.value))
    rows = ~(intake.round > 0) & ~intake.visit.given & intake.run.given & intake.started_at.given
    if not rows.any() or any(ID.fullmatch(name) for name in intake.run.used):
        return nowhere
    dates = pd.factorize(np.array([text[:10] for text in intake.started_at.names]))[0]
    date = dates[intake.started_at.codes]
    sitting = combine(intake.bench_of, intake.configuration_of, date)
    twice = repeats(combine(sitting, intake.series_of, intake.run.codes)) & rows
    rows &= ~np.isin(sitting, sitting[twice])
    return np.where(rows, date, -1)


def runs_of_rows(intake: Intake, study: Study) -> np.ndarray:
    """By row, which run it is of, as `make_batch` has it; shape (n,)."""
    return _group(intake, study)[1]


def _knows_visit(intake: Intake, sittings: np.ndarray) -> np.ndarray:
    """By row, whether it says of which visit it is, shape (n,); with its sitting, −1 for none."""
    known: np.ndarray = (intake.round > 0) | intake.visit.given | (sittings >= 0)
    return known


def _round_of_visits(intake: Intake, visit_of: np.ndarray, count: int) -> list[int]:
    """The round of each visit, which only one of its rows may state; −1 where none does."""
    rounds = np.full(count, -1, dtype=np.int64)
    np.maximum.at(rounds, visit_of, intake.round)
    return rounds.tolist()


def _ids(names: Sequence[str]) -> list[str]:
    """The names that are ids of runs, each once; "" for other names."""
    seen: set[str] = set()
    ids = []
    for name in names:
        uid = name if len(name) == 32 and ID.fullmatch(name) and name not in seen else ""
        seen.add(uid)
        ids.append(uid)
    return ids


def _attached(
    runs: Iterable[tuple[str, str]], traces: TracesOfRuns
) -> list[tuple[int, int, Trace]]:
    """Traces with the place of their run and the number of the capture among those of a metric."""
    if not traces:
        return []
    kept, seen = [], set()
    for place, run in enumerate(runs):
        if run[0] not in traces or run in seen:
            continue
        seen.add(run)
        counts: Counter[str] = Counter()
        for workload, trace in traces[run[0]]:
            if workload == run[1]:
                counts[trace.metric] += 1
                kept.append((place, counts[trace.metric], trace))
    return kept


def _group(intake: Intake, study: Study) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For every reading its visit, its run and the number of that, both in order of appearance."""
    import pandas as pd

    codes = {name: n for n, name in enumerate(study.workloads)}
    workload_of = np.array([codes[w] for w, _, _ in study.read_metrics()])[intake.series_of]
    sittings = _sittings(intake)
    known = _knows_visit(intake, sittings)
    # A named visit is one, whether or not all of its rows state its round.
    rounds = np.where(intake.visit.given, 0, intake.round)
    visit = combine(intake.bench_of, intake.configuration_of, rounds, intake.visit.codes, sittings)
    run, number = intake.run.codes, intake.run.map(_number)
    unnamed = ~intake.run.given
    if unnamed.any():
        same = pd.Series(combine(visit, intake.series_of))
        place = same.groupby(same).cumcount().to_numpy() + 1
        run = np.where(unnamed, len(intake.run.names) + place, run)
        number = np.where(unnamed, place, number)
    run_of = pd.factorize(combine(visit, workload_of, run))[0]
    visit_of = pd.factorize(combine(visit, np.where(known, -1, run_of)))[0]
    # Names that are not numbers are counted.
    return visit_of, run_of, np.where(number < 0, run_of + 1, number)


def _number(name: str) -> int:
    """The number that a run is called by, −1 if it is called otherwise."""
    return int(name) if name.isdecimal() and len(name) < 9 else -1


def record(
    ledger: WritableLedger,
    study: Study,
    batch: Batch,
    *,
    kind: str,
    source: str,
    digest: str | None = None,
    imported_as: Mapping[str, Any] | None = None,
    operator: str | None = None,
) -> dict[str, int]:
    """Record a batch in one transaction; how many visits, runs and readings that made.

    Raises
    ------
    IntakeError
        When a named visit contradicts what is recorded of it.
    LedgerError
        When the ledger cannot be written; it is then as it was.
    """
    batch = replace(batch, visits=_joined(ledger, batch.visits))
    benches = {visit.bench for visit in batch.visits}
    session = SessionRecord(
        version=__version__,
        overhead={},
        rounds=0,
        decide=False,
        bench=benches.pop() if len(benches) == 1 else None,
        study_file=study.kept_text,
        criteria=criteria_of(study),
        kind=kind,
        source=source,
        digest=digest,
        imported_as=None if imported_as is None else study.mask.value(imported_as),
        operator=operator,
    )
    with ledger.together():
        freeze_claims(ledger, claims_of(study))
        record_batch(ledger, session, batch)
    return batch.counts


def _joined(ledger: Ledger, visits: Sequence[BatchVisit]) -> list[BatchVisit]:
    """The visits, those of a name that the ledger has with the key of that visit."""
    if not any(visit.name for visit in visits):
        return list(visits)
    there = read_named_visits(ledger)
    joined = []
    for visit in visits:
        known = there.get((visit.bench, visit.configuration, visit.name or ""))
        if known is not None:
            _check_same(visit, known)
            visit = replace(visit, key=known.key)
        joined.append(visit)
    return joined


def _check_same(visit: BatchVisit, known: NamedVisit) -> None:
    """Refuse another round or another date of a visit that is recorded."""
    stated = None
    if visit.round is not None and known.round is not None and visit.round != known.round:
        stated = (f"round {visit.round}", f"round {known.round}")
    elif visit.started_at and known.started_at:
        times = [datetime.fromisoformat(time) for time in (visit.started_at, known.started_at)]
        if abs((times[0] - times[1]).total_seconds()) >= DAY and not ID.fullmatch(visit.name or ""):
            stated = (visit.started_at[:10], known.started_at[:10])
    if stated is not None:
        raise IntakeError(
            f'visit "{visit.name}" to {visit.configuration} is of {stated[0]} here and of '
            f"{stated[1]} in the ledger: one visit has one round and one date; name it otherwise, "
            "or state the same. Nothing was recorded"
        )


def refuse_known(study: Study, paths: Sequence[Path], digests: Sequence[str]) -> None:
    """Refuse files that were loaded before.

    Raises
    ------
    IntakeError
        When one was; the message says when and from where.
    """
    if not (study.directory / LEDGER_FILE).exists():
        return
    with read_ledger(study.directory) as ledger:
        for path, digest in zip(paths, digests, strict=True):
            known = find_load(ledger, digest)
            if known is not None:
                raise IntakeError(
                    f"{path}: was loaded already on {known[0][:10]} ({known[1]}); nothing was "
                    "recorded; --again loads it once more"
                )
