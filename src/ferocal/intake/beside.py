"""What stands beside a value in columns of its row, joined with what stands in the cell."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ferocal.intake.cells import Cells, parse_numbers, what_is_wrong
from ferocal.intake.columns import Columns, Labels
from ferocal.intake.lookup import Problems
from ferocal.ledger.records import Mark
from ferocal.study.metrics import READ_AS, STATISTICS
from ferocal.terms.bounds import BEYOND, BEYOND_SAMPLES, MOST_SAMPLES, beyond
from ferocal.terms.wording import listed


def ends_of(
    columns: Columns, cells: Cells, problems: Problems, factor: np.ndarray | None
) -> Sequence[np.ndarray]:
    """The low and the high ends of ranges: in the cells, or in separate columns."""
    stated = [numbers_of(columns, column, problems, factor) for column in ("low", "high")]
    if not cells.ranges:
        return stated
    seen = [in_unit(end, factor) for end in (cells.low, cells.high)]
    return [
        _either_number(own, other, problems, column)
        for own, other, column in zip(seen, stated, ("low", "high"), strict=True)
    ]


def bounds_of(columns: Columns, seen: Labels, problems: Problems) -> Labels:
    """The bounds in the cells, or in a separate column as exported files have it."""
    if "bound" not in columns:
        return seen
    stated = columns.labels("bound")
    problems.add(
        stated.map(lambda text: text not in ("", "<", ">")), "bound", '{} is neither "<" nor ">"'
    )
    return _either(seen, stated, problems, "bound")


def marks_of(columns: Columns, cells: Cells, problems: Problems) -> tuple[Labels, Labels]:
    """Why there are no readings: in the cells, or in separate columns."""
    stated = columns.labels("mark")
    problems.add(
        stated.map(lambda text: text not in ("", *Mark)),
        "mark",
        f"{{}} is none of {listed(list(Mark))}",
    )
    mark = _either(cells.mark, stated, problems, "mark")
    reason = _either(cells.reason, columns.labels("reason"), problems, "reason")
    idle = "{} is given, but there is a value; a remark on it belongs in a column note"
    problems.add(reason.given & ~mark.given, "reason", idle)
    return mark, reason


def statistics_of(columns: Columns, cells: Cells, problems: Problems) -> Labels:
    """What each reading is of several values, "" where that is not stated."""
    stated = columns.labels("statistic")
    problems.add(
        stated.map(lambda text: text not in ("", *STATISTICS, *READ_AS)),
        "statistic",
        f"{{}} is none of {', '.join(STATISTICS)}",
    )
    return _either(cells.statistic, stated, problems, "statistic")


def samples_of(columns: Columns, cells: Cells, problems: Problems) -> np.ndarray:
    """How many single values the readings summarise, NaN unless stated, in the cells or beside."""
    stated = numbers_of(columns, "samples", problems)
    samples = _either_number(cells.samples, stated, problems, "samples")
    wrong = (samples < 1) | (samples > MOST_SAMPLES) | (np.floor(samples) != samples)
    problems.add(wrong & ~np.isnan(samples), "samples", f"{{}} {BEYOND_SAMPLES}")
    return samples


def notes_of(cells: Cells, stated: Labels) -> Labels:
    """What is remarked in the cells and beside them; the sign of a footnote where nothing is."""
    if not any([*cells.note.names, *cells.sign.names, *stated.names]):
        return stated
    every = np.arange(len(stated.codes))
    columns = zip(stated.at(every), cells.note.at(every), cells.sign.at(every), strict=True)
    return Labels.of_texts(
        [
            "; ".join(filter(None, (beside, within))) or (f"marked {sign}" if sign else "")
            for beside, within, sign in columns
        ]
    )


_CONTRADICTS = "{} contradicts what stands with the value"


def _either(seen: Labels, stated: Labels, problems: Problems, column: str) -> Labels:
    """What stands in the cells, or else in a separate column; the two may not differ."""
    if not any(seen.names) or not any(stated.names):
        return seen if any(seen.names) else stated
    every = np.arange(len(seen.codes))
    pairs = list(zip(seen.at(every), stated.at(every), strict=True))
    differ = [bool(own and other) and own != other for own, other in pairs]
    problems.add(np.array(differ), column, _CONTRADICTS)
    return Labels.of_texts([own or other for own, other in pairs])


def _either_number(
    seen: np.ndarray, stated: np.ndarray, problems: Problems, column: str
) -> np.ndarray:
    """The same of numbers, NaN where there is none."""
    differ = ~np.isnan(seen) & ~np.isnan(stated) & ~np.isclose(seen, stated, rtol=1e-12, atol=0)
    problems.add(differ, column, _CONTRADICTS)
    return np.where(np.isnan(seen), stated, seen)


def numbers_of(
    columns: Columns, column: str, problems: Problems, factor: np.ndarray | None = None
) -> np.ndarray:
    """A column as numbers, NaN where there is nothing; a decimal comma is one."""
    if column not in columns:
        return np.broadcast_to(np.nan, len(columns))
    labels = columns.by_name[column]
    if isinstance(labels, np.ndarray):
        numbers = labels
    else:
        texts = labels
        form = problems.form
        numbers = parse_numbers(texts.names, form).take(texts.codes)
        unread = np.isnan(numbers) & texts.given
        problems.add(unread, column, lambda row: what_is_wrong(texts[row], form))
    numbers = numbers.astype(float, copy=False)
    converted = in_unit(numbers, factor)
    problems.add(beyond(numbers) | beyond(converted), column, f"{{}} {BEYOND}")
    return converted


def in_unit(values: np.ndarray, factor: np.ndarray | None) -> np.ndarray:
    """Numbers of a file in the units of the study."""
    return values if factor is None else values * factor
