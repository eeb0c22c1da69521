"""Whether what was measured is still what the study file says it is."""

from __future__ import annotations

import functools
import tomllib
from collections.abc import Sequence
from typing import Any

from pydantic import BaseModel, ValidationError

from ferocal.ledger.reading.sessions import Snapshot
from ferocal.study.load import Study
from ferocal.study.masking import Mask
from ferocal.study.model import Level, StudyFile
from ferocal.terms.frozen import dataclass

# What of a level brings it, and of a workload makes its readings; the rest may change.
_OF_LEVEL = ("environment", "prefix", "switch", "hold", "verify")
_OF_WORKLOAD = (
    "command", "shell", "environment", "instructions", "warmups", "before", "after", "files",
)  # fmt: skip
_OF_METRIC = ("kind", "unit", "source", "read", "statistic", "limit")


@dataclass(frozen=True)
class DefinitionChange:
    """Something that was defined otherwise when it was measured.

    ``aspect`` is the key that was changed, ``of`` what has it, "" for the study. With "levels" a
    configuration had others and with "metrics" a workload had some that are gone, which are
    ``was``. ``configuration`` and ``workload`` say which readings that bears on, None for all.
    """

    aspect: str
    of: str
    since: str
    was: tuple[str, ...] = ()
    configuration: str | None = None
    workload: str | None = None
    metric: str | None = None


def find_definition_changes(
    study: Study, snapshots: Sequence[Snapshot]
) -> tuple[DefinitionChange, ...]:
    """What readings in the ledger were measured with, where it is not what the study file says.

    Sessions of earlier versions have not kept their study file; nothing is said of them.
    """
    found: dict[DefinitionChange, None] = {}
    for snapshot in snapshots:
        # What is private is only looked for where the text is another.
        if snapshot.text == study.text or snapshot.text == study.kept_text:
            continue
        before = parse_study(snapshot.text)
        if before is None:
            continue
        if _differing(study.mask, before.study, study.head, ("prepare",)):
            found[DefinitionChange("prepare", "", snapshot.started_at[:10])] = None
        for change in _level_changes(study, before, snapshot):
            found[change] = None
        for workload in snapshot.workloads:
            for change in _workload_changes(study, before, workload, snapshot.started_at[:10]):
                found[change] = None
    return tuple(found)


@functools.cache
def parse_study(text: str) -> StudyFile | None:
    """An earlier study file, None if this version would refuse it."""
    try:
        return StudyFile.model_validate(tomllib.loads(text))
    except (ValidationError, tomllib.TOMLDecodeError):
        return None


def _level_changes(study: Study, before: StudyFile, snapshot: Snapshot) -> list[DefinitionChange]:
    changes, day = [], snapshot.started_at[:10]
    for name, levels in snapshot.configurations:
        for factor, level in levels.items():
            old, new = (_level(file, factor, level) for file in (before, study.file))
            if old is None or new is None:
                continue
            for key in _differing(study.mask, old, new, _OF_LEVEL):
                of = f"{factor}={level}"
                changes.append(DefinitionChange(key, of, day, configuration=name))
        present = next((c.levels for c in study.configurations if c.name == name), None)
        if present is not None and present != levels:
            was = tuple(f"{f}={v}" for f, v in levels.items())
            changes.append(DefinitionChange("levels", name, day, was, configuration=name))
    return changes


def _level(file: StudyFile, factor: str, name: str) -> Level | None:
    table = file.factor.get(factor)
    return None if table is None else table.level.get(name)


def _workload_changes(
    study: Study, before: StudyFile, name: str, day: str
) -> list[DefinitionChange]:
    old, new = before.workload.get(name), study.workloads.get(name)
    if old is None or new is None:
        return []
    changes = [
        DefinitionChange(key, name, day, workload=name)
        for key in _differing(study.mask, old, new, _OF_WORKLOAD)
    ]
    for metric in old.metric.keys() & new.metric.keys():
        if new.metric[metric].formula is not None:
            continue  # it is computed anew
        changes += [
            DefinitionChange(key, f"{metric} ({name})", day, workload=name, metric=metric)
            for key in _differing(study.mask, old.metric[metric], new.metric[metric], _OF_METRIC)
        ]
    gone = [m for m, was in old.metric.items() if m not in new.metric and was.formula is None]
    if gone:
        changes.append(DefinitionChange("metrics", name, day, tuple(gone), workload=name))
    return changes


def _differing(mask: Mask, old: BaseModel, new: BaseModel, keys: Sequence[str]) -> list[str]:
    """The keys in which two tables differ, as far as they are not private."""

    def masked(table: BaseModel) -> dict[str, Any]:
        kept: dict[str, Any] = mask.value(table.model_dump(exclude={"private"}))
        return kept

    changed = [key for key in keys if getattr(old, key) != getattr(new, key)]
    return [key for key in changed if not mask.texts or masked(old)[key] != masked(new)[key]]
