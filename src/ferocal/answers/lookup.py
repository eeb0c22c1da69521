"""From a number in an answer to its visits and runs, and from a run to the answers it is in."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence

from ferocal.analysis.data.cells import Cell
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Effect
from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import gather
from ferocal.answers.table import make_table
from ferocal.errors import UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.history import SessionRow, read_sessions, session_of_run
from ferocal.ledger.reading.runs import RunRow, read_runs
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass

_ID = re.compile("[0-9a-f]{4,32}")
_NUMBER = re.compile(r"(?P<sign>[-+]?)(?P<number>\d+(?:\.(?P<part>\d+))?)")


@dataclass(frozen=True)
class Match:
    """A number of an answer: an effect, or what was read of one cell; and the runs behind it.

    ``runs`` are those of the cell or of the configuration, ``base_runs`` those that it is compared
    with.
    """

    effect: Effect | None
    cell: Cell | None
    runs: tuple[RunRow, ...]
    base_runs: tuple[RunRow, ...] = ()


@dataclass(frozen=True)
class Lookup:
    """What a text stands for: numbers of answers, or a run with the answers that it is in.

    ``effects`` are those that the run is part of, ``session`` is the one that brought it.
    """

    question: str
    text: str
    matches: tuple[Match, ...] = ()
    run: RunRow | None = None
    effects: tuple[Effect, ...] = ()
    session: SessionRow | None = None


def look_up(study: Study, text: str) -> Lookup:
    """Find a number as an answer prints it, or a run by its id.

    Raises
    ------
    UsageError
        When it is neither.
    LedgerError
        When the ledger is missing or cannot be read.
    """
    with read_ledger(study.directory) as ledger:
        runs = read_runs(ledger)
        evidence = gather(study, ledger)
        comparison = compare(study, evidence)
        named = [run for run in runs if _ID.fullmatch(text) and run.id.startswith(text[:10])]
        if len(named) == 1:
            session = session_of_run(ledger, named[0].id)
            sessions = {s.id: s for s in read_sessions(ledger)}
            effects = tuple(_with_run(comparison, named[0]))
            return Lookup(
                study.head.question, text, run=named[0], effects=effects,
                session=sessions.get(session),
            )  # fmt: skip
    table = make_table(study, evidence)
    cells = [cell for rows in table.cells.values() for row in rows for cell in row if cell]
    matches = tuple(_matches(text, comparison, cells, runs))
    if not matches:
        raise UsageError(
            f'"{text}" is no number of `ferocal compare` or `ferocal table`, and not the id of a '
            "run; write it as it stands there, such as +9.1 %"
        )
    return Lookup(study.head.question, text, matches)


def _with_run(comparison: Comparison, run: RunRow) -> Iterator[Effect]:
    """The effects that a run is part of; one that does not count is part of none."""
    if run.outcome != "ok" or run.excluded is not None or run.warmup:
        return
    for effect in comparison.effects:
        series = effect.series
        if effect.bench != run.bench or series.workload != run.workload:
            continue
        sides = (effect.configuration, effect.baseline)
        if run.configuration in sides and series.metric in run.values:
            yield effect


def _matches(
    text: str, comparison: Comparison, cells: Sequence[Cell], runs: Sequence[RunRow]
) -> Iterator[Match]:
    """The numbers that are printed like a text: changes, then centres."""
    bare = re.sub(r"[\s\u00a0\u202f]", "", text.replace("−", "-"))
    is_factor = bare[:1] in ("×", "x")
    match = _NUMBER.match(bare.lstrip("×x"))
    if match is None:
        return
    number = float(match["number"]) * (-1 if match["sign"] == "-" else 1)
    half = 0.5 * 10.0 ** -len(match["part"] or "") * 1.001
    rest = bare.lstrip("×x")[match.end() :]
    for effect in comparison.effects:
        change = effect.change * (100 if effect.scale == "ratio" else 1)
        own = abs(change) if not match["sign"] else change
        own = 1 + effect.change if is_factor and effect.scale == "ratio" else own
        if abs(own - number) <= half and rest in ("", "%", "points", effect.series.unit):
            sides = (effect.configuration, effect.baseline)
            here, there = (_runs_of(runs, effect.bench, name, effect.series) for name in sides)
            yield Match(effect, None, here, there)
    if match["sign"] == "+" or is_factor:
        return
    for cell in cells:
        if rest in ("", cell.series.unit) and abs(cell.centre - number) <= _half_of(cell, half):
            yield Match(None, cell, _runs_of(runs, cell.bench, cell.configuration, cell.series))


def _half_of(cell: Cell, half: float) -> float:
    """By how much a centre may differ from a printed one, which has four digits at least."""
    if not cell.centre:
        return half
    return max(half, 0.5 * 10.0 ** (math.floor(math.log10(abs(cell.centre))) - 3) * 1.001)


def _runs_of(
    runs: Sequence[RunRow], bench: str, configuration: str, series: Series
) -> tuple[RunRow, ...]:
    return tuple(
        run for run in runs
        if (run.bench, run.configuration, run.workload) == (bench, configuration, series.workload)
        and series.metric in run.values and not run.warmup
    )  # fmt: skip
