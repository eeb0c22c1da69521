"""All readings with their context as a long table, and traces as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from ferocal.errors import FerocalError, UsageError
from ferocal.intake.exported import with_context
from ferocal.ledger import schema
from ferocal.ledger.extract import COUNTS, read_excluded
from ferocal.ledger.opening import open_ledger
from ferocal.report.json_form import dumps
from ferocal.study.load import Study, load_study

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.ledger.store import Ledger

_FORMATS = (".csv", ".json", ".parquet")
_COLUMNS = (
    "bench", "configuration", "round", "visit", "known", "key", "run", "started_at", "workload",
    "metric", "unit", "value", "low", "high", "samples", "resolution",
)  # fmt: skip
_CONTEXT = (
    "configuration", "workload", "metric", "run", "number", "round", "visit", "known",
    "started_at", "kind", "unit",
)  # fmt: skip


def export_readings(directory: Path, output: Path) -> int:
    """Write all readings of runs that ended well to a file; how many there are.

    Raises
    ------
    UsageError
        When the name of the file does not tell one of the formats.
    FerocalError
        When the file cannot be written.
    """
    if output.suffix not in _FORMATS:
        raise UsageError(f"{output}: written as {', '.join(_FORMATS)}, by the name of the file")
    study = load_study(directory)
    with open_ledger(directory) as ledger:
        frame = readings_frame(study, ledger)
    partial = output.with_name(output.name + ".part")
    try:
        if output.suffix == ".csv":
            frame.to_csv(partial, index=False)
        elif output.suffix == ".json":
            rows = frame.astype(object).where(frame.notna(), None).to_dict("records")
            partial.write_text(dumps({"readings": rows}), encoding="utf-8")
        else:
            frame.to_parquet(partial, index=False)
        partial.replace(output)
    except OSError as error:
        raise FerocalError(f"{output}: cannot be written: {error.strerror}") from None
    return len(frame)


def readings_frame(study: Study, ledger: Ledger) -> pd.DataFrame:
    """The readings as `ferocal load` takes them, in the order of the ledger."""
    import pandas as pd

    reading, run, visit, metric = (
        table.c for table in (schema.reading, schema.run, schema.visit, schema.metric)
    )
    query = (
        sa.select(
            visit.bench, visit.configuration, visit.round, visit.uid, visit.known,
            run.id, run.uid, run.started_at, metric.workload, metric.name, metric.unit,
            reading.value, reading.low, reading.high, reading.samples, reading.resolution,
        )
        .join_from(schema.reading, schema.run).join(schema.visit).join(schema.metric)
        .where(*COUNTS)
        .order_by(visit.started_at, visit.id, run.position, metric.id)
    )  # fmt: skip
    excluded = read_excluded(ledger)
    levels = {c.name: c.levels for c in study.configurations}
    better = {(w, name): m.better for w, name, m in study.metrics()}
    frame = pd.DataFrame(ledger.rows(query), columns=[*_COLUMNS])
    if not len(frame):
        return frame
    # Of a visit that nobody knows only the run is told.
    frame["visit"] = frame["visit"].where(frame["known"].astype(bool), None)
    frame["excluded"] = [excluded.get(key) for key in frame["key"]]
    pairs = zip(frame["workload"], frame["metric"], strict=True)
    frame["better"] = [better.get(pair) for pair in pairs]
    for factor in study.file.factor:
        own = [levels.get(name, {}).get(factor) for name in frame["configuration"]]
        frame[f"factor:{factor}"] = own
    frame = frame.drop(columns=["known", "key"])
    return frame.astype({"round": "Int64", "samples": "Int64"})


def export_traces(directory: Path, folder: Path) -> int:
    """Write every capture of a run that counts as a Parquet file; how many there are.

    The names tell configuration, workload, metric, run and capture; the files tell
    themselves of which run they are, and `ferocal load` takes them back.

    Raises
    ------
    FerocalError
        When the folder cannot be written.
    """
    trace, run, visit = schema.trace.c, schema.run.c, schema.visit.c
    query = (
        sa.select(
            trace.id, visit.configuration, run.workload, trace.metric, run.uid, trace.number,
            visit.round, visit.uid, visit.known, run.started_at, trace.kind, trace.unit, run.id,
        )
        .join_from(schema.trace, schema.run).join(schema.visit)
        .where(*COUNTS)
        .order_by(trace.id)
    )  # fmt: skip
    with open_ledger(directory) as ledger:
        rows, excluded = ledger.rows(query), read_excluded(ledger)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            for key, *told, run_key in rows:
                context = dict(zip(_CONTEXT, told, strict=True))
                context["excluded"] = excluded.get(run_key, "")
                # Of a visit that nobody knows only the run is told.
                context["visit"] = context["visit"] if context.pop("known") else None
                content = ledger.rows(sa.select(trace.content).where(trace.id == key))[0][0]
                file = folder / ("_".join(map(str, told[:5])) + ".parquet")
                file.write_bytes(with_context(content, context))
        except OSError as error:
            raise FerocalError(f"{folder}: cannot be written: {error.strerror}") from None
    return len(rows)
