"""A study begun from a file of readings: its configurations, workloads and metrics."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.errors import UsageError
from ferocal.intake.shapes import parse_columns, to_long
from ferocal.intake.tables import IntakeError, read_table
from ferocal.study.configurations import closest

if TYPE_CHECKING:
    import pandas as pd

# Units of which less is better; of all others more is.
_LOWER = re.compile(r"(ns|µs|us|ms|s|sec|min|h|[KMGT]?i?B|W|J|°C|°F|%)", re.IGNORECASE)
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
    import pandas as pd

    named = parse_columns(columns)
    parts = [to_long(chunk, path, named, None) for chunk in read_table(path)]
    frame = pd.concat(parts, ignore_index=True)
    names = _names(frame, "configuration", path)
    if len(names) < 2:
        raise IntakeError(f"{path}: has one configuration only, {names[0]}: nothing to compare")
    if baseline is not None and baseline not in names:
        raise UsageError(f'no configuration "{baseline}" in {path}; {closest(baseline, names)}')
    head = [
        f"# Made from {path.name}; look at units, directions and the margin.",
        "[study]",
        'question = "Which configuration changes the scores?"',
        'margin = "5 %"',
        "",
        *(f"[factor.configuration.level.{json.dumps(name)}]" for name in names),
        "",
        "[configuration]",
        f"baseline = {{ configuration = {json.dumps(baseline or names[0])} }}",
    ]
    return "\n".join([*head, *_workloads(frame, path), ""])


def _names(frame: pd.DataFrame, column: str, path: Path) -> list[str]:
    if column not in frame:
        raise IntakeError(f"{path}: no column tells the {column}; name it with --column {column}=…")
    names = [str(name).strip() for name in dict.fromkeys(frame[column])]
    odd = [name for name in names if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]*", name)]
    if odd:
        raise IntakeError(
            f'{path}: "{odd[0]}" is not a name that a study can have: use letters, digits, ".", '
            f'"_" and "-" in the column of the {column}'
        )
    return names


def _workloads(frame: pd.DataFrame, path: Path) -> list[str]:
    """Tables of workloads and metrics, each with the unit of its first reading."""
    lines = []
    for workload in _names(frame, "workload", path):
        own = frame[frame["workload"].str.strip() == workload]
        lines += ["", f"[workload.{json.dumps(workload)}]"]
        metrics = _names(own, "metric", path) if "metric" in own else [_DEFAULT_METRIC]
        for metric in metrics:
            rows = own[own["metric"].str.strip() == metric] if "metric" in own else own
            unit = _first(rows, "unit") or "points"
            better = _first(rows, "better") or ("lower" if _LOWER.fullmatch(unit) else "higher")
            lines += [
                f"[workload.{json.dumps(workload)}.metric.{json.dumps(metric)}]",
                f"unit = {json.dumps(unit, ensure_ascii=False)}",
                f"better = {json.dumps(better)}",
            ]
    return lines


def _first(frame: pd.DataFrame, column: str) -> str:
    if column not in frame:
        return ""
    return next((text.strip() for text in frame[column] if text.strip()), "")
