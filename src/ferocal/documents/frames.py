"""Answers as tables for other programs, a row for each of their parts."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from ferocal.documents.caveats.words import seen_text
from ferocal.documents.claims import as_people_read

if TYPE_CHECKING:
    from collections.abc import Iterable

    import pandas as pd

    from ferocal.analysis.inference.effects import Effect, Estimate
    from ferocal.answers.claims import ClaimsAnswer
    from ferocal.answers.compare import Comparison
    from ferocal.answers.factors import FactorsAnswer
    from ferocal.answers.rank import RankAnswer
    from ferocal.answers.series import SeriesAnswer


def effects_frame(comparison: Comparison) -> pd.DataFrame:
    """The effects of a comparison, one per row.

    Returns
    -------
    pandas.DataFrame
        Columns ``bench``, ``workload``, ``metric``, ``label``, ``unit``, ``better``, ``role``,
        ``configuration``, ``baseline``, ``scale``, ``change``, ``low`` and ``high`` (shares on the
        scale "ratio", else in the unit), ``bound``, ``margin``, ``p``, ``p_adjusted``,
        ``verdict``, ``method``, ``rounds``, ``visits``, ``runs``, and ``caveats`` (what was seen,
        separated by semicolons).
    """
    import pandas as pd

    return pd.DataFrame([_row(effect) for effect in comparison.effects], columns=_COLUMNS)


_COLUMNS = (
    "bench", "workload", "metric", "label", "unit", "better", "role", "configuration", "baseline",
    "scale", "change", "low", "high", "bound", "margin", "p", "p_adjusted", "verdict", "method",
    "rounds", "visits", "runs", "caveats",
)  # fmt: skip


def _row(effect: Effect) -> dict[str, Any]:
    series = effect.series
    return {
        "bench": effect.bench,
        "workload": series.workload,
        "metric": series.metric,
        "label": series.title,
        "unit": series.unit,
        "better": series.better,
        "role": series.role,
        "configuration": effect.configuration,
        "baseline": effect.baseline,
        "scale": effect.scale,
        **{name: _number(getattr(effect, name)) for name in ("change", "low", "high")},
        "bound": effect.bound,
        "margin": series.margin if effect.scale == "ratio" else series.unit_margin,
        "p": _number(effect.shift.p_value),
        "p_adjusted": _number(effect.p_adjusted),
        "verdict": str(effect.verdict),
        "method": str(effect.method),
        "rounds": effect.rounds,
        "visits": effect.visits,
        "runs": effect.runs,
        "caveats": "; ".join(seen_text(caveat) for caveat in effect.caveats),
    }


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None


def factors_frame(answer: FactorsAnswer) -> pd.DataFrame:
    """What every level does to every metric, one per row.

    Returns
    -------
    pandas.DataFrame
        Columns ``bench``, ``workload``, ``metric``, ``factor``, ``level``, ``against``,
        ``scale``, ``change``, ``low``, ``high``, ``p_adjusted``, ``verdict``, ``method``, and
        ``together`` (levels that always came with it). The index has no workload. What cannot be
        told apart from everything else has no change.
    """
    return _frame(
        {
            "bench": bench.bench,
            "workload": effect.series.workload or None,
            "metric": effect.series.metric,
            "factor": effect.factor,
            "level": effect.level,
            "against": effect.against,
            **_judged(effect.judged),
            "together": ", ".join(effect.together),
        }
        for bench in answer.benches
        for effect in bench.effects
    )


def series_frame(answer: SeriesAnswer) -> pd.DataFrame:
    """The value of every metric at every release, one per row.

    Returns
    -------
    pandas.DataFrame
        Columns ``bench``, ``workload``, ``metric``, ``unit``, ``release``, ``date``, ``visits``,
        ``value``, ``low``, ``high`` (in the unit), and of the comparison with the release
        before it ``scale``, ``change``, ``change_low``, ``change_high``, ``p_adjusted``,
        ``verdict``, ``method``; ``step`` is "step" or "creep" where one ends at this release.
    """
    ends = {(s.bench, s.series, s.first): s.kind for s in answer.steps}
    rows = []
    for value in answer.values:
        release, series = answer.releases[value.release], value.series
        judged = _judged(value.against_before)
        judged |= {f"change_{end}": judged.pop(end) for end in ("low", "high")}
        rows.append(
            {
                "bench": value.bench,
                "workload": series.workload,
                "metric": series.metric,
                "unit": series.unit,
                "release": release.name,
                "date": release.date,
                "visits": value.visits,
                "value": value.value,
                "low": _number(value.low),
                "high": _number(value.high),
                **judged,
                "step": ends.get((value.bench, series, value.release)),
            }
        )
    return _frame(rows)


def ranking_frame(answer: RankAnswer) -> pd.DataFrame:
    """Every contestant in every ranking, one per row; the index has no workload.

    Returns
    -------
    pandas.DataFrame
        Columns ``place`` (the bench, or the configuration where benches compete), ``workload``,
        ``metric``, ``unit``, ``name``, ``value``, ``low``, ``high``, ``rank_best``,
        ``rank_worst``, ``chance`` (of being first) and ``visits``.
    """
    return _frame(
        {
            "place": field.place,
            "workload": ranking.series.workload or None,
            "metric": ranking.series.metric,
            "unit": ranking.series.unit,
            "name": ranking.label(place, answer.across),
            "value": standing.value,
            "low": _number(standing.low),
            "high": _number(standing.high),
            "rank_best": standing.rank_best,
            "rank_worst": standing.rank_worst,
            "chance": _number(standing.chance),
            "visits": standing.visits,
        }
        for field in answer.fields
        for ranking in (*filter(None, [field.composite]), *field.rankings)
        for place, standing in enumerate(ranking.standings)
    )


def claims_frame(answer: ClaimsAnswer) -> pd.DataFrame:
    """Every claim with what was found, one per row.

    Returns
    -------
    pandas.DataFrame
        Columns ``name``, ``says``, ``verdict``, ``bench``, ``workload``, ``metric``,
        ``configuration``, ``kind``, ``found``, ``low``, ``high``, ``claimed_low`` and
        ``claimed_high`` (per cent of a change, a ratio, or in the unit), ``p_adjusted``, and
        ``written_before`` (the first reading; missing where that is unknown).
    """
    rows = []
    for finding in answer.findings:
        judged, series = finding.judged, finding.series
        found, ends = (judged.mean, judged.low, judged.high), judged.ends
        read = [as_people_read(finding, x) if math.isfinite(x) else None for x in (*found, *ends)]
        names = ("found", "low", "high", "claimed_low", "claimed_high")
        rows.append(
            {
                "name": finding.name,
                "says": finding.claim.says,
                "verdict": str(judged.verdict),
                "bench": finding.bench,
                "workload": series.workload,
                "metric": series.metric,
                "configuration": finding.claim.configuration,
                "kind": finding.kind,
                **dict(zip(names, read, strict=True)),
                "p_adjusted": _number(judged.p_adjusted),
                "written_before": finding.written_before,
            }
        )
    return _frame(rows)


def _judged(estimate: Estimate | None) -> dict[str, Any]:
    """A contrast as cells; empty ones where there is none."""
    names = ("scale", "change", "low", "high", "p_adjusted", "verdict", "method")
    if estimate is None:
        return dict.fromkeys(names)
    e = estimate
    numbers = {n: _number(getattr(e, n)) for n in ("change", "low", "high", "p_adjusted")}
    words = {"scale": e.scale, "verdict": str(e.verdict), "method": str(e.method)}
    return {name: (words | numbers)[name] for name in names}


def _frame(rows: Iterable[dict[str, Any]]) -> pd.DataFrame:
    import pandas as pd

    return pd.DataFrame(list(rows))
