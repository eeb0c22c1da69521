"""What was loaded, or would be, as text."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from rich.table import Table

from ferocal.render.numbers import reading_text
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.intake.loading import Loaded
    from ferocal.intake.magnitudes import OddReading
    from ferocal.intake.readings import Intake
    from ferocal.intake.trace_loading import LoadedTraces
    from ferocal.study.load import Study

# Of more readings some of every metric are shown.
_MOST_ROWS = 12
_MOST_ODD = 5


def loaded_lines(loaded: Loaded, *, preview: bool) -> list[str]:
    """How much of a file was recorded, and what to mind."""
    counts = loaded.counts
    verb = "would record" if preview else "recorded"
    lines = [
        f"{loaded.path}: {verb} {counted(counts['readings'], 'reading')} of "
        f"{counted(counts['runs'], 'run')} in {counted(counts['visits'], 'visit')}"
        + (f", and {counted(counts['traces'], 'trace')}" if counts["traces"] else "")
    ]
    return lines + loaded_notes(loaded)


def loaded_notes(loaded: Loaded) -> list[str]:
    """What to mind of what was loaded."""
    lines = []
    counts = loaded.counts
    if loaded.repeated:
        lines.append(f"  rows left out that are in the ledger already: {grouped(loaded.repeated)}")
    if counts["absences"]:
        lines.append(f"  cells without a value (n/a, -, not active): {grouped(counts['absences'])}")
    if loaded.unused:
        lines.append(f"  columns from which nothing was read: {', '.join(loaded.unused)}")
    if loaded.assumed_zones:
        lines.append(f"  times without a zone, taken as UTC: {grouped(loaded.assumed_zones)}")
    lines += [f"  {line}" for line in odd_lines(loaded.odd)]
    if loaded.twins:
        lines.append(
            f"  rows that repeat another one: {grouped(loaded.twins)}; they count as runs of "
            "their own; take them out if they are copies, or name the runs in a column `run`"
        )
    return lines


def odd_lines(odd: Sequence[OddReading]) -> list[str]:
    """Readings of another order of magnitude than their fellows, and how to correct each."""
    lines = [
        f"doubtful: {o.workload} {o.metric} with {o.configuration} is {significant(o.value)} "
        f"{o.unit}, where the others are near {significant(o.fellows)}; if it is wrong: "
        f"ferocal correct {o.run} {o.metric} VALUE --reason TEXT"
        for o in odd[:_MOST_ODD]
    ]
    if len(odd) > _MOST_ODD:
        lines.append(f"doubtful: {len(odd) - _MOST_ODD} more; `ferocal compare` names them")
    return lines


def readings_table(study: Study, loaded: Loaded) -> Table:
    """The first readings of every metric of a file as they are understood; says how many more."""
    intake, metrics = loaded.intake, study.read_metrics()
    names = [c.name for c in study.configurations]
    several = len(study.benches) > 1
    columns = ["configuration", "workload", "metric", "value", "round", "visit", "run"]
    table = plain_table(*(["bench"] if several else []), *columns)
    for n in _telling_rows(intake):
        workload, name, metric = metrics[int(intake.series_of[n])]
        number = int(intake.round[n])
        table.add_row(
            *([study.benches[int(intake.bench_of[n])]] if several else []),
            names[int(intake.configuration_of[n])],
            workload,
            name,
            _cell(intake, n, metric.unit),
            str(number) if number > 0 else "",
            intake.visit[n],
            intake.run[n],
        )
    rest = len(intake.value) - table.row_count
    if rest:
        table.caption_justify = "left"
        table.caption = f"and {counted(rest, 'reading')} more"
    return table


def _telling_rows(intake: Intake) -> list[int]:
    """Places of a few readings, of as many metrics as there is room for, in their order."""
    distinct = np.unique(intake.series_of)
    each = max(1, _MOST_ROWS // max(1, len(distinct)))
    found = [np.flatnonzero(intake.series_of == n)[:each] for n in distinct[:_MOST_ROWS]]
    return sorted(int(place) for places in found for place in places)


def _cell(intake: Intake, row: int, unit: str) -> str:
    """A reading as it was understood: its range or bound, or the mark in its place."""
    if intake.mark[row]:
        reason = f": {intake.reason[row]}" if intake.reason[row] else ""
        return f"{intake.mark[row]}{reason}"
    low, high = float(intake.low[row]), float(intake.high[row])
    ends = None if math.isnan(low) or math.isnan(high) else (low, high)
    return f"{reading_text(float(intake.value[row]), ends, intake.bound[row])} {unit}"


def captures_table(loaded: LoadedTraces) -> Table:
    """The metrics computed of every run's captures, with their files."""
    table = plain_table("files", "metric", "value", right=("value",))
    for files, values in loaded.runs:
        first = ", ".join(file.name for file in files)
        for name, value in values.items():
            table.add_row(first, name, significant(value))
            first = ""
    return table
