"""Results as JSON objects: numbers never rounded, what is not known is null."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from ferocal.analysis.caveats import Caveat
from ferocal.analysis.cells import Cell
from ferocal.analysis.effects import Effect
from ferocal.report.answer import answer


def dumps(document: Any) -> str:
    """JSON text of a document in which NaN and infinities become null."""
    # Lists of objects may be long: one line each, which the fast encoder writes.
    if isinstance(document, dict) and any(_is_table(value) for value in document.values()):
        parts = [f"  {json.dumps(key)}: {_part(value)}" for key, value in document.items()]
        return "{\n" + ",\n".join(parts) + "\n}"
    return json.dumps(_nulls(document), indent=2, ensure_ascii=False, allow_nan=False)


def _line(value: Any) -> str:
    try:
        return json.dumps(value, ensure_ascii=False, allow_nan=False)
    except ValueError:  # a number that JSON does not have
        return json.dumps(_nulls(value), ensure_ascii=False, allow_nan=False)


def _is_table(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(v, dict) for v in value)


def _part(value: Any) -> str:
    if _is_table(value):
        return "[\n    " + ",\n    ".join(map(_line, value)) + "\n  ]"
    return _line(value)


def _nulls(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: _nulls(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_nulls(item) for item in value]
    return value


def caveat_object(caveat: Caveat) -> dict[str, str]:
    """A caveat: its code, the whole sentence, and its two parts."""
    return {
        "code": caveat.code,
        "text": caveat.text,
        "seen": caveat.seen,
        "advice": caveat.advice,
    }


def effect_object(effect: Effect) -> dict[str, Any]:
    """One effect with the keys that `ferocal compare --json` documents."""
    return {
        "bench": effect.bench,
        "workload": effect.series.workload,
        "metric": effect.series.metric,
        "unit": effect.series.unit,
        "better": effect.series.better,
        "primary": effect.series.primary,
        "baseline": effect.baseline,
        "configuration": effect.configuration,
        "scale": effect.scale,
        "change": effect.change,
        "low": effect.low,
        "high": effect.high,
        "margin": effect.series.margin if effect.scale == "ratio" else effect.series.unit_margin,
        "method": effect.method.value,
        "degrees": effect.shift.degrees,
        "p_adjusted": effect.p_adjusted,
        "verdict": effect.verdict.value,
        "beyond_margin": effect.beyond_margin,
        "rounds": effect.rounds,
        "visits": effect.visits,
        "base_visits": effect.base_visits,
        "runs": effect.runs,
        "base_runs": effect.base_runs,
        "more_rounds": effect.more_rounds,
        "floor": None
        if effect.floor is None
        else {"age": effect.floor.age, "source": effect.floor.source},
        "control": effect.control,
        "caveats": [caveat_object(caveat) for caveat in effect.caveats],
    }


def cell_objects(rows: Sequence[Sequence[Cell | None]]) -> list[dict[str, Any]]:
    """One object per series and configuration that has readings."""
    return [
        {
            "workload": cell.series.workload,
            "metric": cell.series.metric,
            "unit": cell.series.unit,
            "better": cell.series.better,
            "configuration": cell.configuration,
            "centre": cell.centre,
            "cv": cell.cv,
            "runs": cell.runs,
            "rounds": cell.rounds,
        }
        for row in rows
        for cell in row
        if cell is not None
    ]


def comparison_object(
    effects: Sequence[Effect],
    *,
    question: str,
    baseline: str,
    margin: float,
    confidence: float,
    excluded: int,
) -> dict[str, Any]:
    """The object that `ferocal compare --json` prints; ``excluded`` counts runs."""
    return {
        "question": question,
        "answer": answer(effects),
        "baseline": baseline,
        "confidence": confidence,
        "margin": margin,
        "excluded": excluded,
        "effects": [effect_object(effect) for effect in effects],
    }
