"""The metrics of a study as series of the analysis, in the order in which they are read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

from ferocal.analysis.data.series import Series
from ferocal.study.load import Study
from ferocal.study.metrics import Metric, derive, margins_of
from ferocal.study.model import Workload
from ferocal.terms.formulas import Declared, walk
from ferocal.terms.roles import DECIDING
from ferocal.terms.units import is_time


def study_series(study: Study) -> tuple[Series, ...]:
    """The metrics of a study: groups together, and what is part of a score below it."""
    groups = list(dict.fromkeys(w.section for w in study.workloads.values()))
    ordered = sorted(study.workloads.items(), key=lambda item: groups.index(item[1].section))
    return tuple(series for name, entry in ordered for series in _of_workload(study, name, entry))


def _of_workload(study: Study, workload: str, entry: Workload) -> Iterator[Series]:
    labels = _labels(entry)
    for name, metric, depth in _by_score(entry):
        for part, derived in derive(name, metric).items():
            yield _series(study, workload, part, derived, labels[part], depth)


def _by_score(
    entry: Workload, total: str | None = None, depth: int = 0
) -> Iterator[tuple[str, Metric, int]]:
    """The metrics of a workload, each followed by those that are part of it."""
    for name, metric in entry.metric.items():
        if metric.part_of == total:
            yield name, metric, depth
            yield from _by_score(entry, name, depth + 1)


def _labels(entry: Workload) -> dict[str, str]:
    """What every metric is called: nothing where it is the only one of its workload."""
    parts = {
        part: (name, derived, _label(part, metric))
        for name, metric in entry.metric.items()
        for part, derived in derive(name, metric).items()
    }
    counts = Counter(label for _, _, label in parts.values())
    judged = [part for part, (_, derived, _) in parts.items() if derived.role in DECIDING]
    return {
        part: "" if judged == [part] else label if counts[label] == 1 else f"{name} {label}"
        for part, (name, _, label) in parts.items()
    }


def _label(part: str, metric: Metric) -> str:
    of_trace = metric.trace_part(part)
    return metric.title or part if of_trace is None else of_trace.label


def _series(
    study: Study, workload: str, name: str, metric: Metric, label: str, depth: int
) -> Series:
    entry = study.workloads[workload]
    margin, unit_margin = margins_of(name, metric, study.head.margin)
    return Series(
        workload=workload,
        metric=name,
        unit=metric.unit,
        better=metric.better,
        margin=margin,
        role=metric.role,
        unit_margin=unit_margin,
        resolution=metric.step,
        plausible=metric.plausible,
        of_frames=metric.trace_kind is not None and metric.trace_kind.counts_samples,
        assumed_times=metric.assumes_times and is_time(metric.unit),
        group=entry.section,
        sized_workload=entry.sized_workload or "",
        size=None if entry.size is None else entry.size.value,
        weight=entry.weight,
        metered=isinstance(metric.source, str) or metric.formula is not None,
        per=quantities_in(study, workload, name),
        part_of=metric.part_of or "",
        trades_with=metric.trade_off_with,
        label=label,
        depth=depth,
        **_noise_of(study, workload, metric),
    )


def quantities_in(study: Study, workload: str, metric: str) -> tuple[str, ...]:
    """The declared quantities in the formula of a metric; none where it has no formula."""
    formula = study.formulas.get((workload, metric))
    terms = () if formula is None else walk(formula.term)
    return tuple(dict.fromkeys(term.name for term in terms if isinstance(term, Declared)))


def _noise_of(study: Study, workload: str, metric: Metric) -> Mapping[str, float | None]:
    """How much visits vary as it is stated, as a share or in the unit; the nearest counts."""
    if metric.noise is None:
        return {"noise": study.workloads[workload].noise or study.head.noise}
    amount, unit = metric.noise
    return {"noise": amount / 100} if unit == "%" else {"unit_noise": amount}
