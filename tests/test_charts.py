"""Figures: what is drawn is what was answered, and no label lies on another or on a mark."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import matplotlib as mpl
import numpy as np
import pytest
from matplotlib.backend_bases import FigureCanvasBase, GraphicsContextBase, RendererBase
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.collections import PathCollection
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.text import Text

from conftest import Ferocal
from ferocal.answers.charts import chart_data
from ferocal.documents.charts import CHART_KINDS, chart_blocks
from ferocal.media.figures import Look, draw
from ferocal.media.figures.style import drawing
from ferocal.study.load import load_study
from ferocal.terms.numbers import GROUP

# Names that differ in the middle and at the end only, and one value a hundred times the others.
PLAYERS = [f"player-{n}-with-a-name-of-forty-signs-{c * 5}"[:40] for n, c in enumerate("abcdef")]
WORKLOADS = [f"{n:02}-workload-whose-name-has-forty-signs-xyz"[:40] for n in range(12)]


class Recorder(RendererBase):
    """A backend that draws nothing and keeps what it was told to draw."""

    def __init__(self, figure: Figure) -> None:
        super().__init__()
        self.figure = figure
        self.texts: list[str] = []
        self.paths: list[np.ndarray] = []

    def draw_path(self, gc: Any, path: Any, transform: Any, *colour: Any) -> None:
        self.paths.append(path.transformed(transform).vertices)

    def draw_image(self, gc: Any, x: float, y: float, im: Any, transform: Any = None) -> None:
        raise AssertionError("nothing of a figure is a picture")

    def draw_text(self, gc: Any, x: float, y: float, s: str, *args: Any, **more: Any) -> None:
        self.texts.append(s)

    def get_canvas_width_height(self) -> tuple[float, float]:
        return self.figure.bbox.width, self.figure.bbox.height

    def get_text_width_height_descent(self, s: str, prop: Any, ismath: Any) -> Any:
        size = prop.get_size_in_points() * 100 / 72
        return 0.6 * size * len(s), size, 0.2 * size

    def new_gc(self) -> GraphicsContextBase:
        return GraphicsContextBase()

    def points_to_pixels(self, points: Any) -> Any:
        return points * 100 / 72


@pytest.fixture(scope="module")
def crowded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Twelve workloads under six configurations in four rounds, all with names of forty signs."""
    directory = tmp_path_factory.mktemp("crowded")
    noise = random.Random(3)
    rows = ["workload,configuration,round,value,unit"]
    for n, workload in enumerate(WORKLOADS):
        for player, gain in zip(PLAYERS, (1, 1.05, 0.97, 1.2, 1.0, 0.8), strict=True):
            factor = 100 if (n, player) == (3, PLAYERS[3]) else gain
            for number in range(1, 5):
                value = 10 ** (n % 4) * factor * noise.gauss(1, 0.01)
                rows.append(f"{workload},{player},{number},{value:.5g},fps")
    (directory / "readings.csv").write_text("\n".join(rows))
    Ferocal(directory).quick("new", "s", "--from", "readings.csv")
    return directory / "s"


def figures(directory: Path, kind: str, look: Look | None = None) -> Iterator[Figure]:
    made = chart_data(load_study(directory), kind)
    for chart in chart_blocks(kind, made.figures):
        with drawing():
            yield draw(chart, look)


def boxes(figure: Figure) -> list[tuple[str, Any]]:
    """Every text that is seen, with its box in pixels."""
    canvas: Any = FigureCanvasAgg(figure)
    canvas.draw()
    drawn: dict[Text, None] = {}

    def keep(text: Text, renderer: Any) -> None:
        if text.get_visible() and text.get_text().strip():
            drawn[text] = None

    with mock.patch.object(Text, "draw", keep):
        figure.draw(canvas.get_renderer())
    return [(text.get_text(), text.get_window_extent(canvas.get_renderer())) for text in drawn]


