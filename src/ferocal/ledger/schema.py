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

from ferocal.ledger.records import Mark, Outcome

SCHEMA_VERSION = 9
# What the header of the file says it is (SQLite, "The Database Header": application id): "FERC".
APPLICATION_ID = 0x46455243

metadata = MetaData()


# What a column says of itself that tables of earlier versions lack: the version that began it.
SINCE = "since"


def columns_of(table: Table, version: int) -> list[Column[Any]]:
    """The columns that a table has in a ledger of some version, from 7 on."""
    return [column for column in table.columns if column.info.get(SINCE, 0) <= version]


# What people, programs and files write as they like; all other texts are names and words of ours.
FREE = {"free": True}


def one_of(*words: str) -> dict[str, Any]:
    """What a column holds that has nothing but these words."""
    return {"words": words}


SESSION_KINDS = one_of("measure", "enter", "load")


def columns_named(name: str) -> tuple[Column[Any], ...]:
    """The columns of this name in all tables."""
    return tuple(t.c[name] for t in metadata.tables.values() if name in t.c)


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
    Column("content", JSON, nullable=False, info=FREE),
)

# A call of `measure`, `enter` or `load`; `overhead` is what an empty program reads as on this
# bench, `digest` that of the file that was loaded. `study_file` is its text at that time, and
# `criteria` what of it judges; sessions of earlier versions have neither. Those that came from
# another ledger are `merged`; unknown for sessions of earlier versions. `imported_as` is how the
# tables of the file were understood, and `operator` who did it, if that was stated.
session = Table(
    "session",
    metadata,
    *_identity(),
    Column("started_at", String(40), nullable=False),
    Column("version", String(40), nullable=False),
    Column("overhead", JSON, nullable=False),
    Column("rounds", Integer, nullable=False),
    Column("decide", Boolean, nullable=False),
    Column("kind", String(10), nullable=False, server_default="measure", info=SESSION_KINDS),
    Column("source", Text, info=FREE),
    Column("digest", Text),
    Column("bench", String(200)),
    Column("study_file", Text, info=FREE),
    Column("criteria", JSON(none_as_null=True), info=FREE),
    Column("merged", Boolean),
    Column("imported_as", JSON(none_as_null=True), info={**FREE, SINCE: 9}),
    Column("operator", String(200), info={**FREE, SINCE: 9}),
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
    Column("state", String(20), nullable=False, info=one_of("active", "not active")),
    Column("checks", JSON, nullable=False, info=FREE),
    Column("subjects", JSON, nullable=False, info=FREE),
    Column("remarks", JSON, nullable=False, info=FREE),
    Column("facts_id", ForeignKey("facts.id"), nullable=False),
    Column("known", Boolean, nullable=False, server_default="1"),
    Column("name", String(200), info=FREE),
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
    Column("outcome", String(20), nullable=False, info=one_of(*Outcome)),
    Column("reason", Text, info=FREE),
    Column("exit_status", Integer),
    Column("conditions", JSON(none_as_null=True), info=FREE),
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
    Column("bound", String(1), info=one_of("<", ">")),
    Column("statistic", String(20)),
)

# What stands in the place of a reading that could not be taken, and why.
absence = Table(
    "absence",
    metadata,
    Column("run_id", ForeignKey("run.id"), primary_key=True),
    Column("metric_id", ForeignKey("metric.id"), primary_key=True),
    Column("mark", String(20), nullable=False, info=one_of(*Mark)),
    Column("reason", Text, info=FREE),
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
    Column("bound", String(1), info=one_of("<", ">")),
    Column("reason", Text, nullable=False, info=FREE),
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
    Column("kind", String(10), nullable=False, info=one_of("frames", "soak")),
    Column("unit", String(50), nullable=False),
    Column("length", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)

# What a run wrote, compressed; `size` is the number of bytes that it wrote in all.
output = Table(
    "output",
    metadata,
    Column("run_id", ForeignKey("run.id"), primary_key=True),
    Column("stream", String(10), primary_key=True, info=one_of("stdout", "stderr")),
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
    Column("text", Text, nullable=False, info=FREE),
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
    Column("reason", Text, nullable=False, info=FREE),
)

# A note is on what it names, or else on the whole study. `date` is when that was seen and
# `source` where ("screenshot of 3 May"), as far as stated.
note = Table(
    "note",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("text", Text, nullable=False, info=FREE),
    Column("configuration", String(200)),
    Column("workload", String(200)),
    Column("run", String(32)),
    Column("date", String(40)),
    Column("source", Text, info=FREE),
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
    Column("scale", String(20), nullable=False, info=one_of("ratio", "difference")),
    Column("variance", Float, nullable=False),
    Column("degrees", Integer, nullable=False),
    Column("runs", Float, nullable=False),
    Column("run_variance", Float),
    Column("run_degrees", Integer, nullable=False),
    Column("measured_at", String(40), nullable=False),
    Column("source", Text, nullable=False, info=FREE),
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
    Column("content", JSON, nullable=False, info=FREE),
    Column("before_readings", Boolean, nullable=False),
)

# What a look at a bench without any workload has shown of its noise.
bench_look = Table(
    "bench_look",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("bench", String(200), nullable=False),
    Column("figures", JSON, nullable=False, info=FREE),
)

# A result from elsewhere, of which there are no runs; of several for one device, metric and source
# the latest counts. `date` and `retrieved` are "" unless stated.
reference = Table(
    "reference",
    metadata,
    *_identity(),
    Column("at", String(40), nullable=False),
    Column("device", String(200), nullable=False, info=FREE),
    Column("workload", String(200), nullable=False),
    Column("metric", String(200), nullable=False),
    Column("unit", String(50), nullable=False),
    Column("value", Float, nullable=False),
    Column("low", Float),
    Column("high", Float),
    Column("bound", String(1), info=one_of("<", ">")),
    Column("source", Text, nullable=False, info=FREE),
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

# What belongs to a run, and is sealed with it.
CHILDREN = (reading, absence, trace, output)
# Tables whose rows have separate seals.
SEALED = tuple(
    t for t in metadata.tables.values() if t not in (about, seal, chain) and t not in CHILDREN
)
# Tables with rows that no other ledger has but its copies, parents before children.
WITH_UID = tuple(t for t in metadata.sorted_tables if "uid" in t.c)
FREE_TEXTS = tuple(c for t in metadata.tables.values() for c in t.c if c.info.get("free"))
