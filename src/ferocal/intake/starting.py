"""A study begun from a file of readings: its configurations, workloads and metrics."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from operator import eq
from pathlib import Path
from typing import Literal, get_args

import numpy as np

from ferocal.bench.scratch import scratch_directory
from ferocal.errors import FerocalError, IntakeError, UsageError
from ferocal.intake.columns import Column, Columns, Labels
from ferocal.intake.formats import read_table
from ferocal.intake.shapes import FACTOR, is_text, parse_columns, to_long
from ferocal.ledger.opening import LEDGER_FILE
from ferocal.study.configurations import CONTROL
from ferocal.study.load import STUDY_FILE
from ferocal.study.quantities import parse_amount
from ferocal.study.template import write_template
from ferocal.terms.bounds import is_time
from ferocal.terms.names import closest, plain_name, resolve
from ferocal.terms.roles import Role
from ferocal.terms.units import lower_is_better
from ferocal.terms.wording import listed

_DEFAULT_METRIC = "score"
_DEFAULT_MARGIN = "5 %"
_MOST_NAMED = 6


@dataclass(frozen=True)
class Beginning:
    """The text of a study file, and what of it no file has said, in sentences.

    ``criteria`` names the columns that say how metrics are judged, which `load` does not read.
    """

    text: str
    guesses: tuple[str, ...]
    criteria: tuple[str, ...]


def describe_files(
    paths: Sequence[Path],
    columns: Sequence[str],
    baseline: str | None,
    factors: Sequence[str] = (),
    order: Order | None = None,
) -> Beginning:
    """A study for the readings of files; ``factors`` names columns whose texts are levels.

    Columns like "factor:driver" are such, too. With an ``order`` the levels of the first factor, or
    the configurations, are releases that follow each other: in order of "time", by the earliest
    date of the readings of each, or as they come in the "file".

    Raises
    ------
    IntakeError
        When a file cannot be read, when they have fewer than two configurations without an order,
        or when a release has no date in an order of time.
    UsageError
        When the baseline is none of them.
    """
    readings, factors = _read(paths, columns, factors)
    where = ", ".join(map(str, paths))
    arms = _arms(readings, factors, where)
    names = list(arms)
    if len(names) < 2 and order is None:
        raise IntakeError(f"{where}: has one configuration only, {names[0]}: nothing to compare")
    baseline = None if baseline is None else resolve(baseline, names)
    if baseline is not None and baseline not in names:
        raise UsageError(f'no configuration "{baseline}" in {where}; {closest(baseline, names)}')
    control = len(arms) > 2 and arms.get(CONTROL) == arms[baseline or names[0]]
    if control:
        del arms[CONTROL]
    guesses: list[str] = []
    releases = None
    if order is not None:
        lead = factors[0] if factors else "configuration"
        releases = _Releases(lead, order, _dates(readings, factors, where, order))
    margin = _common_margin(readings)
    head = [
        f"# Made from {', '.join(path.name for path in paths)}; look at units, directions and the "
        "margin.",
        "[study]",
        'question = "Which configuration changes the scores?"',
        f"margin = {_quoted(margin or _DEFAULT_MARGIN)}",
        *(["control = true"] if control else []),
        "",
        *_benches(readings, where),
        *_configurations(arms, baseline or names[0], releases),
    ]
    told = "the question is put in general"
    guesses.append(told if margin else f"the margin is {_DEFAULT_MARGIN}, and {told}")
    if baseline is None:
        guesses.append(f"the baseline is {names[0]}, which comes first")
    workloads = _workloads(readings, where, guesses, margin)
    criteria = tuple(name for name in _STATED if name in readings)
    return Beginning("\n".join([*head, *workloads, ""]), tuple(guesses), criteria)


_OWN = ("configuration", "workload", "metric", "unit", "better", "bench")
# What an exported table says of each metric besides, by the key of the study file, and what
# refuses a text that is something else.
_STATED: dict[str, Callable[[str], object]] = {
    "role": get_args(Role).index,
    "margin": parse_amount,
    "resolution": float,
}


def _read(
    paths: Sequence[Path], columns: Sequence[str], factors: Sequence[str]
) -> tuple[Columns, list[str]]:
    """What the rows of all files say of their place, and the names of the factors among it."""
    named = parse_columns(columns)
    texts: dict[str, list[str]] = {}
    count, found = 0, list(factors)
    for path in paths:
        table = read_table(path, partial(_is_text, named, factors))
        given = [name for name in table.columns.names if name.startswith(FACTOR)]
        found += [n for name in given if (n := name.removeprefix(FACTOR)) not in found]
        missing = [f for f in factors if not {f, FACTOR + f} & set(table.columns.names)]
        if missing:
            hint = closest(missing[0], table.columns.names)
            raise IntakeError(f'{path}: no column "{missing[0]}" for --factor; {hint}')
        readings = to_long(table, named, None, factors=found)
        if "workload" not in readings:
            alone = Labels.same(plain_name(path.stem) or "workload", len(readings))
            readings = Columns({**readings.by_name, "workload": alone}, readings.row)
        # The levels of a factor are kept apart from a column of the table that has its name.
        sources = {name: name for name in (*_OWN, "started_at", *_STATED)}
        sources |= {FACTOR + f: FACTOR + f if FACTOR + f in readings else f for f in found}
        for name, source in sources.items():
            if source in readings and _is_understood(readings.labels(source), name):
                rows = readings.labels(source).at(np.arange(len(readings)))
                texts.setdefault(name, [""] * count).extend(rows)
        count += len(readings)
        for rows in texts.values():
            rows += [""] * (count - len(rows))
    by_name: dict[str, Column] = {name: Labels.of_texts(rows) for name, rows in texts.items()}
    return Columns(by_name, np.arange(count)), found


def _is_understood(labels: Labels, name: str) -> bool:
    """Whether all texts of a column are what its name promises, of those that `new` reads."""
    try:
        for text in filter(None, labels.names if name in _STATED else ()):
            _STATED[name](text)
    except ValueError:
        return False
    return True


def _is_text(named: Mapping[str, str], factors: Sequence[str], name: str) -> bool:
    return is_text(name, named, None) or name in factors or name.startswith(FACTOR)


def _arms(readings: Columns, factors: Sequence[str], where: str) -> dict[str, dict[str, str]]:
    """The configurations with the level of each factor, by name."""
    if not factors:
        names = _names(readings, "configuration", where).values()
        return {name: {"configuration": name} for name in names}
    levels = {f: _names(readings, FACTOR + f, where) for f in factors}
    columns = [
        [levels[f][text] for text in readings.labels(FACTOR + f).at(readings.row)] for f in factors
    ]
    arms: dict[str, dict[str, str]] = {}
    own = readings.labels("configuration").at(readings.row)
    for name, *combination in zip(own, *columns, strict=True):
        # Configurations may be called like the levels that they join.
        label = "+".join(filter(None, map(plain_name, name.split("+")))) or "+".join(combination)
        chosen = dict(zip(factors, combination, strict=True))
        if arms.setdefault(label, chosen) != chosen:
            raise IntakeError(f"{where}: {label} is of several combinations of levels")
    return arms


Order = Literal["time", "file"]


@dataclass(frozen=True)
class _Releases:
    """A factor whose levels follow each other, in which order, and the date of each level."""

    factor: str
    order: Order
    dates: Mapping[str, str]

    def lines(self, factor: str, level: str, first: bool) -> list[str]:
        """What stands before and in the table of a level of a factor."""
        header = f"[factor.{_quoted(factor)}.level.{_quoted(level)}]"
        if factor != self.factor:
            return [header]
        before = [f"[factor.{_quoted(factor)}]", f'order = "{self.order}"', ""] if first else []
        date = self.dates.get(level)
        return [*before, header, *([] if date is None else [f"date = {date}"])]


def _dates(readings: Columns, factors: Sequence[str], where: str, order: Order) -> dict[str, str]:
    """The earliest date of the readings of each release, where they have one."""
    column = FACTOR + factors[0] if factors else "configuration"
    names = _names(readings, column, where)
    found: dict[str, str] = {}
    texts = readings.labels("started_at").at(readings.row) if "started_at" in readings else []
    for level, text in zip(readings.labels(column).at(readings.row), texts, strict=False):
        if text and is_time(text):
            day = text[:10]
            found[names[level]] = min(day, found.get(names[level], day))
    missing = [name for name in names.values() if name not in found]
    if missing and order == "time":
        raise IntakeError(
            f"{where}: no date like 2026-11-30 with {listed(missing[:_MOST_NAMED])}: name the "
            "column with --column date=NAME, or take --order file"
        )
    return found


def _configurations(
    arms: dict[str, dict[str, str]], baseline: str, releases: _Releases | None
) -> list[str]:
    """Tables of factors and configurations."""
    factors: dict[str, dict[str, None]] = {}
    for levels in arms.values():
        for factor, level in levels.items():
            factors.setdefault(factor, {})[level] = None
    releases = releases or _Releases("", "file", {})
    lines = [
        line
        for factor, levels in factors.items()
        for n, level in enumerate(levels)
        for line in releases.lines(factor, level, n == 0)
    ]
    if all([*levels.values()] == [name] for name, levels in arms.items()):
        (factor,) = factors
        chosen = f"{{ {_key(factor)} = {_quoted(baseline)} }}"
        return [*lines, "", "[configuration]", f"baseline = {chosen}"]
    lines += ["", "[configuration]", 'design = "listed"', f"baseline = {_quoted(baseline)}"]
    for name, levels in arms.items():
        lines.append(f"[configuration.named.{_quoted(name)}]")
        lines += [f"{_quoted(f)} = {_quoted(level)}" for f, level in levels.items()]
    return lines


def _names(readings: Columns, column: str, path: str) -> dict[str, str]:
    """The texts of a column with the names that a study can have for them."""
    if column not in readings:
        raise IntakeError(f"{path}: no column has the {column}; name it with --column {column}=…")
    texts: dict[str, str] = {}
    for text in readings.labels(column).used:
        name = plain_name(text)
        if not name:
            problem = f'"{text}" gives no name' if text else "a row has none"
            raise IntakeError(f"{path}, {column}: {problem}; use letters and digits")
        if name in texts:
            raise IntakeError(
                f'{path}, {column}: "{texts[name]}" and "{text}" would both be called {name}; '
                "call one otherwise"
            )
        texts[name] = text
    return {text: name for name, text in texts.items()}


def _benches(readings: Columns, path: str) -> list[str]:
    """Tables of the benches, where every row has one."""
    if "bench" not in readings or not readings.given("bench").all():
        return []
    return [
        *(f"[bench.{_quoted(name)}]" for name in _names(readings, "bench", path).values()),
        "",
    ]


def _common_margin(readings: Columns) -> str:
    """The share that is the margin of most readings, "" where none is stated."""
    counts = Counter(readings.labels("margin").at(readings.row))
    return next((text for text, _ in counts.most_common() if text.endswith("%")), "")


def _workloads(readings: Columns, path: str, guesses: list[str], margin: str) -> list[str]:
    """Tables of workloads and metrics, each with the unit of its first reading."""
    lines = []
    unsaid: dict[str, list[str]] = {}
    for text, workload in _names(readings, "workload", path).items():
        of_workload = _rows_with(readings, "workload", text)
        lines += ["", f"[workload.{_quoted(workload)}]"]
        named = "metric" in readings
        metrics = _names(of_workload, "metric", path) if named else {"": _DEFAULT_METRIC}
        for metric_text, metric in metrics.items():
            rows = _rows_with(of_workload, "metric", metric_text) if named else of_workload
            stated, better = _first(rows, "unit"), _first(rows, "better")
            unit = stated or "points"
            if not stated:
                unsaid.setdefault("the unit is points", []).append(f"{workload} {metric}")
            if not better:
                better = "lower" if lower_is_better(unit) else "higher"
                unsaid.setdefault(f"{better} is better", []).append(f"{workload} {metric}")
            lines += [
                f"[workload.{_quoted(workload)}.metric.{_quoted(metric)}]",
                f"unit = {_quoted(unit)}",
                f"better = {_quoted(better)}",
                *_stated_keys(rows, margin),
            ]
    for what, places in unsaid.items():
        shown = places if len(places) <= _MOST_NAMED else places[: _MOST_NAMED - 1]
        more = len(places) - len(shown)
        rest = f" and {more} more" if more else ""
        guesses.append(f"{what}, for {', '.join(shown)}{rest}")
    return lines


def _stated_keys(rows: Columns, margin: str) -> list[str]:
    """What a table says of a metric that a study file would not have by itself."""
    stated = {name: _first(rows, name) for name in _STATED}
    usual = {"role": ("", "secondary"), "margin": ("", margin), "resolution": ("", "0.0")}
    return [
        f"{name} = {text if name == 'resolution' else _quoted(text)}"
        for name, text in stated.items()
        if text not in usual[name]
    ]


def _quoted(text: str) -> str:
    """A text as TOML has it, with its letters as they are."""
    return json.dumps(text, ensure_ascii=False)


def _key(text: str) -> str:
    """A text as a key of TOML, without quotes where it needs none."""
    return text if re.fullmatch(r"[A-Za-z0-9_-]+", text) else _quoted(text)


def _rows_with(readings: Columns, column: str, text: str) -> Columns:
    return readings.taken(readings.labels(column).map(partial(eq, text)))


def _first(readings: Columns, column: str) -> str:
    return next(filter(None, readings.labels(column).used), "")


@contextmanager
def study_in_the_making(directory: Path, text: str) -> Iterator[Path]:
    """A place for a study with what is recorded of it, which takes its place at the end.

    Where anything fails before, nothing of it is left.

    Raises
    ------
    UsageError
        When the directory has a study file or a ledger already.
    FerocalError
        When something cannot be written.
    """
    existed = directory.exists()
    try:
        directory.mkdir(parents=True, exist_ok=True)
        taken = [n for n in (STUDY_FILE, LEDGER_FILE) if (directory / n).exists()]
        if taken:
            raise UsageError(
                f"{directory / taken[0]} exists and was not changed; choose another directory"
            )
        with scratch_directory(directory, ".new-") as making:
            write_template(making, text)
            yield making
            # The study file last: without it there is no study.
            for name in (LEDGER_FILE, STUDY_FILE):
                (making / name).replace(directory / name)
    except OSError as error:
        raise FerocalError(f"{directory}: cannot be written: {error.strerror}") from None
    finally:
        if not existed:
            with suppress(OSError):  # there is something in it
                directory.rmdir()
