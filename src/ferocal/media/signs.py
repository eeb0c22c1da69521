"""How verdicts, directions and footnotes appear: as signs, or in words on plain terminals."""

from __future__ import annotations

from typing import NamedTuple

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import Grid, GridCell, Row
from ferocal.documents.wording import VERDICT_MARKS

_ARROWS = {"higher": "\N{UPWARDS ARROW}", "lower": "\N{DOWNWARDS ARROW}", "none": " "}
_ARROW_WORDS = {"higher": "higher", "lower": "lower", "none": ""}
_PLAIN = {"\N{ALMOST EQUAL TO}": "~"}
_DIGITS = str.maketrans("0123456789", "⁰¹²³⁴⁵⁶⁷⁸⁹")


class _Look(NamedTuple):
    sign: str
    style: str


_LOOKS = {
    Verdict.BETTER: _Look("\N{BLACK UP-POINTING TRIANGLE}", "bold blue"),
    Verdict.WORSE: _Look("\N{BLACK DOWN-POINTING TRIANGLE}", "bold dark_orange"),
    Verdict.EQUIVALENT: _Look("=", ""),
    Verdict.INCONCLUSIVE: _Look("\N{WHITE CIRCLE}", "italic"),
    Verdict.SEEN_ONCE: _Look("?", "italic"),
    Verdict.NOT_JUDGED: _Look(" ", ""),
    Verdict.NOT_COMPARABLE: _Look("\N{NOT EQUAL TO}", "dim"),
}
VERDICT_STYLES = {verdict: look.style for verdict, look in _LOOKS.items()}
# In the order in which a legend has them.
VERDICT_SIGNS = {verdict: look.sign for verdict, look in _LOOKS.items()}


class Signs:
    """Signs and footnotes of one grid; ``words`` stand for the signs on a plain terminal."""

    def __init__(self, *, words: bool = False) -> None:
        self.words = words
        self._notes: list[str] = []

    @property
    def primary(self) -> str:
        """What marks a primary metric."""
        return "*" if self.words else "\N{BULLET}"

    def arrow(self, better: str) -> str:
        """Which way is better."""
        return (_ARROW_WORDS if self.words else _ARROWS)[better]

    def of(self, cell: GridCell) -> str:
        """The sign of a cell."""
        if cell.verdict is not None and not cell.sign:
            return self.verdict(cell.verdict)
        return self.plain(cell.sign)

    def verdict(self, verdict: Verdict) -> str:
        """The sign of a verdict."""
        if verdict is Verdict.NOT_JUDGED:
            return ""
        return (VERDICT_MARKS if self.words else VERDICT_SIGNS)[verdict]

    def plain(self, sign: str) -> str:
        """A sign that is none of a verdict, as the terminal can show it."""
        return _PLAIN.get(sign, sign) if self.words else sign

    def label(self, row: Row, text: str) -> str:
        """The label of a row, whose ``text`` a medium may have changed, with its marks."""
        return text + self.marks(row.notes) + (f" {self.primary}" if row.primary else "")

    def marks(self, notes: tuple[str, ...]) -> str:
        """The marks of notes; the same note has the same mark."""
        for note in notes:
            if note not in self._notes:
                self._notes.append(note)
        return "".join(self._mark(self._notes.index(note) + 1) for note in notes)

    def _mark(self, number: int) -> str:
        return f"[{number}]" if self.words else str(number).translate(_DIGITS)

    @property
    def footnotes(self) -> list[str]:
        """The notes with their marks."""
        return [f"{self._mark(n)} {note}" for n, note in enumerate(self._notes, 1)]

    def legend(self, grid: Grid) -> str:
        """What the signs of a grid mean, and what its intervals rest on, in one line."""
        return ", ".join(filter(None, (*self.meanings(grid), grid.evidence)))

    def meanings(self, grid: Grid) -> list[str]:
        """What the signs of a grid mean, one each."""
        parts = []
        for sign, word in grid.meanings:
            shown = self.verdict(sign) if isinstance(sign, Verdict) else sign
            if self.words and isinstance(sign, Verdict):
                parts.append(word if shown == word else f"{shown}: {word}")
            else:
                parts.append(f"{self.plain(shown)} {word}".strip())
        if any(row.primary for row in grid.rows):
            parts.append(f"{self.primary} primary")
        return parts
