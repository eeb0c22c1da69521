"""Loading files and typed readings into a study."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.columns import Labels
from ferocal.intake.readings import Intake, check_readings
from ferocal.intake.record import make_batch, record
from ferocal.intake.shapes import is_text, parse_columns, to_long
from ferocal.intake.tables import digest_of, read_table
from ferocal.ledger.batch import find_load
from ferocal.ledger.opening import LEDGER_FILE, open_ledger

if TYPE_CHECKING:
    from ferocal.study.load import Study


@dataclass(frozen=True)
class Loaded:
    """What a file holds for a study, and how much of it was recorded.

    ``twins`` counts readings that are the same as another in all that is told of them.
    """

    path: Path
    intake: Intake
    counts: dict[str, int]

    @property
    def twins(self) -> int:
        """Readings without a named run that repeat another one."""
        import pandas as pd

        unnamed = ~self.intake.run.given
        if not unnamed.any():
            return 0
        own = {
            name: column.codes if isinstance(column, Labels) else column
            for name, column in vars(self.intake).items()
            if name != "samples"
        }
        return int(np.sum(pd.DataFrame(own).duplicated().to_numpy() & unnamed))


def read_intake(study: Study, path: Path, columns: Sequence[str] = ()) -> Intake:
    """The readings of a file, checked against the study.

    Raises
    ------
    IntakeError
        When the file or a row of it is wrong.
    """
    named = parse_columns(columns)
    table = read_table(path, lambda name: is_text(name, named, study))
    readings = to_long(table, named, study)
    if not len(readings):
        raise IntakeError(f"{path}: holds no readings")
    return check_readings(readings, study, table)


def load_files(
    study: Study,
    paths: Sequence[Path],
    *,
    columns: Sequence[str] = (),
    preview: bool = False,
    again: bool = False,
) -> list[Loaded]:
    """Load files, all or nothing; with ``preview`` nothing is recorded.

    Raises
    ------
    IntakeError
        When a file or a row is wrong, or a file was loaded before and not asked for again.
    LedgerError
        When the ledger cannot be written.
    """
    digests = [digest_of(path) for path in paths]
    if len(set(digests)) < len(digests):
        raise IntakeError("the same file is named twice")
    if not again:
        refuse_known(study, paths, digests)
    read = [(path, read_intake(study, path, columns)) for path in paths]
    batches = [make_batch(intake, study) for _, intake in read]
    if preview:
        return [Loaded(path, i, b.counts) for (path, i), b in zip(read, batches, strict=True)]
    loaded = []
    with open_ledger(study.directory, create=True) as ledger, ledger.together():
        for (path, intake), batch, digest in zip(read, batches, digests, strict=True):
            counts = record(ledger, batch, kind="load", source=str(path), digest=digest)
            loaded.append(Loaded(path, intake, counts))
    return loaded


def refuse_known(study: Study, paths: Sequence[Path], digests: Sequence[str]) -> None:
    """Refuse files that were loaded before.

    Raises
    ------
    IntakeError
        When one was; when and from where is told.
    """
    if not (study.directory / LEDGER_FILE).exists():
        return
    with open_ledger(study.directory) as ledger:
        for path, digest in zip(paths, digests, strict=True):
            known = find_load(ledger, digest)
            if known is not None:
                raise IntakeError(
                    f"{path}: was loaded already on {known[0][:10]} ({known[1]}); nothing was "
                    "recorded; --again loads it once more"
                )


@dataclass(frozen=True)
class Place:
    """Where readings that are typed in one line belong; None where unknown."""

    configuration: str
    workload: str
    metric: str
    round: int | None = None
    visit: str | None = None
    started_at: str = ""
    version: str | None = None


def find_place(study: Study, place: Place) -> tuple[int, int]:
    """The places of a metric and of a configuration in the study.

    Raises
    ------
    UsageError
        When a name is not known, or the metric has to be named.
    """
    from ferocal.study.configurations import closest

    study.configuration(place.configuration)
    study.workload(place.workload)
    names = [c.name for c in study.configurations]
    own = [(n, name) for n, (w, name, _) in enumerate(study.metrics()) if w == place.workload]
    wanted = [n for n, name in own if name == place.metric or (not place.metric and len(own) == 1)]
    if not wanted:
        known = [name for _, name in own]
        if not place.metric:
            raise UsageError(f"{place.workload} has {len(own)} metrics; name one with --metric")
        raise UsageError(
            f'{place.workload} has no metric "{place.metric}"; {closest(place.metric, known)}'
        )
    return wanted[0], names.index(place.configuration)


def intake_at(
    place: Place, series_of: np.ndarray, configuration: int, **columns: np.ndarray | Labels
) -> Intake:
    """Readings of one place; what is not among ``columns`` is unknown."""
    n = len(series_of)
    nothing = np.full(n, np.nan)
    known: dict[str, Any] = {
        "low": nothing,
        "high": nothing,
        "samples": nothing,
        "resolution": nothing,
        "round": np.full(n, -1 if place.round is None else place.round),
        "visit": Labels.same(place.visit or "", n),
        "run": Labels.same("", n),
        "started_at": Labels.same(place.started_at, n),
        "excluded": Labels.same("", n),
        **columns,
    }
    return Intake(series_of, np.full(n, configuration), **known)


def enter_values(study: Study, place: Place, texts: Sequence[str]) -> dict[str, int]:
    """Record readings typed in one line; several are several runs of one visit.

    Raises
    ------
    UsageError
        When a name is not known or a value not understood; nothing is recorded then.
    LedgerError
        When the ledger cannot be written.
    """
    from ferocal.intake.typed import TypedError, parse_typed

    series, configuration = find_place(study, place)
    metric = study.metrics()[series][2]
    try:
        read = [parse_typed(t, metric.unit, plausible=metric.plausible) for t in texts]
    except TypedError as error:
        raise UsageError(f"{error}; nothing was recorded") from None
    intake = intake_at(
        place,
        np.full(len(read), series),
        configuration,
        value=np.array([r.value for r in read]),
        low=np.array([np.nan if r.low is None else r.low for r in read]),
        high=np.array([np.nan if r.high is None else r.high for r in read]),
        resolution=np.full(len(read), np.nan if metric.step is None else metric.step),
    )
    batch = make_batch(intake, study)
    if place.version is not None:
        batch = replace(batch, subjects={place.workload: version_subject(place.version)})
    with open_ledger(study.directory, create=True) as ledger:
        return record(ledger, batch, kind="enter", source="typed")


def version_subject(version: str) -> dict[str, object]:
    """What is known of a workload of which only the version is stated."""
    return {"arguments": [], "version": version, "files": {}, "statistics": {}}
