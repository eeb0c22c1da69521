"""The report as one self-contained HTML page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from jinja2 import Environment, PackageLoader, StrictUndefined

from ferocal.analysis.cells import Cell
from ferocal.analysis.effects import Effect
from ferocal.report import answer, numbers
from ferocal.report.figures import effects_figure, to_svg
from ferocal.report.tables import cell_text, group_by_series, series_label


@dataclass(frozen=True)
class Method:
    """How a study was measured, for the page."""

    how: str
    runs_per_visit: int
    first: str
    last: str
    outcomes: Mapping[str, int]
    order: Sequence[tuple[int, Sequence[str]]]
    checks: Sequence[tuple[str, str, int]]
    failures: Sequence[str]
    left_out: int
    excluded: int
    notes: Sequence[str]
    remarks: Sequence[str]


@dataclass(frozen=True)
class PageContent:
    """Everything that the page shows, already computed.

    ``facts`` are kind, name and value.
    """

    question: str
    margin: float
    baseline: str
    bench: str
    configurations: Sequence[tuple[str, Mapping[str, str]]]
    confidence: float
    effects: Sequence[Effect]
    cells: Sequence[Sequence[Cell | None]]
    facts: Sequence[tuple[str, str, str]]
    method: Method
    version: str


def render_page(content: PageContent) -> str:
    """The HTML text of the report."""
    environment = Environment(
        loader=PackageLoader("ferocal.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(
        change=numbers.change_text,
        interval=numbers.interval_text,
        verdict=answer.verdict_text,
        evidence=answer.evidence_text,
        cell=cell_text,
        series=series_label,
        series_margin=numbers.series_margin,
    )
    figure = effects_figure(content.effects, content.confidence)
    return environment.get_template("report.html").render(
        c=content,
        answer=answer.answer(content.effects),
        groups=group_by_series(content.effects),
        rows=[row for row in content.cells if any(row)],
        caveats=answer.collect_caveats(content.effects),
        interval_name=numbers.interval_name(content.confidence),
        chart=to_svg(figure) if figure is not None else None,
    )
