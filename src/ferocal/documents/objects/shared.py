"""Keys that the objects of several commands have."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ferocal.documents.caveats.remarks import make_remarks
from ferocal.documents.changes import criteria_text
from ferocal.documents.objects.base import Object, Placed, Text, key

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.answer import Answer


def _changes(result: Any) -> list[str]:
    return [criteria_text(change) for change in result.criteria_changes]


CRITERIA_CHANGED = key(
    "sentences on margins, roles, units and directions that were changed after the first reading",
    _changes,
)
EXCLUDED = key("runs that are marked as not to be used", "excluded")
LEFT_OUT = key("readings that the study file no longer knows", "left_out")


class RemarkObject(Object):
    """A caveat of a result."""

    bench: str = key("on which bench")
    code: str = key("the code of the caveats", "item.code")
    weight: str = key("`forbids`, `weakens` or `informs`", "item.weight")
    text: str = key("one sentence for all caveats of this code", "item.text")
    look: str = key("the command that looks closer", "item.look")


def _doubts(answer: Answer) -> list[Placed]:
    """The caveats of the comparisons behind an answer, with their benches."""
    if answer.doubts is None:
        return []
    effects = answer.doubts.effects
    return [
        Placed(bench, remark)
        for bench in dict.fromkeys(e.bench for e in effects)
        for remark in make_remarks([e for e in effects if e.bench == bench], answer.doubts.levels)
    ]


DOUBTS = key("caveats of the comparisons that this rests on, the gravest first", _doubts)


class OfSeries(Object):
    """Something that is known of a metric on a bench."""

    bench: str = key("where")
    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    label: str = key("what the two are called in sentences", "series.title")
    group: Text = key("the group of the workload", "series.group")
    role: str = key("`primary`, `secondary`, `detail` or `context`", "series.role")
    primary: bool = key("whether that is `primary`", lambda item: _is_primary(item.series))
    unit: str = key("its unit", "series.unit")
    better: str = key("`higher`, `lower` or `none`", "series.better")


def _is_primary(series: Series) -> bool:
    return series.role == "primary"


class GapObject(Object):
    """A gap."""

    bench: str = key("where")
    workload: str = key("what was run")
    metric: str = key("what was to be read")
    configuration: str = key("under which configuration")
    mark: str = key("`impossible`, `not active`, `failed`, `absent`, `not measured`")
    reason: Text = key("why, as far as it is known")


def _lowest(cell: Any) -> float | None:
    """The lowest end of the ranges of a cell."""
    return None if cell.span is None else float(cell.span[0])


def _highest(cell: Any) -> float | None:
    """The highest end of the ranges of a cell."""
    return None if cell.span is None else float(cell.span[1])


class CellObject(OfSeries):
    """A cell."""

    configuration: str = key("under which configuration")
    centre: float = key("geometric mean of the summaries of visits")
    cv: float | None = key("sample standard deviation of single runs over their mean")
    runs: int = key("runs that were read")
    rounds: int = key("rounds, or visits where there are none")
    low: float | None = key("lowest end of the ranges that were read", _lowest)
    high: float | None = key("highest end of the ranges that were read", _highest)
    bound: str | None = key("`>` or `<` where nothing but bounds was read")
    bounds_left_out: int = key("bounds beside the readings", "bounds")
