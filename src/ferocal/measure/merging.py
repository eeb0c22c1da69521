"""Merging a copy of a study that was measured elsewhere."""

from __future__ import annotations

from pathlib import Path

from ferocal.errors import UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.writing.merge import Merged, merge_ledgers
from ferocal.ledger.writing.opening import open_ledger
from ferocal.measure.lock import study_lock
from ferocal.study.load import Study, load_study


def merge_studies(directory: Path, other: Path) -> Merged:
    """Bring the runs of the study in ``other`` into that in ``directory``.

    Raises
    ------
    UsageError
        When the other study asks something else, or is the same directory.
    FerocalError
        When a ledger cannot be read or written, or the study is being measured.
    """
    if directory.resolve() == other.resolve():
        raise UsageError(f"{other} is this study itself")
    study, copy = load_study(directory), load_study(other)
    _check_same(study, copy)
    with (
        study_lock(study.directory),
        read_ledger(copy.directory) as source,
        open_ledger(study.directory, create=True, mask=study.mask) as target,
    ):
        return merge_ledgers(target, source)


def _check_same(study: Study, copy: Study) -> None:
    """How much is measured may differ between copies; what is measured may not."""
    mine, theirs = study.file, copy.file
    parts = {
        "study.question": (mine.study.question, theirs.study.question),
        "the names of benches": (study.benches, copy.benches),
        "factor": (mine.factor, theirs.factor),
        "configuration": (mine.configuration, theirs.configuration),
        "workload": (mine.workload, theirs.workload),
    }
    different = [name for name, (here, there) in parts.items() if here != there]
    if different:
        raise UsageError(
            f"{copy.directory} is another study: {', '.join(different)} differ; nothing was merged"
        )
