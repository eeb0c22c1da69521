"""A study's page: what the ledger and the analysis hold, handed to the report."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from ferocal import __version__
from ferocal.analysis.readings import tabulate
from ferocal.assemble import compare, gather
from ferocal.errors import FerocalError
from ferocal.ledger.extract import (
    VisitRow,
    count_outcomes,
    read_facts,
    read_failures,
    read_visits,
)
from ferocal.ledger.store import Ledger, open_ledger
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
    visits = list(read_visits(ledger).values())
    facts = read_facts(ledger)
    seen = dict.fromkeys(visit.facts_id for visit in visits)
    return PageContent(
        question=study.head.question,
        margin=study.head.margin,
        baseline=study.baseline,
        bench=study.bench,
        configurations=[(c.name, c.levels) for c in study.configurations],
        effects=comparison.effects,
        cells=tabulate(evidence.readings),
        facts=[facts[key] for key in seen],
        method=_method(study, ledger, visits, evidence.left_out),
        version=__version__,
    )


def _method(study: Study, ledger: Ledger, visits: list[VisitRow], left_out: int) -> Method:
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
        seed=study.head.seed,
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
        left_out=left_out,
    )


def _minute(time: str) -> str:
    return time[:16].replace("T", " ") + " UTC"
