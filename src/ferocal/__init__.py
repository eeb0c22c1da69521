"""Ferocal: which software configuration changes the scores, and by how much.

For notebooks and scripts::

    import ferocal

    study = ferocal.open("my-study")
    for effect in study.effects():
        print(effect.configuration, effect.series.metric, effect.change, effect.verdict)
    frame = study.readings()  # a pandas data frame, one reading per row
"""

from __future__ import annotations

import os

from ferocal._version import __version__

TYPE_CHECKING = False  # as type checkers know it; the commands of the demo need no typing
if TYPE_CHECKING:
    from ferocal.api import OpenedStudy

__all__ = ["__version__", "open"]


def open(directory: str | os.PathLike[str] = ".") -> OpenedStudy:  # noqa: A001 - as files are
    """Open the study in a directory for reading.

    Raises
    ------
    ferocal.errors.UsageError
        When there is no study in the directory.
    ferocal.errors.StudyFileError
        When its study file has mistakes; all of them are listed.
    """
    from pathlib import Path

    from ferocal.api import OpenedStudy

    return OpenedStudy(Path(directory))
