"""A study begun from a file of readings: its configurations, workloads and metrics."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import partial
from operator import eq
from pathlib import Path

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.columns import Columns, Labels
from ferocal.intake.formats import read_table
from ferocal.intake.shapes import is_text, parse_columns, to_long
from ferocal.terms.names import closest, plain_name, resolve
from ferocal.terms.units import lower_is_better

_DEFAULT_METRIC = "score"


def describe_file(path: Path, columns: Sequence[str], baseline: str | None) -> str:
    """The text of a study file for the readings of a file.

    Raises
    ------
    IntakeError
        When the file cannot be read, or has fewer than two configurations.
    UsageError
        When the baseline is none of them.
    """
    named = parse_columns(columns)
    table = read_table(path, lambda name: is_text(name, named, None))
    readings = to_long(table, named, None)
    names = list(_names(readings, "configuration", path).values())
    if len(names) < 2:
        raise IntakeError(f"{path}: has one configuration only, {names[0]}: nothing to compare")
    baseline = None if baseline is None else resolve(baseline, names)
    if baseline is not None and baseline not in names:
        raise UsageError(f'no configuration "{baseline}" in {path}; {closest(baseline, names)}')
    head = [
        f"# Made from {path.name}; look at units, directions and the margin.",
        "[study]",
        'question = "Which configuration changes the scores?"',
        'margin = "5 %"',
        "",
        *_benches(readings, path),
        *(f"[factor.configuration.level.{json.dumps(name)}]" for name in names),
        "",
        "[configuration]",
        f"baseline = {{ configuration = {json.dumps(baseline or names[0])} }}",
    ]
    return "\n".join([*head, *_workloads(readings, path), ""])


def _names(readings: Columns, column: str, path: Path) -> dict[str, str]:
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


def _benches(readings: Columns, path: Path) -> list[str]:
    """Tables of the benches, where every row has one."""
    if "bench" not in readings or not readings.given("bench").all():
        return []
    return [
        *(f"[bench.{json.dumps(name)}]" for name in _names(readings, "bench", path).values()),
        "",
    ]


def _workloads(readings: Columns, path: Path) -> list[str]:
    """Tables of workloads and metrics, each with the unit of its first reading."""
    lines = []
    if "workload" not in readings:
        alone = Labels.same(plain_name(path.stem) or "workload", len(readings))
        readings = Columns({**readings.by_name, "workload": alone}, readings.row)
    for text, workload in _names(readings, "workload", path).items():
        of_workload = _rows_with(readings, "workload", text)
        lines += ["", f"[workload.{json.dumps(workload)}]"]
        named = "metric" in readings
        metrics = _names(of_workload, "metric", path) if named else {"": _DEFAULT_METRIC}
        for metric_text, metric in metrics.items():
            rows = _rows_with(of_workload, "metric", metric_text) if named else of_workload
            unit = _first(rows, "unit") or "points"
            better = _first(rows, "better") or ("lower" if lower_is_better(unit) else "higher")
            lines += [
                f"[workload.{json.dumps(workload)}.metric.{json.dumps(metric)}]",
                f"unit = {json.dumps(unit, ensure_ascii=False)}",
                f"better = {json.dumps(better)}",
            ]
    return lines


def _rows_with(readings: Columns, column: str, text: str) -> Columns:
    return readings.taken(readings.labels(column).map(partial(eq, text)))


def _first(readings: Columns, column: str) -> str:
    return next(filter(None, readings.labels(column).used), "")
