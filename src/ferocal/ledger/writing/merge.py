"""Merging: the rows of another ledger of the same study, all or nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ferocal.errors import LedgerError, UsageError
from ferocal.ledger import schema
from ferocal.ledger.records import Outcome
from ferocal.ledger.store import Ledger
from ferocal.traces.packing import unpack_columns

# What makes a row of a table without uid the same in both ledgers.
_NATURAL_KEYS = {schema.metric: ("workload", "name", "unit"), schema.facts: ("digest",)}

KeyMap = dict[sa.Table, dict[int, int]]


@dataclass(frozen=True)
class Merged:
    """How many visits and runs were imported, and how many runs already existed."""

    visits: int
    runs: int
    known_runs: int


def merge_ledgers(target: Ledger, source: Ledger) -> Merged:
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
    tables = [*_NATURAL_KEYS, *schema.WITH_UID]
    rows = {table: source.mappings(sa.select(table)) for table in tables}
    owned = (schema.reading, schema.absence, schema.output)
    children = {t: source.mappings(sa.select(t)) for t in owned}
    _check_traces(source, rows)
    keys: KeyMap = {}
    fresh: dict[sa.Table, set[int]] = {}
    with target.transaction() as connection:
        for table, natural in _NATURAL_KEYS.items():
            keys[table], fresh[table] = _bring(connection, table, rows[table], natural, {})
        for table in schema.WITH_UID:
            mapped = {c.name: keys[key.column.table] for c in table.c for key in c.foreign_keys}
            keys[table], fresh[table] = _bring(connection, table, rows[table], ("uid",), mapped)
        new = {table: len(found) for table, found in fresh.items()}
        fresh[schema.visit] |= _forward_visits(connection, rows[schema.visit])
        fresh[schema.run] |= _forward_runs(connection, rows[schema.run])
        for table, child_rows in children.items():
            _bring_children(connection, table, child_rows, keys, fresh[schema.run])
        for table in schema.SEALED:
            for key in fresh[table]:
                target.touch(table, keys[table][key])
    return Merged(
        visits=new[schema.visit],
        runs=new[schema.run],
        known_runs=len(rows[schema.run]) - new[schema.run],
    )


def _check_traces(source: Ledger, rows: Mapping[sa.Table, list[dict[str, Any]]]) -> None:
    """Refuse traces that could not be read afterwards."""
    names = {row["id"]: row["uid"][:10] for row in rows[schema.run]}
    for row in rows[schema.trace]:
        try:
            unpack_columns(row["content"])
        except LedgerError as error:
            raise LedgerError(f"{source.path}: run {names[row['run_id']]}: {error}") from None


def _bring(
    connection: sa.Connection,
    table: sa.Table,
    rows: list[dict[str, Any]],
    identity: tuple[str, ...],
    references: Mapping[str, Mapping[int, int]],
) -> tuple[dict[int, int], set[int]]:
    """Insert rows that are not there; the new key of every row, and which are new."""
    columns = [table.c.id, *(table.c[name] for name in identity)]
    known = {tuple(row[1:]): row[0] for row in connection.execute(sa.select(*columns))}
    keys: dict[int, int] = {}
    fresh: set[int] = set()
    for row in rows:
        values = dict(row)
        old = values.pop("id")
        same = known.get(tuple(row[name] for name in identity))
        if same is None:
            for column, mapping in references.items():
                values[column] = mapping[values[column]]
            if table is schema.session:
                values["merged"] = True  # its place in time is not that of its key
            inserted = connection.execute(sa.insert(table).values(**values)).inserted_primary_key
            assert inserted is not None
            same = int(inserted[0])
            fresh.add(old)
        keys[old] = same
    return keys, fresh


def _forward_visits(connection: sa.Connection, rows: list[dict[str, Any]]) -> set[int]:
    """Bring visits that both have to the later of their two states; keys in the source of these."""
    c = schema.visit.c
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
            connection.execute(sa.update(schema.visit).where(c.id == here.id).values(**changes))
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
    c = schema.run.c
    ends = ("outcome", "reason", "wall", "exit_status", "conditions")
    there = {row.uid: row for row in connection.execute(sa.select(schema.run))}
    forwarded = set()
    for row in rows:
        here = there[row["uid"]]
        steps = [_PROGRESS.get(Outcome(outcome), 2) for outcome in (here.outcome, row["outcome"])]
        if steps[1] > steps[0]:
            changes = {name: row[name] for name in ends}
            connection.execute(sa.update(schema.run).where(c.id == here.id).values(**changes))
            forwarded.add(row["id"])
        elif steps == [2, 2] and here.outcome != row["outcome"]:
            raise UsageError(
                f"run {row['uid'][:10]} is {here.outcome} here and {row['outcome']} there: the two "
                "contradict each other; nothing was merged"
            )
    return forwarded


def _bring_children(
    connection: sa.Connection,
    table: sa.Table,
    rows: list[dict[str, Any]],
    keys: KeyMap,
    fresh_runs: set[int],
) -> None:
    values = []
    for row in rows:
        if row["run_id"] in fresh_runs:
            new = {**row, "run_id": keys[schema.run][row["run_id"]]}
            if "metric_id" in new:
                new["metric_id"] = keys[schema.metric][new["metric_id"]]
            values.append(new)
    if values:
        connection.execute(sa.insert(table), values)
