"""How Ferocal speaks: plain words in all that a user reads, and short caveats."""

from __future__ import annotations

import ast
import re
import tokenize
from collections.abc import Iterator
from pathlib import Path

import pytest

from ferocal.analysis.caveats.table import CAVEATS
from ferocal.documents.caveats.words import WORDS

ROOT = Path(__file__).parents[1]
SOURCES = sorted((ROOT / "src").rglob("*.py"))
# What is said otherwise: a pattern, and the words instead.
PLAIN = {
    r"\b(bring|brings|brought) in\b": "import, use",
    r"\b(some|no)body\b": "name what or who it is",
    r"\b(go|goes|going|went) on\b": "resume, continue",
    r"\bof (its|their|your) own\b": "a separate, its",
    r"\btaken? back\b": "undo, undone",
    r"\bthere are [`\"{]": "the columns are, known:",
    r"\bbeyond all numbers\b": "too large",
    r"\bis there already\b": "already exists",
    r"\banother one (now|is)\b": "changed, different",
    r"\bhow much visits vary\b(?! per)": "noise",
    r"\bat once\b": "immediately",
    r"\boverran\b": "timeout",
    r"\bmind\b": "caveats",
    r"\bworth per\b": "value for money",
    r"\bseen once is no\b": "cannot be told from noise",
}  # fmt: skip
# Names, not sentences: the values of old ledgers.
ALLOWED = {"overran"}


def sentences(path: Path) -> Iterator[tuple[int, str]]:
    """Strings and comments of a module, with their lines."""
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        text = getattr(node, "value", None)
        if isinstance(node, ast.Constant) and isinstance(text, str) and text not in ALLOWED:
            yield node.lineno, text
    with path.open("rb") as file:
        for token in tokenize.tokenize(file.readline):
            if token.type == tokenize.COMMENT:
                yield token.start[0], token.string


@pytest.mark.parametrize("path", SOURCES, ids=lambda path: str(path.relative_to(ROOT / "src")))
def test_all_that_is_read_is_plain_english(path: Path) -> None:
    wrong = [
        f"{path.name}:{line}: {text!r} has {found[0]!r}: {instead}"
        for line, text in sentences(path)
        for pattern, instead in PLAIN.items()
        if (found := re.search(pattern, text))
    ]
    assert wrong == []


@pytest.mark.parametrize(
    "name",
    ["README.md", "CONTRIBUTING.md", "docs/methods.md", "docs/reading.md", "docs/security.md"],
)
def test_the_pages_are_plain_english(name: str) -> None:
    text = re.sub(r"```.*?```|`[^`]*`", "", (ROOT / name).read_text(encoding="utf-8"), flags=re.S)
    assert [word for word in PLAIN if re.search(word, text)] == []
    for paragraph in re.split(r"\n\s*\n", re.sub(r"^\|.*$", "", text, flags=re.MULTILINE)):
        for sentence in re.split(r"(?<=[.!?:;])\s+", " ".join(paragraph.split())):
            assert len(sentence.split()) <= 45, sentence


def test_what_caveats_mean_and_advise_is_short() -> None:
    # Beside the margin of a terminal of 100 columns, two lines are 182 signs.
    assert WORDS.keys() == CAVEATS.keys()
    for code, words in WORDS.items():
        assert len(words.meaning) <= 91 and len(words.advice) <= 91, code
        assert len(words.meaning.split()) <= 16 and len(words.advice.split()) <= 18, code
        assert not re.match("(that|what|who|of) ", words.meaning), code
