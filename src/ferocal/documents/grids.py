"""Rows of grids from metrics, and what their signs mean."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import GridCell, Place, Row
from ferocal.documents.numbers import change_and_half

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Effect
    from ferocal.documents.numbers import Change


STATED_NOTE = "the interval assumes a stated noise"


def arrange(
    series: Sequence[Series],
    cells_of: Callable[[Series], tuple[GridCell, Mapping[str, GridCell]]],
    notes_of: Callable[[str], tuple[str, ...]] = lambda workload: (),
) -> Iterator[Row]:
    """Rows for metrics, under headings for groups and for workloads with several of them.

    ``cells_of`` gives the cell of the base, and the others; ``notes_of`` the notes on a workload.
    """
    group = workload = ""
    counts = Counter(s.workload for s in series)
    mixed = mixes_roles(series)
    for s in series:
        alone = counts[s.workload] == 1
        if s.group != group:
            yield Row(f"— {s.group} —" if s.group else "")
        if s.workload != workload and not alone and s.workload:
            yield Row(s.workload, notes=notes_of(s.workload))
        group, workload = s.group, s.workload
        base, cells = cells_of(s)
        yield Row(
            s.title if alone else s.label or s.metric,
            cells,
            s.unit if s.workload else "",
            s.better,
            base,
            0 if alone else 1 + s.depth,
            alone,
            mixed and s.role == "primary" and bool(s.workload),
            notes_of(s.workload) if alone else (),
        )


def mixes_roles(series: Sequence[Series]) -> bool:
    """Whether primary metrics stand among others, so that they have to be marked."""
    return {"primary"} < {s.role for s in series}


def change_cell(
    change: Change, notes: tuple[str, ...] = (), place: Place | None = None, method: str = ""
) -> GridCell:
    """A change with half the width of its interval and its verdict."""
    number, rest = change_and_half(change)
    return GridCell(number, rest, change.verdict, notes=notes, place=place, method=method)


def place_of(effect: Effect) -> Place:
    """What the number of an effect is about."""
    series = effect.series
    return Place(effect.bench, series.workload, series.metric, effect.configuration)


def meanings(
    verdicts: Iterable[Verdict], within: str, **others: str
) -> tuple[tuple[Verdict | str, str], ...]:
    """The verdicts that occur and the words for them.

    ``others`` are words for verdicts that mean something else here, such as who leads.
    """
    present = set(verdicts) - {Verdict.NOT_JUDGED}
    words = {Verdict.EQUIVALENT: f"within {within}"}
    words |= {Verdict(name): word for name, word in others.items()}
    return tuple((v, words.get(v, str(v))) for v in Verdict if v in present)
