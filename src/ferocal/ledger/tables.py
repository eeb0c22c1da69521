"""Tables of the ledger: what they are called, and what their columns hold.

They are described in plain values, from which `schema` makes what writes them: what only reads
needs no more.

Times are ISO 8601 text in UTC, "" where that of a loaded or typed
reading is unknown. Visits and runs carry a globally unique ``uid``, so
that ledgers can be merged; the integer keys are local to one ledger.
"""

from __future__ import annotations

from functools import partial
from typing import Literal

from ferocal.ledger.records import Mark, Outcome
from ferocal.terms.frozen import dataclass

SCHEMA_VERSION = 9
# What the header of the file says it is (SQLite, "The Database Header": application id): "FERC".
APPLICATION_ID = 0x46455243


Holds = Literal["text", "integer", "float", "boolean", "json", "blob"]


@dataclass(frozen=True, eq=False)
class Column:
    """A column: its name, what it holds, and how long a text may be.

    Of a ``key`` and of what is ``of`` another table a row is named by it. ``words`` are all that it
    may be. What is ``free`` people, programs and files write as they like; all other texts are
    names and words of ours. ``since`` is the version that began it, where tables of earlier ones
    lack it.
    """

    name: str
    size: int | None = None
    holds: Holds = "text"
    optional: bool = False
    key: bool = False
    unique: bool = False
    indexed: bool = False
    of: str | None = None
    default: str | None = None
    words: tuple[str, ...] = ()
    free: bool = False
    since: int = 0


@dataclass(frozen=True, eq=False)
class Table:
    """A table and its columns; ``together`` are those that are unique as a group."""

    name: str
    columns: tuple[Column, ...]
    together: tuple[str, ...] = ()

    def has(self, name: str) -> bool:
        """Whether it has a column of that name."""
        return any(column.name == name for column in self.columns)

    @property
    def keys(self) -> list[str]:
        """The columns that name a row."""
        return [column.name for column in self.columns if column.key]

    @property
    def row_key(self) -> str:
        """The column by which a row is named in words; those of a run, by the run."""
        return "run_id" if "run_id" in self.keys else "id"

    def columns_of(self, version: int) -> list[Column]:
        """The columns that it has in a ledger of some version, from 7 on."""
        return [column for column in self.columns if column.since <= version]


def _table(name: str, *columns: Column, together: tuple[str, ...] = ()) -> Table:
    return Table(name, columns, together)


_text = Column
_integer = partial(Column, holds="integer")
_float = partial(Column, holds="float")
_boolean = partial(Column, holds="boolean")
_json = partial(Column, holds="json")
_blob = partial(Column, holds="blob")
# A key that is local to this ledger, and one that no other ledger has.
_IDENTITY = (_integer("id", key=True), _text("uid", 32, unique=True))

ABOUT = _table(
    "about",
    _text("key", 64, key=True),
    _text("value"),
)

METRIC = _table(
    "metric",
    _integer("id", key=True),
    _text("workload", 200),
    _text("name", 200),
    _text("unit", 50),
    together=("workload", "name", "unit"),
)

FACTS = _table(
    "facts",
    _integer("id", key=True),
    _text("digest", 64, unique=True),
    _json("content", free=True),
)

# A call of `measure`, `enter` or `load`; `overhead` is what an empty program reads as on this
# bench, `digest` that of the file that was loaded. `study_file` is its text at that time, and
# `criteria` what of it judges; sessions of earlier versions have neither. Those that came from
# another ledger are `merged`; unknown for sessions of earlier versions. `imported_as` is how the
# tables of the file were understood, and `operator` who did it, if that was stated.
SESSION = _table(
    "session",
    *_IDENTITY,
    _text("started_at", 40),
    _text("version", 40),
    _json("overhead"),
    _integer("rounds"),
    _boolean("decide"),
    _text("kind", 10, default="measure", words=("measure", "enter", "load")),
    _text("source", optional=True, free=True),
    _text("digest", optional=True),
    _text("bench", 200, optional=True),
    _text("study_file", optional=True, free=True),
    _json("criteria", optional=True, free=True),
    _boolean("merged", optional=True),
    _json("imported_as", optional=True, free=True, since=9),
    _text("operator", 200, optional=True, free=True, since=9),
)

