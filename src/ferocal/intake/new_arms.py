"""Configurations that a file has and a study has not, added to its study file."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from functools import partial
from operator import eq
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ferocal.errors import UsageError
from ferocal.intake.beginning import amounts_in
from ferocal.intake.columns import FACTOR, Columns
from ferocal.intake.tables.entry import read_readings
from ferocal.intake.tables.options import TableOptions
from ferocal.study.levels import with_level
from ferocal.terms.bounds import is_time
from ferocal.terms.names import plain_name, resolve

if TYPE_CHECKING:
    from ferocal.study.load import Study


def find_new(
    study: Study, paths: Sequence[Path], options: TableOptions
) -> dict[tuple[str, str], dict[str, Any]]:
    """Levels that files name and a study has not, by factor and name, with what is known of each.

    Raises
    ------
    IntakeError
        When a file cannot be read.
    """
    found: dict[tuple[str, str], dict[str, Any]] = {}
    for path in paths:
        columns = read_readings(path, options, study).columns
        for factor, source in _sources(study, columns).items():
            known = list(study.file.factor[factor].level)
            for text in columns.labels(source).used:
                name = plain_name(text)
                if name and resolve(text, known) not in known and not _is_arm(study, text):
                    row = columns.taken(columns.labels(source).map(partial(eq, text)))
                    found.setdefault((factor, name), _known_of(study, factor, row))
    return found


def _sources(study: Study, columns: Columns) -> dict[str, str]:
    """By factor, the column that has its levels."""
    factors = list(study.file.factor)
    if "configuration" in columns:
        return {factors[0]: "configuration"} if len(factors) == 1 else {}
    given = {f: FACTOR + f if FACTOR + f in columns else f for f in factors}
    return {factor: source for factor, source in given.items() if source in columns}


def _is_arm(study: Study, text: str) -> bool:
    names = [c.name for c in study.configurations]
    return resolve(text, names) in names


def _known_of(study: Study, factor: str, rows: Columns) -> dict[str, Any]:
    """The date and the quantities of a level, as far as its rows state them."""
    level: dict[str, Any] = {}
    dates = [text[:10] for text in rows.labels("started_at").used if is_time(text)]
    if dates and study.file.factor[factor].order == "time":
        level["date"] = datetime.date.fromisoformat(min(dates))
    amounts = amounts_in(rows)
    return {**level, "quantities": amounts} if amounts else level


def with_new(study: Study, levels: Mapping[tuple[str, str], Mapping[str, Any]]) -> Study:
    """The study with further levels; nothing is written yet.

    Raises
    ------
    UsageError
        When a level cannot be added, or more is needed than that.
    """
    for (factor, name), level in levels.items():
        added = with_level(study, factor, name, level)
        if added.missing:
            raise UsageError(f"{added.missing}; nothing was recorded")
        study = added.study
    return study
