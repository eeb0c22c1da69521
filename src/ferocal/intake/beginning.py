"""The text of a study file for readings: its levels, configurations, workloads and metrics."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import field
from functools import partial
from operator import eq
from typing import Literal, get_args

from ferocal.errors import IntakeError
from ferocal.intake.columns import FACTOR, Columns
from ferocal.study.quantities import parse_amount, parse_quantity
from ferocal.terms.bounds import is_time
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import plain_name
from ferocal.terms.roles import Role
from ferocal.terms.units import lower_is_better
from ferocal.terms.wording import listed

_DEFAULT_METRIC = "score"
_MOST_NAMED = 6
# What an exported table says of each metric besides, by the key of the study file, and what
# refuses a text that is something else.
STATED: dict[str, Callable[[str], object]] = {
    "role": get_args(Role).index,
    "margin": parse_amount,
    "resolution": float,
}
Order = Literal["time", "file"]


@dataclass(frozen=True)
class Levels:
    """What is known of levels: the factor whose levels follow each other, in which order; dates.

    ``amounts`` has the quantities of levels, by factor and level.
    """

    factor: str = ""
    order: Order = "file"
    dates: Mapping[str, str] = field(default_factory=dict)
    amounts: Mapping[tuple[str, str], Mapping[str, str]] = field(default_factory=dict)

    def lines(self, factor: str, level: str, first: bool) -> list[str]:
        """What stands before and in the table of a level of a factor."""
        own = [f"[factor.{quoted(factor)}.level.{quoted(level)}]"]
        amounts = self.amounts.get((factor, level), {})
        if amounts:
            told = ", ".join(f"{name} = {text}" for name, text in amounts.items())
            own.append(f"quantities = {{ {told} }}")
        if factor != self.factor:
            return own
        before = [f"[factor.{quoted(factor)}]", f'order = "{self.order}"', ""] if first else []
        date = self.dates.get(level)
        return [*before, *own, *([] if date is None else [f"date = {date}"])]


def amounts_of(
    readings: Columns, arms: Sequence[str], levels: Mapping[str, Mapping[str, str]]
) -> tuple[dict[tuple[str, str], dict[str, str]], list[str]]:
    """Prices and counts of cores by factor and level, and what of them cannot be used, and why.

    ``arms`` has the configuration of every row, ``levels`` those of each configuration.
    """
    found: dict[tuple[str, str], dict[str, str]] = {}
    unused: list[str] = []
    for name in ("price", "cores"):
        if name not in readings:
            continue
        texts: dict[str, set[str]] = {}
        for arm, text in zip(arms, readings.labels(name).at(readings.row), strict=True):
            if text:
                texts.setdefault(arm, set()).add(text)
        try:
            values = {arm: _in_toml(_amount(only)) for arm, (only,) in texts.items()}
        except ValueError as error:
            several = any(len(seen) > 1 for seen in texts.values())
            unused.append(f"{name}: {'differs within a configuration' if several else error}")
            continue
        factor = _factor_of(values, levels)
        if factor is None:
            unused.append(f"{name}: belongs to no level of one factor")
            continue
        for arm, value in values.items():
            found.setdefault((factor, levels[arm][factor]), {})[name] = value
    return found, unused


def amounts_in(rows: Columns) -> dict[str, float | str]:
    """The price and the count of cores that rows state, each where all agree on it."""
    found: dict[str, float | str] = {}
    for name in ("price", "cores"):
        texts = [text for text in rows.labels(name).used if text]
        if len(texts) == 1:
            with suppress(ValueError):
                found[name] = _amount(texts[0])
    return found


def _amount(text: str) -> float | str:
    """An amount as a study file has it: a plain number, or one with its unit."""
    number, unit = parse_quantity(text if re.search(r"[^\d.]", text) else float(text))
    whole = int(number) if number.is_integer() else number
    return whole if unit == "1" else f"{number:.12g} {unit}"


def _in_toml(amount: float | str) -> str:
    return quoted(amount) if isinstance(amount, str) else f"{amount:.12g}"


def _factor_of(values: Mapping[str, str], levels: Mapping[str, Mapping[str, str]]) -> str | None:
    """The factor whose levels decide an amount."""
    for factor in next(iter(levels.values())):
        by_level: dict[str, set[str]] = {}
        for arm, value in values.items():
            by_level.setdefault(levels[arm][factor], set()).add(value)
        if all(len(amounts) == 1 for amounts in by_level.values()):
            return factor
    return None


def dates_of(readings: Columns, factors: Sequence[str], where: str, order: Order) -> dict[str, str]:
    """The earliest date of the readings of each release, where they have one."""
    column = FACTOR + factors[0] if factors else "configuration"
    names = names_in(readings, column, where)
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


def configuration_lines(arms: dict[str, dict[str, str]], baseline: str, known: Levels) -> list[str]:
    """Tables of factors and configurations."""
    factors: dict[str, dict[str, None]] = {}
    for levels in arms.values():
        for factor, level in levels.items():
            factors.setdefault(factor, {})[level] = None
    lines = [
        line
        for factor, levels in factors.items()
        for n, level in enumerate(levels)
        for line in known.lines(factor, level, n == 0)
    ]
    if all([*levels.values()] == [name] for name, levels in arms.items()):
        (factor,) = factors
        chosen = f"{{ {_key(factor)} = {quoted(baseline)} }}"
        return [*lines, "", "[configuration]", f"baseline = {chosen}"]
    lines += ["", "[configuration]", 'design = "listed"', f"baseline = {quoted(baseline)}"]
    for name, levels in arms.items():
        lines.append(f"[configuration.named.{quoted(name)}]")
        lines += [f"{quoted(f)} = {quoted(level)}" for f, level in levels.items()]
    return lines


def names_in(readings: Columns, column: str, path: str) -> dict[str, str]:
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


def bench_lines(readings: Columns, path: str) -> list[str]:
    """Tables of the benches, where every row has one."""
    if "bench" not in readings or not readings.given("bench").all():
        return []
    return [
        *(f"[bench.{quoted(name)}]" for name in names_in(readings, "bench", path).values()),
        "",
    ]


def common_margin(readings: Columns) -> str:
    """The share that is the margin of most readings, "" where none is stated."""
    counts = Counter(readings.labels("margin").at(readings.row))
    return next((text for text, _ in counts.most_common() if text.endswith("%")), "")


def workload_lines(readings: Columns, path: str, guesses: list[str], margin: str) -> list[str]:
    """Tables of workloads and metrics, each with the unit of its first reading."""
    lines = []
    unsaid: dict[str, list[str]] = {}
    for text, workload in names_in(readings, "workload", path).items():
        of_workload = _rows_with(readings, "workload", text)
        lines += ["", f"[workload.{quoted(workload)}]"]
        groups = [group for group in of_workload.labels("group").used if group]
        if len(groups) == 1:
            lines.append(f"group = {quoted(groups[0])}")
        named = "metric" in readings
        metrics = names_in(of_workload, "metric", path) if named else {"": _DEFAULT_METRIC}
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
                f"[workload.{quoted(workload)}.metric.{quoted(metric)}]",
                *([f"title = {quoted(metric_text)}"] if metric_text not in ("", metric) else []),
                f"unit = {quoted(unit)}",
                f"better = {quoted(better)}",
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
    stated = {name: _first(rows, name) for name in STATED}
    usual = {"role": ("", "secondary"), "margin": ("", margin), "resolution": ("", "0.0")}
    return [
        f"{name} = {text if name == 'resolution' else quoted(text)}"
        for name, text in stated.items()
        if text not in usual[name]
    ]


def quoted(text: str) -> str:
    """A text as TOML has it, with its letters as they are."""
    return json.dumps(text, ensure_ascii=False)


def _key(text: str) -> str:
    """A text as a key of TOML, without quotes where it needs none."""
    return text if re.fullmatch(r"[A-Za-z0-9_-]+", text) else quoted(text)


def _rows_with(readings: Columns, column: str, text: str) -> Columns:
    return readings.taken(readings.labels(column).map(partial(eq, text)))


def _first(readings: Columns, column: str) -> str:
    return next(filter(None, readings.labels(column).used), "")
