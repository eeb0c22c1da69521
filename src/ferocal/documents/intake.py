"""What was imported, combined, or would be."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ferocal.documents.blocks import Document, Table, caveats, make_table, sentences
from ferocal.documents.numbers import reading_text
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import counted, listed, shortened

if TYPE_CHECKING:
    from ferocal.intake.combining import Brought
    from ferocal.intake.loading import Loaded
    from ferocal.intake.magnitudes import OddReading
    from ferocal.intake.ratios import WrongRatio
    from ferocal.intake.readings import Intake
    from ferocal.intake.tables.reading import TableReading
    from ferocal.intake.trace_loading import LoadedTraces
    from ferocal.study.combining import CombinedStudy, Match, SourceMap
    from ferocal.study.load import Study

# Of more readings some of every metric are shown.
_MOST_ROWS = 12
_MOST_ODD = 5
_MOST_LEFT_OUT = 6
_MOST_READ = 6
# More columns than these that are called what they are take one line.
_FEW_PLAIN = 8
# Of the names of combined studies, so many are listed.
_MOST_ENTRIES = 30


def loaded_lines(loaded: Loaded, *, preview: bool) -> list[str]:
    """How much of a file was recorded, and its caveats."""
    counts = loaded.counts
    verb = "would record" if preview else "recorded"
    lines = [
        f"{loaded.path}: {verb} {counted(counts['readings'], 'reading')} of "
        f"{counted(counts['runs'], 'run')} in {counted(counts['visits'], 'visit')}"
        + (f", and {counted(counts['traces'], 'trace')}" if counts["traces"] else "")
    ]
    return lines + loaded_notes(loaded)


def loaded_notes(loaded: Loaded) -> list[str]:
    """Caveats of what was loaded."""
    lines = []
    counts = loaded.counts
    if loaded.repeated:
        lines.append(f"  skipped (already in the ledger): {counted(loaded.repeated, 'row')}")
    if counts["absences"]:
        lines.append(f"  cells without a value (n/a, -, not active): {grouped(counts['absences'])}")
    if loaded.reading is not None:
        lines += _left_out_lines(loaded.reading)
    if loaded.unused:
        dated = next((name for name in loaded.unused if name.lower() == "time"), None)
        hint = f" (if it is the time of the run: --column date={dated})" if dated else ""
        names = ", ".join(f'"{name}"' for name in loaded.unused)
        lines.append(
            f"  not used: {'column' if len(loaded.unused) == 1 else 'columns'} {names}{hint}"
        )
    if loaded.assumed_zones:
        lines.append(f"  no time zone, so UTC assumed: {counted(loaded.assumed_zones, 'time')}")
    lines += [f"  {line}" for line in (*odd_lines(loaded.odd), *ratio_lines(loaded.ratios))]
    if loaded.twins:
        lines.append(
            f"  identical rows: {grouped(loaded.twins)}, each counted as a run; remove them if "
            "they are copies, or name the runs in a column `run`"
        )
    return lines


def _left_out_lines(reading: TableReading) -> list[str]:
    """Lines beside a table, and its columns and rows that are no readings, and why."""
    columns = [
        (f'column "{c.name}"', c.why) for t in reading.tables for c in t.roles.of("left out")
    ]
    rows = [(f'row "{name}"', why) for t in reading.tables for name, why in t.left_out]
    distinct = list(dict.fromkeys([*columns, *rows]))
    lines = [
        f'  beside the table: "{shortened(text, 70)}"' for text in reading.around[:_MOST_LEFT_OUT]
    ]
    lines += [f"  left out: {what} ({why})" for what, why in distinct[:_MOST_LEFT_OUT]]
    if len(distinct) > _MOST_LEFT_OUT:
        lines.append(f"  left out: {len(distinct) - _MOST_LEFT_OUT} more; --preview lists them")
    return lines


def odd_lines(odd: Sequence[OddReading]) -> list[str]:
    """Readings of another order of magnitude than their fellows, and how to correct each."""
    lines = [
        f"doubtful: {o.workload} {o.metric} with {o.configuration} is {significant(o.value)} "
        f"{o.unit}, the others are near {significant(o.fellows)}; to correct it: "
        f"ferocal correct {o.run} {o.metric} VALUE --reason TEXT"
        for o in odd[:_MOST_ODD]
    ]
    if len(odd) > _MOST_ODD:
        lines.append(f"doubtful: {len(odd) - _MOST_ODD} more; `ferocal compare` names them")
    return lines


def reading_document(reading: TableReading) -> Document:
    """How a table was understood: what each column and row is, and why; and what is doubtful."""
    rows = [*_rows_around(reading), *_column_rows(reading)]
    left_out = {pair: None for table in reading.tables for pair in table.left_out}
    rows += [[f'row "{name}"' if name else "a row", "left out", why] for name, why in left_out]
    doubts = [f"{d.what}: taken {d.taken}; to settle it: {d.remedy}" for d in reading.doubts]
    return Document(
        "", (make_table(("in the file", "is", "because"), rows), *caveats(doubts, look="doubtful"))
    )


def read_rows(reading: TableReading) -> Table:
    """The first readings of a table as they were understood; says how many more."""
    columns = reading.columns
    factors = [name for name in columns.names if name.startswith("factor:")]
    wanted = ["configuration", *factors, "workload", "metric", "value", "unit", "run", "started_at"]
    names = [name for name in wanted if name in columns]
    places = np.arange(min(len(columns), _MOST_READ))
    form = reading.form.form
    texts = [
        [form.shown(text) if name == "value" else text for text in columns.labels(name).at(places)]
        for name in names
    ]
    rows = [list(row) for row in zip(*texts, strict=True)]
    more = len(columns) - len(places)
    caption = f"and {counted(more, 'reading')} more" if more else ""
    return make_table([name.removeprefix("factor:") for name in names], rows, caption=caption)


def _rows_around(reading: TableReading) -> list[list[str]]:
    """The rows above and below the table, and the form of its numbers."""
    first = reading.tables[0]
    layout = first.layout
    header = listed([layout.grid.place(row) for row in layout.header_rows])
    rows = [[header, "header", "names above the readings"]]
    for table in reading.tables:
        rows += [
            [shortened(title, 40), "title", "above the header"] for title in table.layout.titles
        ]
    if len(reading.tables) > 1:
        names = ", ".join(table.grid.name for table in reading.tables)
        rows.append([shortened(names, 40), "sheets", "they look alike"])
    rows += [[name, "passed over", "no numbers"] for name in reading.passed_over]
    if reading.form.evidence:
        sign = "decimal comma" if reading.form.form.decimal == "," else "decimal point"
        rows.append(["numbers", sign, reading.form.evidence])
    notes = [*layout.footnotes.items(), *(("", remark) for remark in layout.remarks)]
    rows += [
        [shortened(f"{sign} {text}".strip(), 40), "note", "below the table"] for sign, text in notes
    ]
    return rows


def _column_rows(reading: TableReading) -> list[list[str]]:
    """Columns by what they are, those of one kind that follow each other in one row."""
    rows: list[list[str]] = []
    columns = [column for column in reading.tables[0].roles.columns if column.name]
    plain = [column for column in columns if column.name == column.role]
    if len(plain) > _FEW_PLAIN:
        rows.append([f"{len(plain)} columns, such as {plain[0].name}", "as called", "their names"])
        columns = [column for column in columns if column not in plain]
    for column in columns:
        told = [column.role.removeprefix("factor:"), column.why]
        if column.role.startswith("factor:"):
            told[0] = f"factor {told[0]}"
        if column.role == "values" and column.unit:
            told[0] = f"values in {column.unit}"
        if rows and rows[-1][1:] == told:
            rows[-1][0] = f"{rows[-1][0].split(' … ')[0]} … {column.name}"
        else:
            rows.append([column.name, *told])
    return [[shortened(row[0], 40), *row[1:]] for row in rows]


def ratio_lines(ratios: Sequence[WrongRatio]) -> list[str]:
    """Ratios that contradict their parts."""
    lines = [
        f"doubtful: {r.workload} {r.metric} with {r.configuration} is {significant(r.value)}, but "
        f"{' / '.join(r.parts)} is {significant(r.expected)}"
        for r in ratios[:_MOST_ODD]
    ]
    if len(ratios) > _MOST_ODD:
        lines.append(f"doubtful: {len(ratios) - _MOST_ODD} more ratios")
    return lines


def readings_table(study: Study, loaded: Loaded) -> Table:
    """The first readings of every metric of a file as they are understood; says how many more."""
    intake, metrics = loaded.intake, study.read_metrics()
    names = [c.name for c in study.configurations]
    several = len(study.benches) > 1
    columns = ["configuration", "workload", "metric", "value", "round", "visit", "run"]
    rows = []
    for n in _telling_rows(intake):
        workload, name, metric = metrics[int(intake.series_of[n])]
        number = int(intake.round[n])
        rows.append(
            [
                *([study.benches[int(intake.bench_of[n])]] if several else []),
                names[int(intake.configuration_of[n])],
                workload,
                name,
                _cell(intake, n, metric.unit),
                str(number) if number > 0 else "",
                intake.visit[n],
                intake.run[n],
            ]
        )
    rest = len(intake.value) - len(rows)
    caption = f"and {counted(rest, 'reading')} more" if rest else ""
    return make_table([*(["bench"] if several else []), *columns], rows, caption=caption)


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
    samples = float(intake.samples[row])
    text = reading_text(
        float(intake.value[row]),
        ends,
        intake.bound[row],
        statistic=intake.statistic[row],
        samples=None if math.isnan(samples) else int(samples),
    )
    return f"{text} {unit}"


def captures_table(loaded: LoadedTraces) -> Table:
    """The metrics computed of every run's captures, with their files."""
    rows = []
    for files, values in loaded.runs:
        first = ", ".join(file.name for file in files)
        for name, value in values.items():
            rows.append([first, name, significant(value)])
            first = ""
    return make_table(("files", "metric", "value"), rows, right=("value",))


