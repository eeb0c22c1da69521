"""Figures as files and as parts of pages."""

from __future__ import annotations

import io
import logging
import re
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import matplotlib as mpl
from matplotlib.figure import Figure

from ferocal.errors import UsageError
from ferocal.media.figures.style import ON_PAGE
from ferocal.media.files import MARK, whole_file
from ferocal.terms.signs import visible
from ferocal.terms.wording import shortened

# What a figure says of itself; no date, so that the same figure is the same file.
_METADATA: dict[str, Any] = {
    ".png": {"Software": MARK},
    ".svg": {"Creator": MARK, "Date": None},
    ".pdf": {"Creator": MARK, "CreationDate": None},
}
# Where a file has what is on a figure in words.
_ALTERNATIVE = {".png": "Description", ".svg": "Description", ".pdf": "Subject"}
_COLOUR = re.compile("#[0-9a-f]{6}")
# Where a part of a figure has a name, and where it is used.
_NAMED = re.compile(r'( id="|xlink:href="#|url\(#)(?!run:)')
_LINK = re.compile(r'<a xlink:href="#run:([^"]*)"[^>]*>')


def figure_svg(figure: Figure, prefix: str = "", *, fixed: bool = False) -> str:
    """A figure as an SVG element, for a page; its ids begin with ``prefix``.

    Unless they are ``fixed``, its colours are variables that the page defines. Links to runs are
    passed over by the Tab key, since the table of runs has them too.
    """
    text = io.StringIO()
    with _quiet():
        _show_signs(figure)
        figure.savefig(text, format="svg", metadata=_METADATA[".svg"])
    svg = text.getvalue()
    svg = _NAMED.sub(rf"\g<1>{prefix}", svg[svg.index("<svg") :])
    svg = _LINK.sub(r'<a href="#run:\1" tabindex="-1" aria-label="run \1"><title>\1</title>', svg)
    return svg if fixed else _COLOUR.sub(lambda m: ON_PAGE.get(m[0], m[0]), svg)


def save_figure(
    figure: Figure, path: Path, dpi: int = 100, alternative: str = "", *, force: bool = False
) -> None:
    """Write a figure as PNG, SVG or PDF, by the name of the file; what is on it in words with it.

    Raises
    ------
    UsageError
        When the name ends in something else, or something else is there.
    FerocalError
        When the file cannot be written.
    """
    suffix = path.suffix.lower()
    if suffix not in _METADATA:
        raise UsageError(
            f"{path}: a chart is written as .png, .svg or .pdf, not {path.suffix or 'so'}"
        )
    with whole_file(path, force=force) as partial, _quiet() as warned:
        _show_signs(figure)
        said = {_ALTERNATIVE[suffix]: visible(alternative)} if alternative else {}
        metadata = _METADATA[suffix] | said
        figure.savefig(partial, dpi=dpi, format=suffix[1:], metadata=metadata)
    if warned and suffix != ".svg":
        signs = visible("".join(sorted(set(warned))))
        logging.getLogger(__name__).warning(
            "%s: the font of figures has no %s: boxes stand for it; a .svg has the text itself",
            visible(str(path)), shortened(signs, 20),
        )  # fmt: skip


def _show_signs(figure: Figure) -> None:
    """Show invisible characters as on the screen; XML cannot even contain them."""
    for text in figure.findobj(mpl.text.Text):
        text.set_text(visible(text.get_text()))


@contextmanager
def _quiet() -> Iterator[list[str]]:
    """Keep what the library warns of from the terminal; the signs that its font does not have."""
    missing: list[str] = []
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        yield missing
    for warning in caught:
        code = re.match(r"Glyph (\d+) ", str(warning.message))
        if code is not None:
            missing.append(chr(int(code[1])))
        elif "layout" not in str(warning.message):  # what does not fit is drawn as it is
            warnings.warn_explicit(
                warning.message, warning.category, warning.filename, warning.lineno
            )
