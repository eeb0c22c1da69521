"""What judges the readings of a study, as it is kept with every session."""

from __future__ import annotations

from typing import Any

from ferocal.study.load import Study
from ferocal.study.metrics import Metric

# What of a metric decides how its readings are judged.
JUDGING = ("unit", "better", "role", "margin", "formula")


def criteria_of(study: Study, *, planned_rounds: int | None = None) -> dict[str, Any]:
    """The question, the planned rounds, and what judges each metric, as JSON values.

    ``planned_rounds`` stands for the number in the study file. Families are the metrics that
    share an error rate, as pairs of workload and metric.
    """
    metrics = study.metrics()
    return {
        "question": study.head.question,
        "margin": margin_words(study.head.margin, None, ""),
        "planned_rounds": planned_rounds or study.head.rounds,
        "families": {
            role: [[workload, name] for workload, name, m in metrics if m.role == role]
            for role in ("primary", "secondary", "detail")
        },
        "metrics": [
            {"workload": workload, "metric": name, **judging(study, metric)}
            for workload, name, metric in metrics
        ],
    }


def judging(study: Study, metric: Metric) -> dict[str, Any]:
    """What judges one metric: its unit, direction, role, margin, formula."""
    share = metric.share_margin or study.head.margin
    return {
        "unit": metric.unit,
        "better": metric.better,
        "role": metric.role,
        "margin": margin_words(share, metric.unit_margin, metric.unit),
        "formula": metric.formula,
    }


def margin_words(share: float, amount: float | None, unit: str) -> str:
    """A margin as the study file has it, such as "3 %" or "1 fps"."""
    return f"{100 * share:.10g} %" if amount is None else f"{amount:g} {unit}"
