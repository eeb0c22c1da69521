"""Studies that were measured once: an upgrade of Ferocal changes nothing about them unnoticed."""

from __future__ import annotations

import difflib
import gzip
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import Ferocal
from kept_studies import ANSWERS, KEPT, NUMBERS, TEXTS, WORDS, answers, restore, texts, written
from kept_tables import PREVIEWS, previews


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


@pytest.mark.parametrize("name", NUMBERS)
def test_an_upgrade_changes_no_number_unnoticed(name: str, tmp_path: Path) -> None:
    kept = json.loads((KEPT / name / ANSWERS).read_text(encoding="utf-8"))
    now = json.loads(json.dumps(answers(name, restore(name, tmp_path))))
    assert list(differences(now, kept, name)) == []


@pytest.mark.parametrize("name", WORDS)
def test_an_upgrade_changes_no_word_unnoticed(name: str, tmp_path: Path) -> None:
    kept = (KEPT / name / TEXTS).read_text(encoding="utf-8").splitlines()
    now = written(texts(name, restore(name, tmp_path))).splitlines()
    assert changed(kept, now) == []


def changed(kept: list[str], now: list[str]) -> list[str]:
    return list(difflib.unified_diff(kept, now, "as kept", "now", lineterm="", n=0))


def test_an_upgrade_reads_no_table_otherwise_unnoticed(ferocal: Ferocal) -> None:
    kept = gzip.decompress(PREVIEWS.read_bytes()).decode().splitlines()
    now = list(previews(ferocal))
    assert now == kept, changed(kept, now)
