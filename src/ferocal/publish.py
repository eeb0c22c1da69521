"""A study's page: what the ledger and the analysis hold, handed to the report."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

from ferocal._version import __version__
from ferocal.analysis.cells import tabulate
from ferocal.comparison import compare
from ferocal.errors import FerocalError
from ferocal.evidence import Evidence, gather
from ferocal.ledger.annotate import read_notes
from ferocal.ledger.extract import (
    VisitRow,
    count_outcomes,
    read_failures,
)
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.store import Ledger
from ferocal.report.page import Method, PageContent, render_page
from ferocal.study.load import Study, load_study


def write_report(directory: Path, output: Path) -> Path:
    """Write the HTML report of a study; a page that is there is replaced as a whole.

    Raises
    ------
    FerocalError
        When there is nothing to report, or the page cannot be written.
    """
    study = load_study(directory)
    with open_ledger(directory) as ledger:
        text = render_page(_content(study, ledger))
    partial = output.with_name(output.name + ".part")
    try:
        partial.write_text(text, encoding="utf-8")
        partial.replace(output)
    except OSError as error:
        raise FerocalError(f"{output}: cannot be written: {error.strerror}") from None
    return output


def _content(study: Study, ledger: Ledger) -> PageContent:
    evidence = gather(study, ledger)
    comparison = compare(study, evidence)
    return PageContent(
        question=study.head.question,
        margin=study.head.margin,
        baseline=study.baseline,
        bench=study.bench,
        configurations=[(c.name, c.levels) for c in study.configurations],
        confidence=comparison.confidence,
        effects=comparison.effects,
        cells=tabulate(evidence.readings),
        facts=_describe_facts(evidence.visits, evidence.facts),
        method=_method(study, ledger, evidence),
        version=__version__,
    )


def _describe_facts(
    visits: list[VisitRow], facts: dict[int, list[dict[str, Any]]]
) -> list[tuple[str, str, str]]:
    """Kind, name and value of every fact; values that differ name their configurations."""
    seen: dict[tuple[str, str], dict[str, list[str]]] = {}
    for visit in visits:
        for fact in facts[visit.facts_id]:
            values = seen.setdefault((fact["kind"], fact["name"]), {})
            values.setdefault(fact["value"], []).append(visit.configuration)
    return [
        (
            kind,
            name,
            "; ".join(f"{value} ({', '.join(dict.fromkeys(on))})" for value, on in values.items())
            if len(values) > 1
            else next(iter(values)),
        )
        for (kind, name), values in seen.items()
    ]


def _method(study: Study, ledger: Ledger, evidence: Evidence) -> Method:
    visits = evidence.visits
    active = [visit for visit in visits if visit.state == "active"]
    order: dict[int, list[str]] = {}
    for visit in active:
        order.setdefault(visit.round or 0, []).append(visit.configuration)
    held = Counter(
        (check["level"], check["expected"])
        for visit in active
        for check in visit.checks
        if check["holds"]
    )
    return Method(
        how=_how(study, evidence),
        runs_per_visit=study.head.runs,
        first=_minute(visits[0].started_at) if visits else "–",
        last=_minute(visits[-1].started_at) if visits else "–",
        outcomes=count_outcomes(ledger),
        order=sorted(order.items()),
        checks=[(level, expected, times) for (level, expected), times in held.items()],
        failures=[
            f"{f.configuration}, {f.workload}, round {f.round}: {f.outcome}, {f.reason}"
            for f in read_failures(ledger)
        ],
        left_out=evidence.left_out,
        excluded=evidence.excluded,
        notes=[
            f"{at[:10]}, {subject} {name}: {text}" for at, subject, name, text in read_notes(ledger)
        ],
        remarks=list(dict.fromkeys(remark for visit in visits for remark in visit.remarks)),
    )


def _how(study: Study, evidence: Evidence) -> str:
    """How the visits were ordered and the verdicts reached."""
    if study.head.schedule != "rounds":
        return (
            "The configurations were measured one after the other, so whatever else changed with "
            "time is in every change; verdicts are adjusted after Holm."
        )
    text = (
        f"Rounds come in mirrored pairs, shuffled with seed {study.head.seed}; each effect is "
        "the mean difference between visits of one round, with Student's t interval; verdicts "
        "are adjusted after Holm."
    )
    if evidence.looks is None:
        return text
    looks = ", ".join(map(str, evidence.looks.rounds))
    return f"{text} It was measured until decided, with looks after rounds {looks} at most."


def _minute(time: str) -> str:
    return time[:16].replace("T", " ") + " UTC"