# A visit is `active` when its checks held, `not active` when one did not. `subjects` has
# for each workload its command, what it says of its version, and digests of its files. A
# run whose visit is unknown has a separate one, which is not `known`. A visit that
# people speak of has a `name`, one per bench and configuration. `padding` is the random part
# of the size of the environment in it, in bytes.
VISIT = _table(
    "visit",
    *_IDENTITY,
    _integer("session_id", of="session"),
    _text("bench", 200),
    _text("configuration", 200, indexed=True),
    _json("levels"),
    _integer("round", optional=True),
    _integer("position", optional=True),
    _text("started_at", 40),
    _text("ended_at", 40, optional=True),
    _float("switching"),
    _text("state", 20, words=("active", "not active")),
    _json("checks", free=True),
    _json("subjects", free=True),
    _json("remarks", free=True),
    _integer("facts_id", of="facts"),
    _boolean("known", default="1"),
    _text("name", 200, optional=True, free=True),
    _integer("padding", optional=True),
)

# A run is `running` until its end is recorded; `number` counts the runs of a workload
# within a round and configuration, warm-ups on their own.
RUN = _table(
    "run",
    *_IDENTITY,
    _integer("visit_id", indexed=True, of="visit"),
    _text("workload", 200),
    _integer("number"),
    _boolean("warmup"),
    _integer("position"),
    _text("started_at", 40),
    _float("wall", optional=True),
    _text("outcome", 20, words=tuple(Outcome)),
    _text("reason", optional=True, free=True),
    _integer("exit_status", optional=True),
    _json("conditions", optional=True, free=True),
)

# `samples` counts the single values that a reading summarises, where the workload states it.
# A reading off a moving display has the ends of its range; `resolution` is in its unit. With a
# `bound` ("<" or ">") the true value is below or above. `statistic` is what the number is of
# several values, where that is stated with the reading.
READING = _table(
    "reading",
    _integer("run_id", key=True, of="run"),
    _integer("metric_id", key=True, of="metric"),
    _float("value"),
    _integer("samples", optional=True),
    _float("low", optional=True),
    _float("high", optional=True),
    _float("resolution", optional=True),
    _text("bound", 1, optional=True, words=("<", ">")),
    _text("statistic", 20, optional=True),
)

# What stands in the place of a reading that could not be taken, and why.
ABSENCE = _table(
    "absence",
    _integer("run_id", key=True, of="run"),
    _integer("metric_id", key=True, of="metric"),
    _text("mark", 20, words=tuple(Mark)),
    _text("reason", optional=True, free=True),
)

# A reading that was wrong is corrected, and stays as it was; the latest correction counts.
CORRECTION = _table(
    "correction",
    *_IDENTITY,
    _integer("run_id", indexed=True, of="run"),
    _integer("metric_id", of="metric"),
    _text("at", 40),
    _float("value"),
    _float("low", optional=True),
    _float("high", optional=True),
    _text("bound", 1, optional=True, words=("<", ">")),
    _text("reason", free=True),
)

# A trace of a run: frame times (ms), or values over time. `content` is a Parquet file;
# `number` counts the captures of a metric in a run, `length` the numbers in this one.
TRACE = _table(
    "trace",
    *_IDENTITY,
    _integer("run_id", indexed=True, of="run"),
    _text("metric", 200),
    _integer("number"),
    _text("kind", 10, words=("frames", "soak")),
    _text("unit", 50),
    _integer("length"),
    _blob("content"),
)

# What a run wrote, compressed; `size` is the number of bytes that it wrote in all.
OUTPUT = _table(
    "output",
    _integer("run_id", key=True, of="run"),
    _text("stream", 10, key=True, words=("stdout", "stderr")),
    _integer("size"),
    _blob("content"),
)

# What was done to the bench between visits, by factor and level.
STEP = _table(
    "step",
    *_IDENTITY,
    _text("bench", 200),
    _text("at", 40),
    _text("kind", 10),
    _text("factor", 200),
    _text("level", 200),
    _text("state", 20),
    _float("seconds", optional=True),
    _text("text", free=True),
    _blob("output", optional=True),
)

