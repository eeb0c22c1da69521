"""What was kept: an upgrade of Ferocal changes no number, no word and no reading unnoticed."""

from __future__ import annotations

import difflib
import functools
import gzip
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import Ferocal
from kept_studies import ANSWERS, KEPT, NUMBERS, TEXTS, WORDS, answer, parsed, restore, text
from kept_tables import ASKED, PREVIEWS


@functools.cache
def restored(name: str, directory: Path) -> Ferocal:
    (directory / name).mkdir()
    return restore(name, directory / name)


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("kept")


def differences(now: Any, kept: Any, place: str) -> Iterator[str]:
    """Where two documents differ by more than the rounding of another processor."""
    if isinstance(now, dict) and isinstance(kept, dict) and now.keys() == kept.keys():
        for name in kept:
            yield from differences(now[name], kept[name], f"{place}.{name}")
    elif isinstance(now, list) and isinstance(kept, list) and len(now) == len(kept):
        for number, (ours, theirs) in enumerate(zip(now, kept, strict=True)):
            yield from differences(ours, theirs, f"{place}[{number}]")
    elif not (now == kept or _near(now, kept)):
        yield f"{place}: {str(now)[:80]!r} is not {str(kept)[:80]!r}"


def _near(now: Any, kept: Any) -> bool:
    numbers = isinstance(now, float) and isinstance(kept, float | int)
    return numbers and math.isclose(now, kept, rel_tol=1e-6, abs_tol=1e-9)


@functools.cache
def answers(name: str) -> Any:
    return json.loads((KEPT / name / ANSWERS).read_text(encoding="utf-8"))


@functools.cache
def kept_text(path: Path) -> dict[str, list[str]]:
    content = path.read_bytes()
    return parsed((gzip.decompress(content) if path.suffix == ".gz" else content).decode())


def changed(kept: list[str], now: list[str]) -> list[str]:
    return list(difflib.unified_diff(kept, now, "as kept", "now", lineterm="", n=0))


@pytest.mark.parametrize(("name", "command"), [(n, c) for n in NUMBERS for c in NUMBERS[n]])
def test_no_number_changes_unnoticed(name: str, command: str, place: Path) -> None:
    now = json.loads(json.dumps(answer(command, restored(name, place))))
    assert list(differences(now, answers(name)[command], name)) == []


@pytest.mark.parametrize(("name", "command"), [(n, c) for n in WORDS for c in WORDS[n]])
def test_no_word_changes_unnoticed(name: str, command: str, place: Path) -> None:
    kept = kept_text(KEPT / name / TEXTS)[command]
    assert changed(kept, text(command, restored(name, place))) == []


@pytest.mark.parametrize("asked", ASKED)
def test_no_table_is_read_otherwise_unnoticed(asked: str, ferocal: Ferocal) -> None:
    assert changed(kept_text(PREVIEWS)[asked], list(ASKED[asked](ferocal))) == []
