"""The report as one self-contained HTML page."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from ferocal.render import numbers, wording
from ferocal.render.output import whole_file
from ferocal.render.sections import SECTIONS, Section
from ferocal.render.tables import cell_text, series_label
from ferocal.study.masking import Mask
from ferocal.terms.signs import visible

if TYPE_CHECKING:
    from ferocal.answers.report import Report


def _shown(value: object) -> object:
    """Texts of the user with invisible signs shown; what is markup already is ours."""
    plain = isinstance(value, str) and not hasattr(value, "__html__")
    return visible(str(value)) if plain else value


def render_page(report: Report) -> str:
    """The HTML text of the report."""
    environment = Environment(
        loader=PackageLoader("ferocal.render"),
        autoescape=True,
        undefined=StrictUndefined,
        finalize=_shown,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(
        change=numbers.change_text,
        interval=numbers.interval_text,
        p_value=numbers.p_text,
        verdict=wording.verdict_text,
        evidence=wording.evidence_text,
        cell=cell_text,
        series=series_label,
        series_margin=numbers.series_margin,
    )
    parts = [part for group in _groups(report) for part in _render_group(environment, *group)]
    return environment.get_template("report.html").render(
        question=report.comparison.question,
        parts=parts,
        version=report.version,
        ledger=str(report.ledger),
    )


def _groups(report: Report) -> list[tuple[Report, list[Section], str | None]]:
    """Sections that follow each other and are of benches go together, bench by bench."""
    runs: list[list[Section]] = []
    for section in SECTIONS:
        if runs and runs[-1][0].of_bench == section.of_bench:
            runs[-1].append(section)
        else:
            runs.append([section])
    groups: list[tuple[Report, list[Section], str | None]] = []
    for run in runs:
        if run[0].of_bench:
            groups += [(report, run, bench) for bench in report.comparison.benches]
        else:
            groups.append((report, run, None))
    return groups


def _render_group(
    environment: Environment, report: Report, sections: list[Section], bench: str | None
) -> list[dict[str, Any]]:
    """Title and HTML of each section that has something to show."""
    several = bench is not None and len(report.comparison.benches) > 1
    parts: list[dict[str, Any]] = []
    if several and "{bench}" not in sections[0].title:
        parts.append({"title": f"Bench {bench}", "html": ""})
    for section in sections:
        values = section.values(report, bench or "")
        if values is not None:
            html = environment.from_string(section.template).render(r=report, bench=bench, **values)
            parts.append({"title": section.title.format(bench=bench), "html": html})
    return parts


def write_page(report: Report, path: Path, *, mask: Mask, force: bool = False) -> None:
    """Write the page, masked; one that is there is replaced as a whole.

    Raises
    ------
    UsageError
        When something else is there.
    FerocalError
        When it cannot be written.
    """
    text = mask.text(render_page(report))
    with whole_file(path, force=force) as partial:
        partial.write_text(text, encoding="utf-8")
