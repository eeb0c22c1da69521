"""What ``--json`` prints, one schema for every command."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Any

from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.documents.answer import answer_lines
from ferocal.documents.caveats import Remark, make_remarks
from ferocal.documents.next_steps import next_steps
from ferocal.documents.objects.schema import Key, Schema, attributes
from ferocal.documents.overview import is_asked
from ferocal.documents.wording import VERDICT_MARKS

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.compare import Comparison

_BEYOND = f"more than {MOST_ROUNDS} rounds would be needed"


def _of_series(name: str) -> Callable[[Any], Any]:
    return lambda item: getattr(item.series, name)


CHANGES = Key(
    "criteria_changed", "array",
    "sentences on margins, roles, units and directions that were changed after the first reading",
    lambda item: [change.text for change in item.criteria_changes],
)  # fmt: skip
LEFT_OUT = attributes(
    (
        ("excluded", "integer", "runs that are marked as not to be used"),
        ("left_out", "integer", "readings that the study file no longer knows"),
    )
)
SERIES_KEYS = (
    Key("workload", "string", "what was run", _of_series("workload")),
    Key("metric", "string", "what was read", _of_series("metric")),
    Key("label", "string", "what the two are called in sentences", _of_series("title")),
    Key("group", "string?", "the group of the workload", lambda item: item.series.group or None),
    Key("role", "string", "`primary`, `secondary`, `detail` or `context`", _of_series("role")),
    Key("primary", "boolean", "whether that is `primary`", lambda i: i.series.role == "primary"),
    Key("unit", "string", "its unit", _of_series("unit")),
    Key("better", "string", "`higher`, `lower` or `none`", _of_series("better")),
)

CAVEAT = Schema(
    "A caveat",
    (
        *attributes((("code", "string", "its stable code ([tables.md](tables.md))"),)),
        Key("weight", "string", "`forbids`, `weakens` or `informs`", lambda c: c.kind.weight),
        *attributes(
            (
                ("text", "string", "the whole sentence"),
                ("seen", "string", "what was seen"),
                ("advice", "string", "what to do about it"),
            )
        ),
    ),
)
_FLOOR = Schema(
    "A noise floor of an effect",
    attributes(
        (
            ("age", "number?", "its age (days)"),
            ("source", "string", "where it is from"),
        )
    ),
)


def _margin(effect: Effect) -> float | None:
    return effect.series.margin if effect.scale == "ratio" else effect.series.unit_margin


def _why_no_number(effect: Effect) -> str | None:
    """Why an effect has no number of further rounds, None if it has one."""
    if effect.more_rounds is not None:
        return None
    if effect.out_of_reach:
        return _BEYOND
    if effect.verdict in ("seen once", "not judged", "not comparable"):
        return str(effect.verdict)
    if effect.verdict != "inconclusive":
        return "decided"
    if effect.more_visits is not None:
        return "there are no rounds to add to; more_visits says what would do"
    return "no more can be measured, or how much rounds vary is not known"


EFFECT = Schema(
    "An effect",
    (
        *attributes((("bench", "string", "where"),)),
        *SERIES_KEYS,
        *attributes(
            (
                ("baseline", "string", "the configuration that is compared with"),
                ("configuration", "string", "the configuration that is compared"),
                ("scale", "string", "`ratio`: changes are shares; `difference`: in the unit"),
                ("change", "number?", "change of the measured value"),
                ("low", "number?", "lower end of its interval"),
                ("high", "number?", "upper end of its interval"),
            )
        ),
        Key("margin", "number?", "the margin, a share or in the unit; null where none applies",
            _margin),
        Key("method", "string",
            "where the interval is from: `paired by round`, `between visits`, `noise floor`, "
            "`as stated`, `bound`, `none`", lambda e: e.method.value),
        Key("degrees", "number?", "its degrees of freedom", lambda e: e.shift.degrees),
        Key("p", "number?", "p-value", lambda e: e.shift.p_value),
        *attributes(
            (
                ("p_adjusted", "number?", "p-value after Holm's adjustment within its family"),
                ("family_size", "integer", "how many comparisons that family has"),
            )
        ),
        Key("verdict", "string",
            "`better`, `worse`, `equivalent`, `inconclusive`; `seen once` without an interval, "
            "`not judged` where neither direction is better, `not comparable` where a caveat "
            "forbids the comparison", lambda e: e.verdict.value),
        Key("mark", "string", "the verdict as tables have it: `better`, `worse`, `equal`, `open`, "
            "`seen once`, `not judged`, `not comparable`", lambda e: VERDICT_MARKS[e.verdict]),
        *attributes(
            (
                ("beyond_margin", "boolean", "whether the whole interval is outside the margin"),
                ("rounds", "integer", "rounds that pair"),
                ("visits", "integer", "visits of the configuration that count"),
                ("base_visits", "integer", "visits of the baseline that count"),
                ("runs", "integer", "runs of both sides in them"),
                ("base_runs", "integer", "runs of the baseline in them"),
                ("more_rounds", "integer?", "further rounds that an inconclusive effect is "
                 "expected to need"),
            )
        ),
        Key("more_rounds_reason", "string?", "why that is null", _why_no_number),
        *attributes(
            (
                ("more_visits", "integer?", "further visits to each side that it is expected to "
                 "need, where there are no rounds to add to"),
                ("open_until", "integer?", "the round of the next look, in a study that is "
                 "measured until decided"),
                ("bound", "string?", "`>` or `<` where a side is known as a bound only: the "
                 "change is above or below `change`"),
            )
        ),
        Key("noise_floor", "object?", "the noise floor that gave the interval, if one did",
            of=_FLOOR),
        *attributes((("control", "boolean", "whether this is the control arm"),)),
        Key("caveats", "array", "its caveats", of=CAVEAT),
    ),
)  # fmt: skip
GAP = Schema(
    "A gap",
    (
        *attributes(
            (
                ("bench", "string", "where"),
                ("workload", "string", "what was run"),
                ("metric", "string", "what was to be read"),
                ("configuration", "string", "under which configuration"),
            )
        ),
        Key("mark", "string", "`impossible`, `not active`, `failed`, `absent`, `not measured`",
            lambda gap: str(gap.mark)),
        Key("reason", "string?", "why, as far as it is known", lambda gap: gap.reason or None),
    ),
)  # fmt: skip
_WHERE = Key("bench", "string", "on which bench", lambda part: part[0])
ANSWER = Schema(
    "A line of an answer",
    (
        _WHERE,
        Key("about", "string?", "the configurations it is about, null for all",
            lambda part: part[1].head or None),
        Key("text", "string", "what it says", lambda part: part[1].text),
    ),
)  # fmt: skip
REMARK = Schema(
    "A caveat of a result",
    (
        _WHERE,
        Key("code", "string", "the code of the caveats", lambda part: part[1].code),
        Key("weight", "string", "`forbids`, `weakens` or `informs`", lambda part: part[1].weight),
        Key("text", "string", "one sentence for all caveats of this code",
            lambda part: part[1].text),
        Key("look", "string", "the command that looks closer", lambda part: part[1].look),
    ),
)  # fmt: skip
STEP = Schema(
    "A next step",
    (
        _WHERE,
        Key("text", "string", "what to do, and how long it takes", lambda part: part[1][0]),
        Key("command", "string?", "the command that does it", lambda part: part[1][1]),
    ),
)


def _of_benches(
    get: Callable[[Comparison], Iterable[Any]],
) -> Callable[[Comparison], list[tuple[str, Any]]]:
    """What is said of each bench, with its name."""
    return lambda comparison: [
        (bench, found) for bench in comparison.benches for found in get(comparison.on_bench(bench))
    ]


def _remarks(comparison: Comparison) -> list[Remark]:
    compared = [e for e in comparison.effects if not e.control]
    return make_remarks(compared, comparison.levels)


COMPARISON = Schema(
    "`ferocal compare --json`",
    (
        *attributes((("question", "string", "the question of the study"),)),
        Key("answer", "array", "the answer, line by line", _of_benches(answer_lines), ANSWER),
        *attributes(
            (
                ("baseline", "string", "the configuration that the others are compared with"),
                ("confidence", "number", "two-sided level of all intervals"),
                ("margin", "number", "the margin of the study, a share"),
            )
        ),
        *LEFT_OUT,
        CHANGES,
        Key("caveats", "array", "what limits the result, the gravest first", _of_benches(_remarks),
            REMARK),
        Key("next", "array", "what to do next", _of_benches(next_steps), STEP),
        Key("effects", "array", "one for every configuration and metric", of=EFFECT),
        Key("gaps", "array", "cells without a reading, for which there is no effect", of=GAP),
    ),
)  # fmt: skip


def comparison_object(only: Sequence[str]) -> Schema:
    """The object of a comparison, with the effects of some verdicts only."""
    if not only:
        return COMPARISON
    keys = tuple(
        replace(key, get=lambda c: [e for e in c.effects if is_asked(e.verdict, only)])
        if key.name == "effects"
        else key
        for key in COMPARISON.keys
    )
    return replace(COMPARISON, keys=keys)


CELL = Schema(
    "A cell",
    (
        *attributes((("bench", "string", "where"),)),
        *SERIES_KEYS,
        *attributes(
            (
                ("configuration", "string", "under which configuration"),
                ("centre", "number", "geometric mean of the summaries of visits"),
                ("cv", "number?", "sample standard deviation of single runs over their mean"),
                ("runs", "integer", "runs that were read"),
                ("rounds", "integer", "rounds, or visits where there are none"),
            )
        ),
        Key("low", "number?", "lowest end of the ranges that were read",
            lambda c: None if c.span is None else c.span[0]),
        Key("high", "number?", "highest end of the ranges that were read",
            lambda c: None if c.span is None else c.span[1]),
        *attributes((("bound", "string?", "`>` or `<` where nothing but bounds was read"),)),
        Key("bounds_left_out", "integer", "bounds beside the readings", lambda c: c.bounds),
    ),
)  # fmt: skip


def _cells(table: Any) -> list[Any]:
    """The cells of a table that are not empty, in order."""
    return [c for rows in table.cells.values() for row in rows for c in row if c is not None]


TABLE = Schema(
    "`ferocal table --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("baseline", "string", "the baseline of the study"),
            )
        ),
        *LEFT_OUT,
        CHANGES,
        Key("cells", "array", "what was read", _cells, of=CELL),
        Key("gaps", "array", "cells without a reading", of=GAP),
    ),
)
TRACES = Schema(
    "`ferocal frames --json`, `ferocal soak --json`",
    (
        Key("baseline", "string", "the configuration that the others are compared with",
            lambda a: a.comparison.baseline),
        Key("criteria_changed", "array", CHANGES.meaning,
            lambda a: [change.text for change in a.comparison.criteria_changes]),
        Key("cells", "array", "what was read", lambda a: _cells(a.table), of=CELL),
        Key("effects", "array", "of the metrics that are made of traces",
            lambda a: a.comparison.effects, of=EFFECT),
    ),
)  # fmt: skip
RUN = Schema(
    "A run",
    (
        *attributes(
            (
                ("id", "string", "what `ferocal exclude` takes"),
            )
        ),
        Key("started_at", "string?", "when it began, ISO 8601; null if unknown",
            lambda run: run.started_at or None),
        *attributes(
            (
                ("bench", "string", "where"),
                ("configuration", "string", "under which configuration"),
                ("round", "integer?", "in which round"),
                ("visit", "string", "in which visit"),
                ("position", "integer", "its place in the visit"),
                ("workload", "string", "what was run"),
                ("number", "integer", "which run of the workload in the visit"),
                ("warmup", "boolean", "whether it is a warm-up"),
                ("outcome", "string", "`ok`, `failed`, `timeout`, `disturbed`, `not active`, "
                 "`interrupted`, `running`"),
                ("reason", "string?", "why it is not ok"),
                ("excluded_because=excluded", "string?", "why it is excluded, if it is"),
                ("wall", "number?", "how long it took (s)"),
                ("conditions", "object?", "`before` and `after` the run ([tables.md](tables.md) "
                 "has the keys), and during it `busy_share_of_others` and `stolen_share`, known "
                 "to `busy_resolution`, `busiest_others`, `processors_allowed`, `utilisation` "
                 "(processor time over wall time and these), `left_behind`"),
            )
        ),
        Key("values", "object", "by metric: `value`, `unit`, `low`, `high`, `bound`, `samples`, "
            "`statistic`, and of a corrected reading what it was `before` and why it was "
            "`corrected`", lambda run: {n: vars(reading) for n, reading in run.values.items()}),
        Key("absences", "object", "by metric: `mark` and `reason` of a reading that is not there",
            lambda run: {n: {"mark": mark, "reason": why}
                         for n, (mark, why) in run.absences.items()}),
    ),
)  # fmt: skip
RUNS = Schema(
    "`ferocal runs --json`",
    (CHANGES, Key("run_list", "array", "the runs in order of time", lambda x: x.runs, RUN)),
)


def _beyond(key: str) -> Callable[[Any], str | None]:
    return lambda outlook: None if getattr(outlook, key) else _BEYOND


OUTLOOK = Schema(
    "An outlook",
    (
        *attributes(
            (
                ("workload", "string", "what is run"),
                ("metric", "string", "what is read"),
                ("unit", "string?", "the unit of `detectable`; null for shares"),
            )
        ),
        Key("components", "object", "`round_sd`, `degrees`, `run_variance`, `visit_variance`, "
            "`fixed` (what no number of rounds takes away), on the `scale` of the analysis",
            lambda outlook: asdict(outlook.components)),
        *attributes(
            (
                ("detectable", "number", "the smallest change that is found with 80 % power"),
                ("equivalence", "number", "the probability to show that nothing changes"),
                ("rounds_80", "integer?", "rounds in which the change is found, 80 % power"),
                ("rounds_90", "integer?", "the same with 90 % power"),
                ("runs", "integer?", "runs per visit that cost least"),
            )
        ),
        Key("rounds_80_reason", "string?", "why `rounds_80` is null", _beyond("rounds_80")),
        Key("rounds_90_reason", "string?", "why `rounds_90` is null", _beyond("rounds_90")),
    ),
)  # fmt: skip
PLAN = Schema(
    "`ferocal plan --json`",
    (
        *attributes(
            (
                ("schedule", "string", "`rounds`, `return` or `once`"),
                ("bench", "string?", "as seen on which bench; null where there is only one"),
            )
        ),
        Key("order", "array", "the visits: `round`, `position`, `configuration`",
            lambda f: [asdict(visit) for visit in f.visits]),
        Key("cost", "object", "`visits`, `switches`, `runs`, `warmups`, `run_seconds`, "
            "`switch_seconds`, `seconds`, and the workloads whose duration is `unknown`",
            lambda f: asdict(f.cost)),
        *attributes(
            (
                ("answers", "array", "what the plan can tell, in sentences"),
                ("shortcomings", "array", "what it cannot, in sentences"),
            )
        ),
        CHANGES,
        *attributes((("spread_from", "string?", "where the spread is from"),)),
        Key("outlook", "array", "what to expect, metric by metric", lambda f: f.outlooks,
            of=OUTLOOK),
    ),
)  # fmt: skip
_FACT = Schema(
    "A fact",
    attributes(
        (
            ("name", "string", "what it is of"),
            ("fact=value", "string", "the fact"),
            ("kind", "string", "`hardware`, `resource`, `software` or `declared`"),
            ("source", "string", "who says so"),
        )
    ),
)


def _configuration(view: Any) -> dict[str, Any]:
    checks = [f"{level} {expected}" for level, expected in view.checks]
    return {**vars(view), "prefix": list(view.prefix), "checks": checks}


INSPECTION = Schema(
    "`ferocal inspect --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("margin", "number", "its margin, a share"),
                ("baseline", "string", "its baseline"),
                ("schedule", "string", "`rounds`, `return` or `once`"),
            )
        ),
        Key("benches", "array", "`name` and declared `facts` of every bench",
            lambda i: [{"name": name, "facts": [_FACT.make(f) for f in facts]}
                       for name, facts in i.benches.items()]),
        Key("machine", "array", "what can be read of this machine", of=_FACT),
        Key("configurations", "array", "`name`, `levels`, `environment`, `prefix`, `checks`",
            lambda i: [_configuration(view) for view in i.configurations]),
        Key("factor_levels", "array", "`factor`, `level`, what it `brings`, its `checks`",
            lambda i: [vars(view) for view in i.levels]),
        Key("workloads", "object", "as the study file has them, with what it leaves out",
            lambda i: {n: i.mask.value(w.model_dump(mode="json", by_alias=True))
                       for n, w in i.workloads.items()}),
        Key("impossible", "array", "configurations that are skipped", lambda i: list(i.impossible)),
        Key("order", "array", "the order of the configurations in every round",
            lambda i: [list(names) for names in i.rounds]),
        *attributes(
            (
                ("runs", "integer", "runs on a bench"),
                ("warmups", "integer", "warm-ups on a bench"),
            )
        ),
        Key("looks", "array", "the latest look at the noise of every `bench`, with `at` and "
            "`figures`", lambda i: [look._asdict() for look in i.looks]),
    ),
)  # fmt: skip
_FLOOR_RECORD = Schema(
    "A noise floor",
    (
        *attributes(
            (
                ("bench", "string", "where"),
                ("workload", "string", "what was run"),
                ("metric", "string", "what was read"),
                ("unit", "string", "its unit"),
                ("scale", "string", "`ratio` (natural logarithms) or `difference`"),
                ("variance", "number", "of the summaries of visits"),
                ("degrees", "number", "its degrees of freedom"),
                ("runs_per_visit=runs", "number", "runs per visit"),
                ("run_variance", "number?", "of runs within visits"),
                ("run_degrees", "integer", "its degrees of freedom"),
            )
        ),
        Key("measured_at", "string?", "when, ISO 8601", lambda f: f.measured_at or None),
        *attributes((("source", "string", "where it is from"),)),
    ),
)
NOISE_FLOORS = Schema(
    "`ferocal noise-floor --json`",
    (Key("noise_floors", "array", "the noise floors", lambda records: records, of=_FLOOR_RECORD),),
)


def _of_note(name: str) -> Callable[[Any], Any]:
    return lambda pair: getattr(pair[1], name)


_NOTE = Schema(
    "A note",
    (
        Key("recorded_at", "string", "when it was recorded, ISO 8601", lambda pair: pair[0]),
        *(
            Key(*about, get=_of_note(about[0]))
            for about in (
                ("text", "string", "the note"),
                ("configuration", "string?", "on which configuration it is"),
                ("workload", "string?", "on which workload it is"),
                ("run", "string?", "on which run it is"),
                ("date", "string?", "when that was seen"),
                ("source", "string?", "where that was seen"),
            )
        ),
    ),
)
NOTES = Schema(
    "`ferocal note --json`", (Key("notes", "array", "the notes", lambda notes: notes, of=_NOTE),)
)
