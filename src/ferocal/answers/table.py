"""What was read: centre, spread and counts of every metric under every configuration."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from ferocal.analysis.data.cells import Cell, tabulate
from ferocal.analysis.data.gaps import Gap
from ferocal.analysis.data.series import Series
from ferocal.answers.answer import Answer, basis_of
from ferocal.answers.best import Best, find_all_best
from ferocal.answers.circumstances import MixedStatistic, find_mixed_statistics
from ferocal.answers.evidence import Evidence
from ferocal.answers.gaps import find_gaps
from ferocal.answers.selection import Selection
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

CellRows = tuple[tuple[Cell | None, ...], ...]


@dataclass(frozen=True)
class ReadingsTable(Answer):
    """Cells by bench: rows are series, columns the configurations; None where nothing was read.

    ``gaps`` say why cells are empty. ``asked`` says whether some metrics were asked for by name.
    ``best`` has by bench and series the best configuration and those tied with it.
    ``mixed`` are metrics whose readings are not all the same statistic.
    """

    baseline: str
    configurations: tuple[str, ...]
    cells: dict[str, CellRows]
    gaps: tuple[Gap, ...]
    asked: bool = False
    mixed: tuple[MixedStatistic, ...] = ()
    best: Mapping[tuple[str, Series], Best] = field(default_factory=dict)


def make_table(
    study: Study, evidence: Evidence, selection: Selection | None = None
) -> ReadingsTable:
    """The table of a study; with a selection, only some of its cells.

    Raises
    ------
    UsageError
        When a name is unknown.
    """
    selection = selection or Selection()
    selection = selection.resolve(study)
    return ReadingsTable(
        **basis_of(study, evidence),
        baseline=study.baseline,
        configurations=tuple(c.name for c in study.configurations),
        cells={
            bench: _chosen(tabulate(evidence.readings, place), selection)
            for place, bench in enumerate(study.benches)
            if not selection.benches or bench in selection.benches
        },
        gaps=tuple(
            gap
            for gap in find_gaps(study, evidence)
            if selection.wants(gap.bench, gap.configuration, gap.workload, gap.metric)
        ),
        asked=selection.places is not None,
        mixed=find_mixed_statistics(evidence.contexts),
        best=find_all_best(study, evidence, selection) if len(evidence.readings.value) else {},
    )


def _chosen(rows: list[list[Cell | None]], selection: Selection) -> CellRows:
    return tuple(
        tuple(
            cell
            if cell is not None
            and selection.wants(
                cell.bench, cell.configuration, cell.series.workload, cell.series.metric
            )
            else None
            for cell in row
        )
        for row in rows
    )
