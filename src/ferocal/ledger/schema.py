"""Tables of the ledger, in portable SQL types.

Times are ISO 8601 text in UTC, "" where that of a loaded or typed
reading is unknown. Visits and runs carry a globally unique ``uid``, so
that ledgers can be merged; the integer keys are local to one ledger.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

SCHEMA_VERSION = 8
# What the header of the file says it is (SQLite, "The Database Header": application id): "FERC".
APPLICATION_ID = 0x46455243

metadata = MetaData()


def _identity() -> list[Column[Any]]:
    """A key that is local to this ledger, and one that no other ledger has."""
    return [
        Column("id", Integer, primary_key=True),
        Column("uid", String(32), nullable=False, unique=True),
    ]


about = Table(
    "about",
    metadata,
    Column("key", String(64), primary_key=True),
    Column("value", Text, nullable=False),
)

metric = Table(
    "metric",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("workload", String(200), nullable=False),
    Column("name", String(200), nullable=False),
    Column("unit", String(50), nullable=False),
    UniqueConstraint("workload", "name", "unit"),
)

facts = Table(
    "facts",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("digest", String(64), nullable=False, unique=True),
    Column("content", JSON, nullable=False),
)

# A call of `measure`, `enter` or `load`; `overhead` is what an empty program reads as on this
# bench, `digest` that of the file that was loaded. `study_file` is its text at that time, and
# `criteria` what of it judges; sessions of earlier versions have neither. Those that came from
# another ledger are `merged`; unknown for sessions of earlier versions.
session = Table(
    "session",
    metadata,
    *_identity(),
    Column("started_at", String(40), nullable=False),
    Column("version", String(40), nullable=False),
    Column("overhead", JSON, nullable=False),
    Column("rounds", Integer, nullable=False),
    Column("decide", Boolean, nullable=False),
    Column("kind", String(10), nullable=False, server_default="measure"),
    Column("source", Text),
    Column("digest", Text),
    Column("bench", String(200)),
    Column("study_file", Text),
    Column("criteria", JSON(none_as_null=True)),
    Column("merged", Boolean),
)

# A visit is `active` when its checks held, `not active` when one did not. `subjects` has
# for each workload its command, what it says of its version, and digests of its files. A
# run whose visit is unknown has a separate one, which is not `known`. A visit that
# people speak of has a `name`, one per bench and configuration. `padding` is the random part
# of the size of the environment in it, in bytes.
visit = Table(
    "visit",
    metadata,
    *_identity(),
    Column("session_id", ForeignKey("session.id"), nullable=False),
    Column("bench", String(200), nullable=False),
    Column("configuration", String(200), nullable=False, index=True),
    Column("levels", JSON, nullable=False),
    Column("round", Integer),
    Column("position", Integer),
    Column("started_at", String(40), nullable=False),
    Column("ended_at", String(40)),
    Column("switching", Float, nullable=False),
    Column("state", String(20), nullable=False),
    Column("checks", JSON, nullable=False),
    Column("subjects", JSON, nullable=False),
    Column("remarks", JSON, nullable=False),
    Column("facts_id", ForeignKey("facts.id"), nullable=False),
    Column("known", Boolean, nullable=False, server_default="1"),
    Column("name", String(200)),
    Column("padding", Integer),
)

# A run is `running` until its end is recorded; `number` counts the runs of a workload
# within a round and configuration, warm-ups on their own.
run = Table(
    "run",
    metadata,
    *_identity(),
    Column("visit_id", ForeignKey("visit.id"), nullable=False, index=True),
    Column("workload", String(200), nullable=False),
    Column("number", Integer, nullable=False),
    Column("warmup", Boolean, nullable=False),
    Column("position", Integer, nullable=False),
    Column("started_at", String(40), nullable=False),
    Column("wall", Float),
    Column("outcome", String(20), nullable=False),
    Column("reason", Text),
    Column("exit_status", Integer),
    Column("conditions", JSON(none_as_null=True)),
)

# `samples` counts the single values that a reading summarises, where the workload states it.
# A reading off a moving display has the ends of its range; `resolution` is in its unit. With a
# `bound` ("<" or ">") the true value is below or above. `statistic` is what the number is of
# several values, where that is stated with the reading.
reading = Table(
    "reading",
    metadata,
    Column("run_id", ForeignKey("run.id"), primary_key=True),
    Column("metric_id", ForeignKey("metric.id"), primary_key=True),
    Column("value", Float, nullable=False),
    Column("samples", Integer),
    Column("low", Float),
    Column("high", Float),
    Column("resolution", Float),
    Column("bound", String(1)),
    Column("statistic", String(20)),
)

# What stands in the place of a reading that could not be taken, and why.
absence = Table(
    "absence",
    metadata,
    Column("run_id", ForeignKey("run.id"), primary_key=True),
    Column("metric_id", ForeignKey("metric.id"), primary_key=True),
    Column("mark", String(20), nullable=False),
    Column("reason", Text),
)

# A reading that was wrong is corrected, and stays as it was; the latest correction counts.
correction = Table(
    "correction",
    metadata,
    *_identity(),
    Column("run_id", ForeignKey("run.id"), nullable=False, index=True),
    Column("metric_id", ForeignKey("metric.id"), nullable=False),
    Column("at", String(40), nullable=False),
    Column("value", Float, nullable=False),
    Column("low", Float),
    Column("high", Float),
    Column("bound", String(1)),
    Column("reason", Text, nullable=False),
)

# A trace of a run: frame times (ms), or values over time. `content` is a Parquet file;
# `number` counts the captures of a metric in a run, `length` the numbers in this one.
trace = Table(
    "trace",
    metadata,
    *_identity(),
    Column("run_id", ForeignKey("run.id"), nullable=False, index=True),
    Column("metric", String(200), nullable=False),
    Column("number", Integer, nullable=False),
    Column("kind", String(10), nullable=False),
    Column("unit", String(50), nullable=False),
    Column("length", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)

# What a run wrote, compressed; `size` is the number of bytes that it wrote in all.
output = Table(
    "output",
    metadata,
    Column("run_id", ForeignKey("run.id"), primary_key=True),
    Column("stream", String(10), primary_key=True),
    Column("size", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)

# What was done to the bench between visits, by factor and level.
step = Table(
    "step",
    metadata,
    *_identity(),
    Column("bench", String(200), nullable=False),
    Column("at", String(40), nullable=False),
    Column("kind", String(10), nullable=False),
    Column("factor", String(200), nullable=False),
    Column("level", String(200), nullable=False),
    Column("state", String(20), nullable=False),
    Column("seconds", Float),
    Column("text", Text, nullable=False),
    Column("output", LargeBinary),
)

# The latest mark of a run says whether it is excluded.
mark = Table(
    "mark",
    metadata,
    *_identity(),
    Column("run_id", ForeignKey("run.id"), nullable=False, index=True),
    Column("at", String(40), nullable=False),
    Column("excluded", Boolean, nullable=False),
    Column("reason", Text, nullable=False),
)

# A note is on what it names, or else on the whole study. `date` is when that was seen and
# `source` where ("screenshot of 3 May"), as far as stated.
note = Table(
    "note",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("text", Text, nullable=False),
    Column("configuration", String(200)),
    Column("workload", String(200)),
    Column("run", String(32)),
    Column("date", String(40)),
    Column("source", Text),
)

# How much visits vary, imported from another study of the same bench; of several for one
# metric the latest counts.
noise_floor = Table(
    "noise_floor",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("bench", String(200), nullable=False),
    Column("workload", String(200), nullable=False),
    Column("metric", String(200), nullable=False),
    Column("unit", String(50), nullable=False),
    Column("scale", String(20), nullable=False),
    Column("variance", Float, nullable=False),
    Column("degrees", Integer, nullable=False),
    Column("runs", Float, nullable=False),
    Column("run_variance", Float),
    Column("run_degrees", Integer, nullable=False),
    Column("measured_at", String(40), nullable=False),
    Column("source", Text, nullable=False),
)

# A claim as it was when it was first seen: its content in the study file, and whether there were
# readings by then. What is changed afterwards is another row.
claim = Table(
    "claim",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("name", String(200), nullable=False),
    Column("digest", String(64), nullable=False),
    Column("content", JSON, nullable=False),
    Column("before_readings", Boolean, nullable=False),
)

# What a look at a bench without any workload has shown of its noise.
bench_look = Table(
    "bench_look",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("bench", String(200), nullable=False),
    Column("figures", JSON, nullable=False),
)

# A result from elsewhere, of which there are no runs; of several for one device, metric and source
# the latest counts. `date` and `retrieved` are "" unless stated.
reference = Table(
    "reference",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("device", String(200), nullable=False),
    Column("workload", String(200), nullable=False),
    Column("metric", String(200), nullable=False),
    Column("unit", String(50), nullable=False),
    Column("value", Float, nullable=False),
    Column("low", Float),
    Column("high", Float),
    Column("bound", String(1)),
    Column("source", Text, nullable=False),
    Column("date", String(40), nullable=False),
    Column("retrieved", String(40), nullable=False),
)

# A look at the results after a round of a sequential study; `limit` is the last round.
look = Table(
    "look",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("bench", String(200)),
    Column("round", Integer, nullable=False),
    Column("limit", Integer, nullable=False),
)

# What people, programs and files write as they like; all other texts are names and words of ours.
FREE_TEXTS: tuple[Column[Any], ...] = (
    session.c.source, session.c.study_file, session.c.criteria, visit.c.checks, visit.c.subjects,
    visit.c.remarks, visit.c.name, facts.c.content, run.c.reason, run.c.conditions,
    absence.c.reason, correction.c.reason, step.c.text, mark.c.reason, note.c.text, note.c.source,
    noise_floor.c.source, claim.c.content, bench_look.c.figures, reference.c.device,
    reference.c.source,
)  # fmt: skip

# The digest of a row of another table, with all that belongs to it, as it was written; of several
# the latest counts.
seal = Table(
    "seal",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("kind", String(20), nullable=False),
    Column("key", Integer, nullable=False),
    Column("digest", LargeBinary, nullable=False),
)

# How many seals there are, and the last link of the chain of them: one row.
chain = Table(
    "chain",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("length", Integer, nullable=False),
    Column("head", LargeBinary, nullable=False),
)
