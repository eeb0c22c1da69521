"""All readings with their context, and all traces, for others."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import Series
from ferocal.answers.metrics import study_series
from ferocal.ledger.reading.export import read_long_rows, read_trace_rows
from ferocal.ledger.reading.integrity import read_identity
from ferocal.ledger.reading.runs import read_excluded
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    import pandas as pd

# How the study judges a metric, by the column that says so.
_JUDGED: dict[str, Callable[[Series], str]] = {
    "better": lambda series: series.better,
    "role": lambda series: series.role,
    "margin": lambda series: (
        f"{100 * series.margin:.10g} %"
        if series.unit_margin is None
        else f"{series.unit_margin!r} {series.unit}"
    ),
}
# Signs that are in no name of a file that is written.
_NO_NAME = re.compile(r"[^\w.+=%-]")


@dataclass(frozen=True)
class ExportedTrace:
    """A packed trace with the context of its run, and a name for its file."""

    name: str
    content: bytes
    context: dict[str, Any]


def readings_frame(study: Study, ledger: Ledger) -> pd.DataFrame:
    """The readings of runs that count or are excluded, as `ferocal load` takes them.

    In the order of time. Of an unknown visit only the run is named.

    Raises
    ------
    LedgerError
        When the ledger cannot be read.
    """
    import pandas as pd

    names, rows = read_long_rows(ledger)
    excluded = read_excluded(ledger)
    levels = {c.name: c.levels for c in study.configurations}
    series = {(s.workload, s.metric): s for s in study_series(study)}
    frame = pd.DataFrame(rows, columns=names)
    if not len(frame):
        return frame
    frame["visit"] = frame["visit"].where(frame["known"].astype(bool), None)
    # What is unknown is nothing, in every format.
    frame["started_at"] = frame["started_at"].replace("", None)
    frame["excluded"] = [excluded.get(key) for key in frame["key"]]
    pairs = list(zip(frame["workload"], frame["metric"], strict=True))
    for name, of_series in _JUDGED.items():
        known = {pair: of_series(s) for pair, s in series.items()}
        frame[name] = [known.get(pair) for pair in pairs]
    declared = [getattr(series.get(pair), "resolution", None) for pair in pairs]
    frame["resolution"] = (
        frame["resolution"].astype("float64").fillna(pd.Series(declared, dtype="float64"))
    )
    for factor in study.file.factor:
        column = [levels.get(name, {}).get(factor) for name in frame["configuration"]]
        frame[f"factor:{factor}"] = column
    identity = read_identity(ledger)
    frame["ledger"] = f"{identity.id}:{identity.entries}"
    frame = frame.drop(columns=["known", "key"])
    return frame.astype({"round": "Int64", "samples": "Int64"})


def exported_traces(ledger: Ledger) -> Iterator[ExportedTrace]:
    """Every capture of a run that counts or is excluded, one at a time.

    Raises
    ------
    LedgerError
        When the ledger cannot be read.
    """
    excluded = read_excluded(ledger)
    for row in read_trace_rows(ledger):
        context = {**row.context, "excluded": excluded.get(row.run_key, "")}
        # Of an unknown visit only the run is named.
        context["visit"] = context["visit"] if context.pop("known") else None
        parts = ("configuration", "workload", "metric", "run", "number")
        # Whatever a ledger may hold, it is a name of a file and no path.
        name = _NO_NAME.sub("-", "_".join(str(context[part]) for part in parts))
        yield ExportedTrace(f"{name}.parquet", row.content(), context)
