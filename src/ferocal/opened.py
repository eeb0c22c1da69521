"""The public face: a study and its ledger, opened for reading."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.analysis.readings import Series, TimedReading
from ferocal.comparison import Comparison, Selection, compare
from ferocal.evidence import Evidence, gather, study_series
from ferocal.ledger.opening import open_ledger
from ferocal.study.load import Study, load_study

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.analysis.cells import Cell
    from ferocal.analysis.effects import Effect
    from ferocal.ledger.annotate import RunRow


class OpenedStudy:
    """A study in a directory, opened for reading; made by `ferocal.open`.

    Every method reads the ledger anew, so that what is measured meanwhile is seen.
    Methods raise `LedgerError` when the ledger is missing or cannot be read.
    """

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self.study: Study = load_study(directory)

    def evidence(self) -> Evidence:
        """What the ledger holds, as columns for the analysis."""
        with open_ledger(self.directory) as ledger:
            return gather(self.study, ledger)

    def compare(
        self, *, against: str | None = None, selection: Selection | None = None
    ) -> Comparison:
        """Effects with what they were judged by; ``against`` names another baseline.

        Raises
        ------
        UsageError
            When a configuration, workload or metric is not known; the closest is told.
        """
        selection = selection or Selection()
        selection.check(self.study)
        return selection.apply(compare(self.study, self.evidence(), against=against))

    def effects(
        self,
        *,
        against: str | None = None,
        configurations: tuple[str, ...] = (),
        workloads: tuple[str, ...] = (),
        metrics: tuple[str, ...] = (),
    ) -> tuple[Effect, ...]:
        """Every configuration against the baseline: change, interval, verdict, caveats.

        Parameters
        ----------
        against
            The configuration to compare with, by default the study's baseline.
        configurations, workloads, metrics
            Names to which the effects are limited; all if empty. They are judged in the
            same way as without limits.

        Raises
        ------
        UsageError
            When a name is not known; the closest is told.
        """
        selection = Selection(configurations, workloads, metrics)
        return self.compare(against=against, selection=selection).effects

    def cells(self) -> list[list[Cell | None]]:
        """Centre, spread and counts by series (rows) and configuration (columns)."""
        from ferocal.analysis.cells import tabulate

        return tabulate(self.evidence().readings)

    def runs(self) -> list[RunRow]:
        """Every run with its readings in the order of time, those that do not count too."""
        from ferocal.ledger.annotate import read_runs

        with open_ledger(self.directory) as ledger:
            return read_runs(ledger)

    def timed_readings(self, selection: Selection) -> dict[Series, list[TimedReading]]:
        """The wanted runs of each series in the order of time, with why some do not count."""
        found: dict[Series, list[TimedReading]] = {}
        runs = sorted(self.runs(), key=lambda run: (run.started_at, run.position))
        for series in study_series(self.study):
            for run in runs:
                wanted = selection.wants(run.configuration, series.workload, series.metric)
                if not wanted or run.workload != series.workload or run.warmup:
                    continue
                value, unit = run.values.get(series.metric, (None, series.unit))
                note = run.excuse if unit == series.unit else f"in {unit}"
                place = (run.started_at, run.round, run.configuration)
                found.setdefault(series, []).append(TimedReading(*place, value, note))
        return found

    def readings(self) -> pd.DataFrame:
        """All readings, one per row, in the order of time; warm-ups have none.

        Returns
        -------
        pandas.DataFrame
            Columns ``run`` and ``visit`` (ids), ``started_at`` (UTC), ``bench``,
            ``configuration``, a column ``factor:NAME`` with the level of each factor,
            ``round``, ``workload``, ``number`` (of the run in its visit), ``outcome``,
            ``excluded`` (the reason, or missing), ``metric``, ``unit`` and ``value``.
        """
        import pandas as pd

        levels = {c.name: c.levels for c in self.study.configurations}
        rows = [
            {
                "run": run.id,
                "visit": run.visit,
                "started_at": run.started_at,
                "bench": run.bench,
                "configuration": run.configuration,
                **{f"factor:{f}": v for f, v in levels.get(run.configuration, {}).items()},
                "round": run.round,
                "workload": run.workload,
                "number": run.number,
                "outcome": run.outcome,
                "excluded": run.excluded,
                "metric": metric,
                "unit": unit,
                "value": value,
            }
            for run in self.runs()
            for metric, (value, unit) in run.values.items()
        ]
        frame = pd.DataFrame(rows)
        if rows:
            frame["started_at"] = pd.to_datetime(frame["started_at"], utc=True)
        return frame