def marks(figure: Figure) -> list[np.ndarray]:
    """The centres of all marks, in pixels."""
    found = []
    for line in figure.findobj(Line2D):
        if line.get_marker() not in ("None", "", None) and line.axes and not in_key(line):
            data = np.column_stack([np.asarray(line.get_xdata()), np.asarray(line.get_ydata())])
            found.append(line.get_transform().transform(data))
    for collection in figure.findobj(PathCollection):
        offsets = np.asarray(collection.get_offsets())
        if collection.axes and len(offsets):
            found.append(collection.get_offset_transform().transform(offsets))
    return found


def in_key(line: Line2D) -> bool:
    """Whether a line is a tick, or stands in a key."""
    axes: Any = line.axes
    ticks = itertools.chain(axes.xaxis.get_ticklines(True), axes.xaxis.get_ticklines())
    return line not in axes.lines or line in ticks


def check_apart(figure: Figure) -> None:
    """No text lies on another text, none on a mark, and none beyond the figure."""
    found = boxes(figure)
    for (first, a), (second, b) in itertools.combinations(found, 2):
        wide = min(a.x1, b.x1) - max(a.x0, b.x0)
        high = min(a.y1, b.y1) - max(a.y0, b.y0)
        assert not (wide > 1 and high > 2), (first, second)
    frame = figure.bbox
    for text, box in found:
        assert box.x0 > -2 and box.x1 < frame.x1 + 2, text
        assert box.y0 > -2 and box.y1 < frame.y1 + 2, text
    points = np.vstack(marks(figure) or [np.empty((0, 2))])
    for text, box in found:
        inside = (points > [box.x0, box.y0]) & (points < [box.x1, box.y1])
        assert not inside.all(axis=1).any(), text


CROWDED = ("overview", "effects", "bars", "readings", "distributions", "ranking")


@pytest.mark.parametrize("kind", CROWDED)
@pytest.mark.parametrize("size", [None, (1280, 800), (800, 1000)])
def test_labels_of_a_crowded_figure_are_apart(
    crowded: Path, kind: str, size: tuple[int, int] | None
) -> None:
    for figure in figures(crowded, kind, Look(size)):
        check_apart(figure)


def test_labels_of_the_figures_of_the_demo_are_apart(demo: tuple[Ferocal, str]) -> None:
    directory = demo[0].directory
    for kind in ("overview", "effects", "soak", "frames", "factors", "distributions", "ranking"):
        for figure in figures(directory, kind):
            check_apart(figure)
    for place, kind in (("kiosk", "series"), ("kiosk", "soak"), ("firmware", "claims")):
        for figure in figures(directory / place, kind):
            check_apart(figure)


def test_a_value_a_hundred_times_the_others_hides_none_of_them(crowded: Path) -> None:
    drawn = next(figures(crowded, "distributions"))
    titled = {a.get_title(loc="left")[:2]: a for a in drawn.axes if a.get_visible()}
    axes = titled["03"]
    assert axes.get_xlim()[1] < 2_000  # where 100,000 was read too
    arrows = [text.get_text() for text in axes.texts]
    numbers = [float(t.replace(GROUP, "")) for arrow in arrows for t in arrow.split(" … ")]
    assert len(arrows) == 1 and min(numbers) > 90_000
    # What cannot be compared is named, and no number of it is drawn.
    (overview,) = figures(crowded, "overview")
    below = overview.axes[0].get_xlabel()
    assert "not comparable" in below and WORKLOADS[3][:12] in below


