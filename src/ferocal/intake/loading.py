"""Loading files into a study."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ferocal.errors import IntakeError
from ferocal.intake.columns import Labels
from ferocal.intake.exported import Exported, read_exported
from ferocal.intake.formats import digest_of
from ferocal.intake.magnitudes import OddReading, find_odd
from ferocal.intake.ratios import WrongRatio, find_wrong_ratios
from ferocal.intake.readings import Intake, check_readings
from ferocal.intake.record import TracesOfRuns, make_batch, record, refuse_known
from ferocal.intake.repeated import find_repeated
from ferocal.intake.shapes import with_configuration
from ferocal.intake.tables.entry import read_readings
from ferocal.intake.tables.options import TableOptions
from ferocal.intake.tables.reading import TableReading
from ferocal.intake.trace_loading import runs_of, summarise_runs
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.runs import known_run_uids
from ferocal.ledger.store import Ledger
from ferocal.ledger.writing.batch import Batch
from ferocal.ledger.writing.opening import open_ledger
from ferocal.study.levels import changed_study
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import is_date, zone_is_assumed
from ferocal.terms.wording import be, counted

if TYPE_CHECKING:
    from ferocal.study.load import Study


@dataclass(frozen=True)
class Loaded:
    """What a file holds for a study, and how much of it was recorded.

    ``repeated`` counts rows that were in the ledger already and were left out, ``unused`` names
    the columns that nothing was read from; ``twins`` counts readings that are the same as
    another in everything that is stated of them; ``odd`` ones are of another order of magnitude.
    ``ratios`` contradict their parts; ``reading`` is how the table was understood, None for one of
    a program.
    """

    path: Path
    intake: Intake
    counts: dict[str, int]
    repeated: int = 0
    unused: tuple[str, ...] = ()
    reading: TableReading | None = None
    odd: tuple[OddReading, ...] = ()
    ratios: tuple[WrongRatio, ...] = ()

    @property
    def assumed_zones(self) -> int:
        """Readings whose times have a clock time and no zone."""
        times = self.intake.started_at
        return int(np.sum(times.map(lambda text: zone_is_assumed(text) and not is_date(text))))

    @property
    def twins(self) -> int:
        """Readings without a named run that repeat another one."""
        import pandas as pd

        unnamed = ~self.intake.run.given
        if not unnamed.any():
            return 0
        columns = {
            name: column.codes if isinstance(column, Labels) else column
            for name, column in vars(self.intake).items()
            if name != "samples"
        }
        return int(np.sum(pd.DataFrame(columns).duplicated().to_numpy() & unnamed))


@dataclass(frozen=True)
class Source:
    """The readings of a file, and the digests of all files that go with it.

    ``repeated`` rows are not among them, for the ledger has them; nothing was read from
    ``unused`` columns.
    """

    path: Path
    intake: Intake
    digests: list[str]
    repeated: int = 0
    unused: tuple[str, ...] = ()
    reading: TableReading | None = None


def read_source(
    study: Study,
    path: Path,
    digest: str,
    options: TableOptions | None = None,
    *,
    begun: bool = False,
) -> Source:
    """The readings of a file, checked against the study.

    Where the study was ``begun`` from the file, it is read as it was then.

    Raises
    ------
    IntakeError
        When the file or a row of it is wrong.
    """
    read = read_readings(path, options or TableOptions(), None if begun else study)
    if not len(read.columns):
        raise IntakeError(f"{path}: no readings")
    readings = with_configuration(read.columns, path, study)
    intake = check_readings(readings, study, read.source)
    return Source(path, intake, [digest], unused=read.unused, reading=read.reading)


def load_files(
    study: Study,
    paths: Sequence[Path],
    *,
    options: TableOptions | None = None,
    preview: bool = False,
    again: bool = False,
    only_new: bool = False,
    operator: str | None = None,
    begun: bool = False,
    changed: bool = False,
) -> list[Loaded]:
    """Load files, all or nothing; with ``preview`` nothing is recorded.

    Rows that the ledger has already are refused, unless they are to be recorded ``again`` as
    further runs, or ``only_new`` ones are to be.

    The study may have been ``begun`` from the files, or ``changed`` for them: then its file is
    written with what is recorded, or stays as it is.

    Exported traces belong to the runs that other files name; without these, what is
    computed of them is recorded with them.

    Raises
    ------
    IntakeError
        When a file or a row is wrong, or was loaded before and not asked for again.
    LedgerError
        When the ledger cannot be written.
    """
    digests = [digest_of(path) for path in paths]
    if len(set(digests)) < len(digests):
        raise IntakeError("the same file is named twice")
    if not (again or only_new):
        refuse_known(study, paths, digests)
    exported = [trace for trace in map(read_exported, paths) if trace is not None]
    others = {trace.path for trace in exported}
    sources = [
        read_source(study, path, digest, options, begun=begun)
        for path, digest in zip(paths, digests, strict=True)
        if path not in others
    ]
    if not again:
        sources = _without_repeated(study, sources, only_new=only_new)
    traces = _add_traces(study, sources, exported, dict(zip(paths, digests, strict=True)))
    batches = [make_batch(source.intake, study, traces, renew=again) for source in sources]
    if sum(len(batch.traces) for batch in batches) < len(exported):
        raise IntakeError(
            "some traces are of other workloads than their runs; nothing was recorded"
        )
    loaded = [
        Loaded(
            s.path,
            s.intake,
            b.counts,
            s.repeated,
            s.unused,
            s.reading,
            ratios=tuple(find_wrong_ratios(study, s.intake)),
        )
        for s, b in zip(sources, batches, strict=True)
    ]
    if preview:
        if (study.directory / LEDGER_FILE).exists():
            with read_ledger(study.directory) as ledger:
                refuse_recorded(ledger, sources, batches)
        return loaded
    _record_all(study, sources, batches, changed=changed, operator=operator)
    batches.clear()  # a million readings are much to keep
    # It was checked when it was opened to be written, and what was added as it was.
    with read_ledger(study.directory, checked=False) as ledger:
        return [replace(part, odd=tuple(find_odd(study, ledger, part.intake))) for part in loaded]


def _record_all(
    study: Study,
    sources: Sequence[Source],
    batches: Sequence[Batch],
    *,
    changed: bool,
    operator: str | None,
) -> None:
    """Record what files hold, with the change of the study file that is for them, or nothing."""
    # Nobody else records between looking for runs that are there and adding to them.
    change = changed_study(study) if changed else nullcontext()
    with (
        open_ledger(study.directory, create=True, mask=study.mask) as ledger,
        change,
        ledger.together(),
    ):
        refuse_recorded(ledger, sources, batches)
        for source, batch in zip(sources, batches, strict=True):
            digest = " ".join(source.digests)
            if not len(source.intake.value):
                continue
            record(
                ledger, study, batch, kind="load", source=str(source.path), digest=digest,
                imported_as=None if source.reading is None else source.reading.kept(),
                operator=operator,
            )  # fmt: skip


def _without_repeated(study: Study, sources: list[Source], *, only_new: bool) -> list[Source]:
    """The sources without the rows that the ledger has already.

    Raises
    ------
    IntakeError
        When there are some and not ``only_new`` rows are wanted.
    """
    if not (study.directory / LEDGER_FILE).exists():
        return sources
    fresh = []
    with read_ledger(study.directory) as ledger:
        for source in sources:
            repeated = find_repeated(study, ledger, source.intake)
            count = int(repeated.sum())
            if count and not only_new:
                new = len(repeated) - count
                raise IntakeError(
                    f"{source.path}: {counted(count, 'row')} {be(count)} already in the ledger, "
                    f"{new} {be(new)} new; nothing was recorded. Use --only-new to import "
                    "the new rows, or --again if every row was truly measured again"
                )
            intake = source.intake.select(~repeated)
            fresh.append(replace(source, intake=intake, repeated=count))
    return fresh


def refuse_recorded(ledger: Ledger, sources: Sequence[Source], batches: Sequence[Batch]) -> None:
    """Refuse runs that are in the ledger or in two files, for they would count twice.

    Raises
    ------
    IntakeError
        When there is one; its file is named.
    """
    seen: set[str] = set()
    for source, batch in zip(sources, batches, strict=True):
        uids = list(filter(None, batch.run_uid))
        known = [uid for uid in uids if uid in seen]
        seen.update(uids)
        known += known_run_uids(ledger, uids)
        if known:
            raise IntakeError(
                f"{source.path}: {counted(len(known), 'run')} already recorded "
                f"({known[0][:8]}, …); nothing was recorded. Load readings and their traces in one "
                "call, or use --again to load them as new runs"
            )


def _add_traces(
    study: Study, sources: list[Source], exported: Sequence[Exported], digests: dict[Path, str]
) -> TracesOfRuns:
    """Traces by run: runs of which no file has the readings become a further source."""
    if not exported:
        return {}
    named = {name for source in sources for name in source.intake.run.used}
    runs = runs_of(study, exported)
    _, traces = summarise_runs(study, [run for run in runs if run.place.run in named])
    new = [run for run in runs if run.place.run not in named]
    if new:
        intake, computed = summarise_runs(study, new)
        traces = {**traces, **computed}
        sources.append(Source(new[0].files[0], intake, []))
    sources[-1].digests.extend(digests[trace.path] for trace in exported)
    return traces
