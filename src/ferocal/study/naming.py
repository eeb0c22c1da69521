"""Metrics by the names that people use for them."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from ferocal.errors import UsageError
from ferocal.terms.names import closest
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.study.load import Study


class NamedMetric(NamedTuple):
    """A metric of a study, with its unit and which direction is better."""

    workload: str
    metric: str
    unit: str
    better: str


def find_metric(study: Study, name: str) -> NamedMetric:
    """The metric of a name: workload and metric, or either of them where that says enough.

    Raises
    ------
    UsageError
        When there is none, or several; the message has what may be meant.
    """
    known = [NamedMetric(w, part, m.unit, m.better) for w, part, m in study.metrics()]
    whole = [m for m in known if name == f"{m.workload} {m.metric}"]
    found = whole or [m for m in known if name in (m.workload, m.metric)]
    names = [f"{m.workload} {m.metric}" for m in known]
    if not found:
        raise UsageError(f'no metric "{name}" in this study; {closest(name, names)}')
    if len(found) > 1:
        shown = listed([f'"{m.workload} {m.metric}"' for m in found[:6]])
        raise UsageError(f'"{name}" may be {shown}: name workload and metric')
    return found[0]