def combination_document(combined: CombinedStudy) -> Document:
    """What everything is called in the combined study, and what contradicts."""
    entries = [(source, entry) for source in combined.sources for entry in source.entries]
    more = len(entries) - _MOST_ENTRIES
    whole = [
        f"{source.study.directory}: all of it with {factor}={level}"
        for source in combined.sources
        for factor, level in source.levels.items()
    ]
    return Document(
        "",
        (
            make_table(
                ("study", "kind", "there", "here", ""),
                [_row(source, entry) for source, entry in entries[:_MOST_ENTRIES]],
                caption=f"{more} more" if more > 0 else "",
            ),
            *([sentences(whole)] if whole else []),
            *caveats(combined.conflicts),
        ),
    )


def _row(source: SourceMap, entry: Match) -> list[str]:
    how = "new" if entry.new else "same"
    if entry.name != entry.target:
        how += ", renamed"
    return [str(source.study.directory), entry.kind, entry.name, entry.target, how]


def brought_lines(brought: Sequence[Brought]) -> list[str]:
    """What each study has brought."""
    lines = []
    for b in brought:
        text = f"{b.directory}: {counted(b.runs, 'run')} of {counted(b.visits, 'visit')}"
        if b.known_runs:
            text += f"; {b.known_runs} were there already"
        lines.append(text)
    return lines
