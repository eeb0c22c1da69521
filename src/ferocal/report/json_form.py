"""Results as JSON objects: numbers never rounded, what is not known is null."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from ferocal.analysis.effects import Effect
from ferocal.analysis.readings import Cell
from ferocal.report.answer import answer


def dumps(document: Any) -> str:
    """JSON text of a document in which NaN and infinities become null."""
    return json.dumps(_nulls(document), indent=2, ensure_ascii=False, allow_nan=False)


def _nulls(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: _nulls(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_nulls(item) for item in value]
    return value


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
        "margin": effect.series.margin,
        "p_adjusted": effect.p_adjusted,
        "verdict": effect.verdict.value,
        "beyond_margin": effect.beyond_margin,
        "rounds": effect.rounds,
        "runs": effect.runs,
        "more_rounds": effect.more_rounds,
        "caveats": [{"code": c.code, "text": c.text} for c in effect.caveats],
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
