"""What a notebook gets of a question: the answer, a data frame, a figure, and a page."""

from __future__ import annotations

import html
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from ferocal.errors import NothingToShowError

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from ferocal.documents.blocks import Document

Answer = TypeVar("Answer")
Item = TypeVar("Item")


class Result(Generic[Answer, Item]):
    """The result of a question about a study; made by the methods of `OpenedStudy`.

    ``answer`` has everything, ``frame`` the same as a pandas data frame, and the result itself can
    be iterated over. In a notebook it shows what the command would print.
    """

    def __init__(
        self,
        answer: Answer,
        items: Sequence[Item],
        frame: Callable[[Answer], pd.DataFrame],
        document: Callable[[Answer], Document],
        kind: str,
        drawn: Callable[[Answer], Sequence[Any]],
    ) -> None:
        self.answer = answer
        self._items, self._kind = tuple(items), kind
        self._frame, self._document, self._drawn = frame, document, drawn

    def __iter__(self) -> Iterator[Item]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)

    def __getitem__(self, place: int) -> Item:
        return self._items[place]

    @property
    def frame(self) -> pd.DataFrame:
        """A pandas data frame, a row for each item; see `ferocal.documents.frames`."""
        return self._frame(self.answer)

    def figure(self, place: int = 0, *, dark: bool = False) -> Figure:
        """The figure, or one of several (one for each bench), on a light or a dark ground.

        Raises
        ------
        NothingToShowError
            When there is nothing to draw.
        """
        from ferocal.documents.charts import chart_blocks
        from ferocal.media.figures import draw
        from ferocal.media.figures.style import drawing, with_own_colours

        charts = chart_blocks(self._kind, self._drawn(self.answer))
        if not -len(charts) <= place < len(charts):
            raise NothingToShowError(f"there are {len(charts)} figures, numbered from 0")
        with drawing(dark=dark):
            return with_own_colours(draw(charts[place]))

    def _repr_html_(self) -> str:
        """The document of the result, in a separate frame that no style of a notebook reaches."""
        from ferocal.media.html import page
        from ferocal.terms.signs import masked

        text = masked(page(self._document(self.answer)))
        style = "width: 100%; height: 34em; border: 0"
        return f'<iframe srcdoc="{html.escape(text)}" style="{style}" title="result"></iframe>'
