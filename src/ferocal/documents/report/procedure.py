"""How the readings of a study came about, what does not count, and from what the page was made."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from ferocal.documents.blocks import (
    Block,
    GridCell,
    Heading,
    Items,
    Line,
    make_table,
    run_anchor,
    sentences,
)
from ferocal.documents.changes import criteria_text, study_text
from ferocal.documents.remarks import corrected_lines
from ferocal.documents.runs import note_text, set_aside_lines
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.answers.procedure import Procedure
    from ferocal.answers.report import Report
    from ferocal.ledger.reading.runs import RunRow


def procedure_blocks(report: Report) -> Iterator[Block]:
    """How it was measured, from what happened."""
    procedure = report.procedure
    yield sentences([_extent(procedure), *_origin(procedure), *_order(procedure)])
    yield _configurations(report)
    count = "round" if procedure.in_rounds else "visits"
    for bench, order in procedure.order.items():
        several = f" to {bench}" if len(procedure.order) > 1 else ""
        yield make_table(
            (count, f"order of the visits{several}"),
            [[str(number), " → ".join(names)] for number, names in order],
            right=(count,),
        )
    yield from _lists(
        {
            "Checks that held": [f"{x}: {what}, held {n} times" for x, what, n in procedure.checks],
            "Remarks while measuring": procedure.remarks,
        }
    )
    for bench in report.comparison.benches:
        facts = [Line(value, name) for _, name, value in report.facts[bench]]
        if facts:
            yield Heading(f"bench {bench}", 3)
            yield Items(tuple((fact, ()) for fact in facts))


def left_out_blocks(report: Report) -> Iterator[Block]:
    """What was excluded, corrected, set aside, lost or changed, and why."""
    comparison, procedure = report.comparison, report.procedure
    excluded = [run for run in report.runs if run.excluded is not None]
    if excluded:
        yield _runs_table("Excluded runs", excluded)
    yield from _lists(
        {
            "Corrected readings": corrected_lines(comparison.corrected),
            "Visits that do not count (a check failed)": set_aside_lines(procedure.set_aside),
        }
    )
    lost = [run for run in report.runs if run.excluded is None and run.outcome in _LOST]
    if lost:
        yield _runs_table("Runs without valid readings", lost)
    changed = [f"criteria: {criteria_text(change)}" for change in comparison.criteria_changes]
    changed += [study_text(change) for change in comparison.study_changes]
    if comparison.left_out:
        text = counted(comparison.left_out, "reading")
        changed.append(f"{text} left out: study.toml no longer names what they are of")
    yield from _lists({"Changed since measuring began": changed})


def notes_blocks(report: Report) -> Iterator[Block]:
    """All notes in the order in which they were made."""
    yield from _lists(
        {"": [f"{at[:10]}, {note_text(note)}" for at, note in report.procedure.notes]}
    )


def provenance_blocks(report: Report) -> Iterator[Block]:
    """From what the page was made, so that others can tell whether they have the same."""
    known = report.provenance
    recorded = f", recorded with {listed(list(known.recorded_with))}" if known.recorded_with else ""
    entries = counted(known.ledger.entries, "entry", "entries")
    told = {
        "Ferocal": f"{known.version}{recorded}",
        "ledger": f"{known.ledger.id}, {entries}",
        "study file": f"SHA-256 {known.study_file}",
    }
    # What was not ordered by Ferocal has no seed.
    told |= {"seed": str(known.seed)} if report.procedure.order else {}
    yield Items(tuple((Line(text, head), ()) for head, text in told.items()))


# How a run ends that yields no reading that counts; "not active" is told by its visit.
_LOST = ("failed", "timeout", "interrupted", "disturbed")
# Of more runs so many are listed; the table of runs has all.
_MOST_LISTED = 40


def _runs_table(title: str, runs: list[RunRow]) -> Block:
    """Runs that do not count, each with its reason."""
    several = len({run.bench for run in runs}) > 1
    heads = ("run", *(["bench"] if several else []), "configuration", "workload", "round", "why")
    rows: list[list[str | GridCell]] = [
        [
            GridCell(run.id, leads_to=run_anchor(run.id)),
            *([run.bench] if several else []),
            run.configuration,
            run.workload,
            "" if run.round is None else str(run.round),
            run.excuse,
        ]
        for run in runs[:_MOST_LISTED]
    ]
    kinds = Counter(run.outcome if run.excluded is None else "excluded" for run in runs)
    more = f"{len(runs) - _MOST_LISTED} more of {listed([f'{n} {k}' for k, n in kinds.items()])}"
    caption = f"{more}: ferocal runs" if len(runs) > _MOST_LISTED else ""
    return make_table(heads, rows, right=("round",), title=title, caption=caption)


def _configurations(report: Report) -> Block:
    baseline = report.comparison.baseline
    rows: list[list[str | GridCell]] = [
        [
            GridCell(f"{name} (baseline)" if name == baseline else name),
            ", ".join(f"{factor} = {level}" for factor, level in levels.items()),
        ]
        for name, levels in report.configurations
    ]
    return make_table(("configuration", "levels"), rows)


def _extent(procedure: Procedure) -> str:
    """How many runs there are, and from when, as far as it is known."""
    outcomes = ", ".join(f"{n} {outcome}" for outcome, n in procedure.outcomes.items())
    total = counted(sum(procedure.outcomes.values()), "run")
    low, high = procedure.runs_per_visit or (0, 0)
    each = (
        "no runs" if not high else counted(low, "run") if low == high else f"{low} to {high} runs"
    )
    text = f"{total} ({outcomes}), {each} per workload and visit"
    if procedure.began is None or procedure.ended is None:
        return f"{text} (times unknown)." if procedure.undated else f"{text}."
    text += f", from {_minute(procedure.began)} to {_minute(procedure.ended)}"
    undated = counted(procedure.undated, "visit")
    return f"{text}, and {undated} of unknown date." if procedure.undated else f"{text}."


def _minute(time: str) -> str:
    return time[:16].replace("T", " ") + " UTC"


def _origin(procedure: Procedure) -> Iterator[str]:
    """How the runs came into the ledger."""
    words = {"measure": "measured by Ferocal", "enter": "typed", "load": "imported from files"}
    known = procedure.sources
    parts = [f"{known[kind]} {word}" for kind, word in words.items() if known.get(kind)]
    if parts:
        yield f"Origin: {listed(parts)}."


def _order(procedure: Procedure) -> Iterator[str]:
    """How the visits were ordered, where Ferocal has ordered them."""
    if not procedure.order:
        return
    if not procedure.in_rounds:
        yield "Configurations were measured one after the other, so drift is part of every change."
        return
    text = f"Rounds were planned in mirrored pairs, shuffled with seed {procedure.seed}."
    if split := procedure.split:
        whole = counted(procedure.rounds, "round")
        text += f" {split} of {whole} {be(split)} split: interrupted, and resumed later."
    if (looks := procedure.looks) is not None:
        seen = f"after rounds {', '.join(map(str, looks))}" if looks else "not yet"
        text += f" Sequential design: looks {seen}."
    yield text


def _lists(found: dict[str, list[str]]) -> Iterator[Items]:
    return (_list(title, texts) for title, texts in found.items() if texts)


def _list(title: str, texts: Iterable[str]) -> Items:
    return Items(tuple((Line(text), ()) for text in texts), title)
