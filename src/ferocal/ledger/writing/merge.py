"""Merging: the rows of another ledger of the same study, all or nothing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from ferocal.errors import LedgerError, UsageError
from ferocal.ledger import schema, tables
from ferocal.ledger.reading.dump import read_table
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger
from ferocal.ledger.tables import Table
from ferocal.ledger.writing.store import WritableLedger, change_row, insert_row, insert_rows
from ferocal.terms.frozen import dataclass
from ferocal.traces.packing import unpack_columns

# What makes a row of a table without uid the same in both ledgers.
_NATURAL_KEYS = {tables.METRIC: ("workload", "name", "unit"), tables.FACTS: ("digest",)}

KeyMap = dict[Table, dict[int, int]]


@dataclass(frozen=True)
class Merged:
    """How many visits and runs were imported, and how many runs already existed."""

    visits: int
    runs: int
    known_runs: int


def merge_ledgers(target: WritableLedger, source: Ledger) -> Merged:
    """Bring the rows of ``source`` into ``target`` in one transaction.

    What both have is brought forward: a run that was in progress when the copy was made gets its
    end and its readings, and a visit that was set aside later is set aside.

    Raises
    ------
    UsageError
        When both have an end for the same run, and not the same one; nothing is merged then.
    LedgerError
        When either cannot be read or written; the target is then as it was.
    """
    rows = {t: read_table(source, t) for t in (*_NATURAL_KEYS, *tables.WITH_UID)}
    owned = (tables.READING, tables.ABSENCE, tables.OUTPUT)
    children = {table: read_table(source, table) for table in owned}
    _check_traces(source, rows)
    parents = {table.name: table for table in tables.TABLES}
    keys: KeyMap = {}
    fresh: dict[Table, set[int]] = {}
    with target.transaction() as connection:
        for table, natural in _NATURAL_KEYS.items():
            keys[table], fresh[table] = _bring(connection, table, rows[table], natural, {})
        for table in tables.WITH_UID:
            mapped = {c.name: keys[parents[c.of]] for c in table.columns if c.of is not None}
            keys[table], fresh[table] = _bring(connection, table, rows[table], ("uid",), mapped)
        new = {table: len(found) for table, found in fresh.items()}
        fresh[tables.VISIT] |= _forward_visits(connection, rows[tables.VISIT])
        fresh[tables.RUN] |= _forward_runs(connection, rows[tables.RUN])
        for table, child_rows in children.items():
            _bring_children(connection, table, child_rows, keys, fresh[tables.RUN])
        for table in tables.SEALED:
            for key in fresh[table]:
                target.touch(table, keys[table][key])
    return Merged(
        visits=new[tables.VISIT],
        runs=new[tables.RUN],
        known_runs=len(rows[tables.RUN]) - new[tables.RUN],
    )


def _check_traces(source: Ledger, rows: Mapping[Table, list[dict[str, Any]]]) -> None:
    """Refuse traces that could not be read afterwards."""
    names = {row["id"]: row["uid"][:10] for row in rows[tables.RUN]}
    for row in rows[tables.TRACE]:
        try:
            unpack_columns(row["content"])
        except LedgerError as error:
            raise LedgerError(f"{source.path}: run {names[row['run_id']]}: {error}") from None


def _bring(
    connection: sa.Connection,
    table: Table,
    rows: list[dict[str, Any]],
    identity: tuple[str, ...],
    references: Mapping[str, Mapping[int, int]],
) -> tuple[dict[int, int], set[int]]:
    """Insert rows that are not there; the new key of every row, and which are new."""
    query = f"SELECT id, {', '.join(identity)} FROM {table.name}"
    known = {tuple(row[1:]): row[0] for row in connection.exec_driver_sql(query)}
    keys: dict[int, int] = {}
    fresh: set[int] = set()
    for row in rows:
        values = dict(row)
        old = values.pop("id")
        same = known.get(tuple(row[name] for name in identity))
        if same is None:
            for column, mapping in references.items():
                values[column] = mapping[values[column]]
            if table is tables.SESSION:
                values["merged"] = True  # its place in time is not that of its key
            same = insert_row(connection, table, values)
            fresh.add(old)
        keys[old] = same
    return keys, fresh


def _forward_visits(connection: sa.Connection, rows: list[dict[str, Any]]) -> set[int]:
    """Bring visits that both have to the later of their two states; keys in the source of these."""
    there = {row.uid: row for row in connection.execute(sa.select(schema.visit))}
    forwarded = set()
    for row in rows:
        here = there[row["uid"]]
        changes = {
            name: row[name]
            for name in ("round", "started_at", "ended_at")
            if getattr(here, name) in (None, "") and row[name] not in (None, "")
        }
        if row["state"] != here.state and row["state"] != _ACTIVE:
            changes["state"] = row["state"]
        if len(row["checks"]) > len(here.checks):
            changes["checks"] = row["checks"]
        if changes:
            change_row(connection, tables.VISIT, here.id, changes)
            forwarded.add(row["id"])
    return forwarded


_ACTIVE = "active"
# How far a run has come; what Ferocal found unfinished it only took for interrupted.
_PROGRESS = {Outcome.RUNNING: 0, Outcome.INTERRUPTED: 1}


def _forward_runs(connection: sa.Connection, rows: list[dict[str, Any]]) -> set[int]:
    """Bring runs that both have to the later of their two states; keys in the source of these.

    Raises
    ------
    UsageError
        When a run has ended in both, and otherwise.
    """
    ends = ("outcome", "reason", "wall", "exit_status", "conditions")
    there = {row.uid: row for row in connection.execute(sa.select(schema.run))}
    forwarded = set()
    for row in rows:
        here = there[row["uid"]]
        steps = [_PROGRESS.get(Outcome(outcome), 2) for outcome in (here.outcome, row["outcome"])]
        if steps[1] > steps[0]:
            changes = {name: row[name] for name in ends}
            change_row(connection, tables.RUN, here.id, changes)
            forwarded.add(row["id"])
        elif steps == [2, 2] and here.outcome != row["outcome"]:
            raise UsageError(
                f"run {row['uid'][:10]} is {here.outcome} here and {row['outcome']} there: the two "
                "contradict each other; nothing was merged"
            )
    return forwarded


def _bring_children(
    connection: sa.Connection,
    table: Table,
    rows: list[dict[str, Any]],
    keys: KeyMap,
    fresh_runs: set[int],
) -> None:
    values = []
    for row in rows:
        if row["run_id"] in fresh_runs:
            new = {**row, "run_id": keys[tables.RUN][row["run_id"]]}
            if "metric_id" in new:
                new["metric_id"] = keys[tables.METRIC][new["metric_id"]]
            values.append(new)
    insert_rows(connection, table, values)