# The latest mark of a run says whether it is excluded.
MARK = _table(
    "mark",
    *_IDENTITY,
    _integer("run_id", indexed=True, of="run"),
    _text("at", 40),
    _boolean("excluded"),
    _text("reason", free=True),
)

# A note is on what it names, or else on the whole study. `date` is when that was seen and
# `source` where ("screenshot of 3 May"), as far as stated.
NOTE = _table(
    "note",
    *_IDENTITY,
    _text("at", 40),
    _text("text", free=True),
    _text("configuration", 200, optional=True),
    _text("workload", 200, optional=True),
    _text("run", 32, optional=True),
    _text("date", 40, optional=True),
    _text("source", optional=True, free=True),
)

# How much visits vary, imported from another study of the same bench; of several for one
# metric the latest counts.
NOISE_FLOOR = _table(
    "noise_floor",
    *_IDENTITY,
    _text("at", 40),
    _text("bench", 200),
    _text("workload", 200),
    _text("metric", 200),
    _text("unit", 50),
    _text("scale", 20, words=("ratio", "difference")),
    _float("variance"),
    _integer("degrees"),
    _float("runs"),
    _float("run_variance", optional=True),
    _integer("run_degrees"),
    _text("measured_at", 40),
    _text("source", free=True),
)

# A claim as it was when it was first seen: its content in the study file, and whether there were
# readings by then. What is changed afterwards is another row.
CLAIM = _table(
    "claim",
    *_IDENTITY,
    _text("at", 40),
    _text("name", 200),
    _text("digest", 64),
    _json("content", free=True),
    _boolean("before_readings"),
)

# What a look at a bench without any workload has shown of its noise.
BENCH_LOOK = _table(
    "bench_look",
    *_IDENTITY,
    _text("at", 40),
    _text("bench", 200),
    _json("figures", free=True),
)

# A result from elsewhere, of which there are no runs; of several for one device, metric and source
# the latest counts. `date` and `retrieved` are "" unless stated.
REFERENCE = _table(
    "reference",
    *_IDENTITY,
    _text("at", 40),
    _text("device", 200, free=True),
    _text("workload", 200),
    _text("metric", 200),
    _text("unit", 50),
    _float("value"),
    _float("low", optional=True),
    _float("high", optional=True),
    _text("bound", 1, optional=True, words=("<", ">")),
    _text("source", free=True),
    _text("date", 40),
    _text("retrieved", 40),
)

# A look at the results after a round of a sequential study; `limit` is the last round.
LOOK = _table(
    "look",
    *_IDENTITY,
    _text("at", 40),
    _text("bench", 200, optional=True),
    _integer("round"),
    _integer("limit"),
)

# The digest of a row of another table, with all that belongs to it, as it was written; of several
# the latest counts.
SEAL = _table(
    "seal",
    _integer("id", key=True),
    _text("kind", 20),
    _integer("key"),
    _blob("digest"),
)

# How many seals there are, and the last link of the chain of them: one row.
CHAIN = _table(
    "chain",
    _integer("id", key=True),
    _integer("length"),
    _blob("head"),
)


# Parents before children.
TABLES = (
    ABOUT,
    METRIC,
    FACTS,
    SESSION,
    VISIT,
    RUN,
    READING,
    ABSENCE,
    CORRECTION,
    TRACE,
    OUTPUT,
    STEP,
    MARK,
    NOTE,
    NOISE_FLOOR,
    CLAIM,
    BENCH_LOOK,
    REFERENCE,
    LOOK,
    SEAL,
    CHAIN,
)
# What belongs to a run, and is sealed with it.
CHILDREN = (READING, ABSENCE, TRACE, OUTPUT)
# Tables whose rows have separate seals.
SEALED = tuple(t for t in TABLES if t not in (ABOUT, SEAL, CHAIN) and t not in CHILDREN)
# Tables with rows that no other ledger has but its copies, parents before children.
WITH_UID = tuple(t for t in TABLES if t.has("uid"))


def columns_named(name: str) -> tuple[tuple[str, str], ...]:
    """Table and column of every column of a name."""
    return tuple((table.name, name) for table in TABLES if table.has(name))
