"""``ferocal chart``: figures of every kind."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ferocal.cli.common import example, force_option, say, study_option
from ferocal.cli.publishing import against_option, selection_options, show
from ferocal.errors import UsageError

if TYPE_CHECKING:
    from ferocal.answers.selection import Selection

# A slide of a talk or film, and the dots of an inch at which its smallest letters have 28 pixels.
_SLIDE, _SLIDE_DPI = (1920, 1080), 300


def _size(context: click.Context, parameter: click.Parameter, value: str | None) -> Any:
    if value is None:
        return None
    found = re.fullmatch(r"(\d{2,5})x(\d{2,5})", value.strip())
    if not found or not all(200 <= int(side) <= 10_000 for side in found.groups()):
        raise click.BadParameter("write WIDTHxHEIGHT in pixels, from 200 to 10000: 1280x800")
    return int(found[1]), int(found[2])


@click.command("chart")
@click.argument("kind", default="overview")
@study_option
@against_option
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write to FILE: .svg, .png or .pdf.  [KIND.svg]",
)
@click.option("--size", callback=_size, metavar="WxH", help="Size in pixels, such as 1280x800.")
@click.option("--dpi", type=click.IntRange(30, 1200), help="Pixels of an inch.  [100]")
@click.option("--dark", is_flag=True, help="Draw on a dark ground.")
@click.option("--slide", is_flag=True, help="A slide: 1920x1080, one metric, large letters.")
@force_option
@example("ferocal chart distributions --workload show-export -o show-export.png")
def command(
    kind: str,
    directory: Path,
    against: str | None,
    selection: Selection,
    output: Path | None,
    size: tuple[int, int] | None,
    dpi: int | None,
    dark: bool,
    slide: bool,
    force: bool,
) -> None:
    """Draw a chart: overview, effects, bars, readings and more.

    KIND is overview (all metrics under all configurations, on one axis of ratios), effects (every
    change with its number), bars (values from zero), readings (every run in order of time),
    distributions (every run a dot), frames, soak, factors, scaling, series, ranking or claims.
    Where there are several benches or traces, each has a file named for it. With --slide the title
    is the answer, for the metric that is named, else for the first that decides.
    """
    from ferocal.answers.charts import CHARTS, chart_data, of_one_metric
    from ferocal.documents.charts import caveats_document, chart_blocks, slide_source, slide_title
    from ferocal.media.figures import FORMATS, Look, save_charts
    from ferocal.media.files import check_target
    from ferocal.study.load import load_study
    from ferocal.terms.names import closest

    if kind not in CHARTS:
        raise UsageError(f'no chart "{kind}"; {closest(kind, CHARTS)}')
    if slide and (size or dpi):
        raise click.UsageError("--slide has a size: leave out --size and --dpi")
    path = output or directory / f"{kind}.svg"
    if path.suffix.lower() not in FORMATS:
        raise click.UsageError(f"{path}: name the file {', '.join(FORMATS)}")
    check_target(path, force=force)  # before anything is computed
    study = load_study(directory)
    look = Look(size, dpi or 100, dark)
    if slide:
        selection = of_one_metric(study, kind, selection)
        kind = "effects" if kind == "overview" else kind  # which is the same of one metric
    drawing = chart_data(study, kind, against=against, selection=selection)
    figures = drawing.figures
    if slide:
        look = Look(_SLIDE, _SLIDE_DPI, dark, slide_title(kind, drawing), slide_source(drawing))
        figures = (drawing.for_slide,)
    show(caveats_document(kind, drawing))
    for written in save_charts(chart_blocks(kind, figures), path, look, force=force):
        say(f"wrote {written}")
