"""Migrations: what brings a ledger of an earlier version to the next, step by step.

Tables are changed by Alembic's operations, which hold for any database. A step describes the
tables as they were then, and never imports the present schema.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

if TYPE_CHECKING:
    from alembic.operations import Operations


def _add_traces_and_noise_floors(op: Operations) -> None:
    """Version 2: ranges and samples of readings, loaded files, noise floors, traces."""
    numbers = {"samples": sa.Integer, "low": sa.Float, "high": sa.Float, "resolution": sa.Float}
    for name, kind in numbers.items():
        op.add_column("reading", sa.Column(name, kind()))
    op.add_column("session", _required("kind", sa.String(10), server_default="measure"))
    op.add_column("session", sa.Column("source", sa.Text()))
    op.add_column("session", sa.Column("digest", sa.String(64)))
    op.add_column("visit", _required("known", sa.Boolean(), server_default="1"))
    op.create_table(
        "floor",
        *_identity(),
        _required("at", sa.String(40)),
        *(_required(name, sa.String(200)) for name in ("bench", "workload", "metric")),
        _required("unit", sa.String(50)),
        _required("scale", sa.String(20)),
        _required("variance", sa.Float()),
        _required("degrees", sa.Integer()),
        _required("runs", sa.Float()),
        sa.Column("run_variance", sa.Float()),
        _required("run_degrees", sa.Integer()),
        _required("measured_at", sa.String(40)),
        _required("source", sa.Text()),
    )
    op.create_table(
        "trace",
        *_identity(),
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id"), nullable=False, index=True),
        _required("metric", sa.String(200)),
        _required("number", sa.Integer()),
        _required("kind", sa.String(10)),
        _required("unit", sa.String(50)),
        _required("length", sa.Integer()),
        _required("content", sa.LargeBinary()),
    )


def _add_criteria_and_benches(op: Operations) -> None:
    """Version 3: what was asked, by session; names of benches; one word for one thing."""
    op.add_column("session", sa.Column("bench", sa.String(200)))
    op.add_column("session", sa.Column("study_file", sa.Text()))
    op.add_column("session", sa.Column("criteria", sa.JSON()))
    op.add_column("look", sa.Column("bench", sa.String(200)))
    op.rename_table("floor", "noise_floor")
    # Up to version 2 a ledger was of one bench.
    of_session = "SELECT bench FROM visit WHERE visit.session_id = session.id LIMIT 1"
    op.execute(f"UPDATE session SET bench = ({of_session})")
    op.execute("UPDATE look SET bench = (SELECT bench FROM visit LIMIT 1)")
    _rename_minima(op.get_bind())
    _rename_conditions(op.get_bind())


def _rename_minima(connection: sa.Connection) -> None:
    """The lowest median of a soak was called its floor."""
    metric = sa.table("metric", *map(sa.column, ("id", "workload", "name")))
    soaks = connection.exec_driver_sql(
        "SELECT DISTINCT run.workload, trace.metric FROM trace JOIN run ON run.id = trace.run_id "
        "WHERE trace.kind = 'soak'"
    ).all()
    for workload, name in soaks:
        same = (metric.c.workload == workload, metric.c.name == f"{name}/floor")
        connection.execute(sa.update(metric).where(*same).values(name=f"{name}/minimum"))


_CONDITIONS = {
    "free memory, MiB": "free_memory_mib",
    "temperature, °C": "temperature_celsius",
    "battery, %": "battery_percent",
    "on mains": "on_mains",
    "clock, MHz": "clock_mhz",
    "busy share of others": "busy_share_of_others",
    "busiest others": "busiest_others",
}


def _rename_conditions(connection: sa.Connection) -> None:
    """Keys of conditions had blanks and units in them; merges wrote nothing as a text."""
    connection.exec_driver_sql("UPDATE run SET conditions = NULL WHERE conditions = 'null'")
    run = sa.table("run", sa.column("id"), sa.column("conditions", sa.JSON))
    query = sa.select(run.c.id, run.c.conditions).where(run.c.conditions.is_not(None))
    rows = [
        {"key": key, "value": _with_new_keys(conditions)}
        for key, conditions in connection.execute(query)
        if conditions is not None
    ]
    if rows:
        change = sa.update(run).where(run.c.id == sa.bindparam("key"))
        connection.execute(change.values(conditions=sa.bindparam("value", type_=sa.JSON)), rows)


def _with_new_keys(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    return {_CONDITIONS.get(key, key): _with_new_keys(item) for key, item in value.items()}


def _add_what_people_know(op: Operations) -> None:
    """Version 4: names of visits, bounds, absences, corrections, subjects of notes.

    Loaded and typed readings without a time had that of their loading.
    """
    op.add_column("visit", sa.Column("name", sa.String(200)))
    op.add_column("visit", sa.Column("padding", sa.Integer()))
    op.add_column("reading", sa.Column("bound", sa.String(1)))
    op.add_column("reading", sa.Column("statistic", sa.String(20)))
    place = (
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id"), primary_key=True),
        sa.Column("metric_id", sa.Integer(), sa.ForeignKey("metric.id"), primary_key=True),
    )
    op.create_table(
        "absence", *place, _required("mark", sa.String(20)), sa.Column("reason", sa.Text())
    )
    op.create_table(
        "correction",
        *_identity(),
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id"), nullable=False, index=True),
        sa.Column("metric_id", sa.Integer(), sa.ForeignKey("metric.id"), nullable=False),
        _required("at", sa.String(40)),
        _required("value", sa.Float()),
        *(sa.Column(name, sa.Float()) for name in ("low", "high")),
        sa.Column("bound", sa.String(1)),
        _required("reason", sa.Text()),
    )
    _forget_times_of_loading(op)
    _name_subjects_of_notes(op)


def _forget_times_of_loading(op: Operations) -> None:
    session = "session.id = visit.session_id AND session.kind != 'measure'"
    unknown = f"EXISTS (SELECT 1 FROM session WHERE {session} AND session.started_at <= %s)"
    op.execute(
        "UPDATE run SET started_at = '' WHERE EXISTS (SELECT 1 FROM visit WHERE "
        f"visit.id = run.visit_id AND {unknown % 'run.started_at'})"
    )
    op.execute(f"UPDATE visit SET started_at = '' WHERE {unknown % 'visit.started_at'}")


def _name_subjects_of_notes(op: Operations) -> None:
    subjects = {"configuration": sa.String(200), "workload": sa.String(200), "run": sa.String(32)}
    for name, kind in subjects.items():
        op.add_column("note", sa.Column(name, kind))
    op.add_column("note", sa.Column("date", sa.String(40)))
    op.add_column("note", sa.Column("source", sa.Text()))
    for name in subjects:
        op.execute(f"UPDATE note SET {name} = name WHERE subject = '{name}'")
    op.drop_column("note", "subject")
    op.drop_column("note", "name")


def _add_claims_and_bench_looks(op: Operations) -> None:
    """Version 5: claims as they were when first seen, and looks at the noise of a bench."""
    op.create_table(
        "claim",
        *_identity(),
        _required("at", sa.String(40)),
        _required("name", sa.String(200)),
        _required("digest", sa.String(64)),
        _required("content", sa.JSON()),
        _required("before_readings", sa.Boolean()),
    )
    op.create_table(
        "bench_look",
        *_identity(),
        _required("at", sa.String(40)),
        _required("bench", sa.String(200)),
        _required("figures", sa.JSON()),
    )


def _add_references(op: Operations) -> None:
    """Version 6: results from elsewhere."""
    texts = (("at", 40), ("device", 200), ("workload", 200), ("metric", 200), ("unit", 50))
    op.create_table(
        "reference",
        *_identity(),
        *(_required(name, sa.String(size)) for name, size in texts),
        _required("value", sa.Float()),
        *(sa.Column(name, sa.Float()) for name in ("low", "high")),
        sa.Column("bound", sa.String(1)),
        _required("source", sa.Text()),
        *(_required(name, sa.String(40)) for name in ("date", "retrieved")),
    )


def _add_seals_and_merged_sessions(op: Operations) -> None:
    """Version 7: seals of rows, and chains of them; they are made once the tables are there."""
    op.add_column("session", sa.Column("merged", sa.Boolean()))
    op.create_table(
        "seal",
        sa.Column("id", sa.Integer(), primary_key=True),
        _required("session", sa.Integer()),
        _required("kind", sa.String(20)),
        _required("key", sa.Integer()),
        _required("digest", sa.LargeBinary()),
    )
    op.create_table(
        "chain",
        sa.Column("session", sa.Integer(), primary_key=True, autoincrement=False),
        _required("length", sa.Integer()),
        _required("head", sa.LargeBinary()),
    )


def _chain_all_seals(op: Operations) -> None:
    """Version 8: one chain for all seals; they are made anew. The header says what it is."""
    op.drop_column("seal", "session")
    op.drop_table("chain")
    op.create_table(
        "chain",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        _required("length", sa.Integer()),
        _required("head", sa.LargeBinary()),
    )


def _add_how_and_by_whom(op: Operations) -> None:
    """Version 9: how imported tables were understood, and who worked in a session."""
    op.add_column("session", sa.Column("imported_as", sa.JSON()))
    op.add_column("session", sa.Column("operator", sa.String(200)))


def _identity() -> list[sa.Column[Any]]:
    return [
        sa.Column("id", sa.Integer(), primary_key=True),
        _required("uid", sa.String(32), unique=True),
    ]


def _required(name: str, kind: sa.types.TypeEngine[Any], **settings: Any) -> sa.Column[Any]:
    return sa.Column(name, kind, nullable=False, **settings)


# By the version that it leads to.
STEPS: dict[int, Callable[[Operations], None]] = {
    2: _add_traces_and_noise_floors,
    3: _add_criteria_and_benches,
    4: _add_what_people_know,
    5: _add_claims_and_bench_looks,
    6: _add_references,
    7: _add_seals_and_merged_sessions,
    8: _chain_all_seals,
    9: _add_how_and_by_whom,
}


def migrate(connection: sa.Connection, version: int) -> int:
    """Bring a ledger of some version to the present one; returns that version.

    The connection is within a transaction that writes, so that all steps are taken or none.
    """
    from alembic.migration import MigrationContext
    from alembic.operations import Operations

    op = Operations(MigrationContext.configure(connection))
    for target in sorted(step for step in STEPS if step > version):
        STEPS[target](op)
    return max(STEPS)
