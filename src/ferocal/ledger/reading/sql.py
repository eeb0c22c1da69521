"""Parts of queries: tables joined to what their rows belong to, and conditions."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from ferocal.ledger.records import Outcome
from ferocal.ledger.tables import Table

_OF_RUN = "JOIN visit ON visit.id = run.visit_id"
# Runs with their visits.
RUNS = f"run {_OF_RUN}"
# The same, of sessions.
RUNS_OF_SESSIONS = f"{RUNS} JOIN session ON session.id = visit.session_id"
# How a run ended; a timeout was called otherwise by earlier versions.
OUTCOME = f"CASE run.outcome WHEN '{Outcome.OVERRAN}' THEN '{Outcome.TIMEOUT}' ELSE run.outcome END"
# Of runs that ended well, no warm-ups.
ENDED_WELL = f"run.outcome = '{Outcome.OK}' AND NOT run.warmup"
# Of a run that counts, unless it is excluded; with the visit joined.
COUNTS = f"{ENDED_WELL} AND visit.state = 'active'"


def of_runs(table: Table) -> str:
    """A table of what belongs to runs, with the run, the visit, and the metric if it has one."""
    name = table.name
    metric = f" JOIN metric ON metric.id = {name}.metric_id" if table.has("metric_id") else ""
    return f"{name} JOIN run ON run.id = {name}.run_id {_OF_RUN}{metric}"


def listed(words: Iterable[str]) -> str:
    """Words of ours as a list in a query."""
    return f"({', '.join(repr(str(word)) for word in words)})"


def places(count: int) -> str:
    """A list of so many values that are given with the query."""
    return f"({', '.join('?' * count)})"


def parsed(text: str | None) -> Any:
    """What a column of JSON holds."""
    return None if text is None else json.loads(text)