def test_what_is_drawn_is_what_was_answered(demo: tuple[Ferocal, str]) -> None:
    """Positions and texts, as a backend gets them, against the JSON of the same command."""
    directory = demo[0].directory
    (figure,) = figures(directory, "effects")
    canvas = FigureCanvasBase(figure)
    recorder = Recorder(figure)
    figure.draw(recorder)
    canvas.figure.draw(recorder)
    axes = figure.axes[0]
    known = demo[0].json("compare")["effects"]
    shown = [e for e in known if e["role"] in ("primary", "secondary") and e["change"] is not None]
    low, high = axes.get_xlim()
    expected = {}
    for effect in shown:
        gain = math.log1p(effect["change"]) * (-1 if effect["better"] == "lower" else 1)
        expected[effect["workload"], effect["metric"], effect["configuration"]] = gain
    drawn = sorted(
        float(np.asarray(line.get_xdata())[0])
        for line in axes.lines
        if line.get_marker() in ("^", "v", "s", "o", "D", "X")
    )
    inside = sorted(gain for gain in expected.values() if low * 0.97 < gain < high * 0.97)
    assert drawn == pytest.approx(inside, abs=1e-9)
    names = axes.get_yticklabels()
    assert len(names) - len({e["metric"] + e["workload"] for e in shown}) == len(expected)
    numbers = [label.get_text() for label in figure.axes[1].get_yticklabels()]
    for text in numbers:
        assert text in recorder.texts or not text
    assert any("+15.7" in text or "+9.1" in text for text in recorder.texts)
    # Every interval that is on the axis was drawn from its low end to its high one.
    back = axes.transData.inverted()
    ends = np.vstack([back.transform(path) for path in recorder.paths if len(path) == 2])
    for effect in shown:
        if None in (effect["low"], effect["high"]):
            continue
        sides = sorted(math.log1p(effect[end]) for end in ("low", "high"))
        if effect["better"] == "lower":
            sides = sorted(-side for side in sides)
        if low * 0.9 < sides[0] and sides[1] < high * 0.9:
            assert np.isclose(ends[:, 0], sides[0], atol=1e-6).any(), effect


def test_ties_are_told_only_where_the_noise_is_known(ferocal: Ferocal) -> None:
    rows = "workload,configuration,value,unit\n" + "".join(
        f"page,{name},{value},points\n" for name, value in (("a", 100), ("b", 101), ("c", 102))
    )
    (ferocal.directory / "once.csv").write_text(rows)
    ferocal.quick("new", "once", "--from", "once.csv")
    (figure,) = figures(ferocal.directory / "once", "overview")
    texts = " ".join(text for text, _ in boxes(figure))
    assert "as read" in texts and "tied" not in texts


def test_a_slide_has_large_letters_the_answer_and_one_metric(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    ferocal = demo[0]
    target = tmp_path / "slide.png"
    ferocal.quick("chart", "--slide", "-o", str(target))
    picture = mpl.image.imread(target)
    assert picture.shape[:2] == (1080, 1920)
    made = chart_data(load_study(ferocal.directory), "effects")
    with drawing():
        look = Look((1920, 1080), 300, title="r64+vulkan better", source="from the ledger")
        figure = draw(chart_blocks("effects", made.figures)[0], look)
    for text in figure.findobj(Text):
        if text.get_visible() and text.get_text().strip():
            assert float(text.get_fontsize()) * 300 / 72 >= 28, text.get_text()
    assert figure.get_suptitle() == "r64+vulkan better"


def test_every_kind_of_chart_is_written_in_every_format(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    ferocal = demo[0]
    for suffix, begin in ((".svg", b"<?xml"), (".png", b"\x89PNG"), (".pdf", b"%PDF")):
        target = tmp_path / f"bars{suffix}"
        assert ferocal.quick("chart", "bars", "-o", str(target)).endswith(f"wrote {target}\n")
        first = target.read_bytes()
        assert first.startswith(begin)
        ferocal.quick("chart", "bars", "-o", str(target))
        assert target.read_bytes() == first, "the same input gives the same bytes"
    help_text = ferocal.quick("chart", "--help")
    assert all(kind in help_text for kind in CHART_KINDS)
    for kind, why in (("scaling", "quantity"), ("claims", "no claims"), ("series", "order")):
        assert why in ferocal.refusal("chart", kind, "-o", str(tmp_path / "x.svg"))
    assert "did you mean" in ferocal.refusal("chart", "efects")
