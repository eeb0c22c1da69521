"""Documents as files: HTML, PDF, Markdown with its charts beside it, plain text."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ferocal.documents.blocks import Chart, Document
from ferocal.errors import FerocalError
from ferocal.media.files import MARK, check_target, whole_file
from ferocal.terms.names import plain_name
from ferocal.terms.signs import masked, visible

SUFFIXES = {"html": ".html", "markdown": ".md", "pdf": ".pdf", "text": ".txt"}
_NO_PDF = (
    "a PDF needs WeasyPrint and Pango, which this machine lacks ({}): pip install 'ferocal[pdf]', "
    "and of the system libpango-1.0-0, libpangoft2-1.0-0 and libharfbuzz-subset0; or print the "
    "HTML page from a browser"
)


def write_page(
    document: Document,
    format: str,
    path: Path,
    source: str = "",
    *,
    force: bool = False,
    charts: bool = False,
) -> list[Path]:
    """Write a document in a format; of Markdown its ``charts`` too, as SVG beside it.

    Raises
    ------
    UsageError
        When something else is at the place of a file.
    FerocalError
        When a file cannot be written, or what PDF needs is not there.
    """
    beside = _beside(document, path) if format == "markdown" and charts else []
    for _, target in beside:
        check_target(target, force=force)
    if format == "pdf":
        # Made before the file is begun, so that nothing is written where it cannot be made.
        content = _pdf(document, source)
    else:
        figures = {id(chart): target.name for chart, target in beside}
        content = masked(document_text(document, format, source, figures)).encode()
    with whole_file(path, force=force) as partial:
        partial.write_bytes(content)
    for chart, target in beside:
        from ferocal.media.figures import Look, save_chart

        save_chart(chart, target, Look(), force=force)
    return [path, *(target for _, target in beside)]


def document_text(
    document: Document, format: str, source: str = "", figures: Mapping[int, str] | None = None
) -> str:
    """A document as text; ``figures`` are the files of its charts, by their identity."""
    if format == "html":
        from ferocal.media.html import page

        return page(document, source)
    if format == "markdown":
        from ferocal.media.markdown import markdown

        return markdown(document, figures)
    from ferocal.media import terminal
    from ferocal.media.console import file_console

    console = file_console()
    terminal.show(console, document)
    return console.export_text(styles=False)


def _beside(document: Document, path: Path) -> list[tuple[Chart, Path]]:
    """A file for every chart of a document, named for what it shows."""
    from ferocal.media.figures import charts_within

    found: dict[str, Chart] = {}
    for chart in charts_within(document.blocks):
        name = "-".join(plain_name(visible(part)) for part in (path.stem, chart.kind, *chart.names))
        while name in found:
            name += "-2"
        found[name] = chart
    return [(chart, path.with_name(f"{name}.svg")) for name, chart in found.items()]


def _pdf(document: Document, source: str) -> bytes:
    """The page of a document on paper."""
    import logging

    from ferocal.media.html import page

    text = masked(page(document, source, on_paper=True))
    try:
        import weasyprint  # type: ignore[import-untyped]
    except (ImportError, OSError) as error:
        raise FerocalError(_NO_PDF.format(str(error).splitlines()[0])) from None
    logging.getLogger("weasyprint").setLevel(logging.ERROR)
    made = weasyprint.HTML(string=text).write_pdf(pdf_identifier=MARK.encode())
    return bytes(made) + f"%{MARK}\n".encode()  # by which it is known as our own
