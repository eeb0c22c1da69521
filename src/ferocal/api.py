"""The public face: a study and its ledger, opened for reading."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.answers.comparison import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.selection import Selection
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.ledger.opening import open_ledger
from ferocal.study.load import Study, load_study

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.claims import ClaimsAnswer
    from ferocal.answers.factors import FactorsAnswer
    from ferocal.ledger.reading.runs import RunRow


class OpenedStudy:
    """A study in a directory, opened for reading; made by `ferocal.open`.

    Every method reads the ledger anew, so that what is measured meanwhile is seen.
    Methods raise `LedgerError` when the ledger is missing or cannot be read.
    """

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self.study: Study = load_study(directory)

    def evidence(self) -> Evidence:
        """The contents of the ledger, as columns for the analysis."""
        with open_ledger(self.directory) as ledger:
            return gather(self.study, ledger)

    def compare(
        self, *, against: str | None = None, selection: Selection | None = None
    ) -> Comparison:
        """Effects with what they were judged by; ``against`` names another baseline.

        Raises
        ------
        UsageError
            When a name is not known; the message has the closest one.
        """
        # Names are checked before anything is read.
        selection = (selection or Selection()).resolve(self.study)
        return compare(self.study, self.evidence(), against=against, selection=selection)

    def effects(
        self,
        *,
        against: str | None = None,
        configurations: tuple[str, ...] = (),
        workloads: tuple[str, ...] = (),
        metrics: tuple[str, ...] = (),
        benches: tuple[str, ...] = (),
    ) -> tuple[Effect, ...]:
        """Every configuration against the baseline: change, interval, verdict, caveats.

        Parameters
        ----------
        against
            The configuration to compare with, by default the study's baseline.
        configurations, workloads, metrics, benches
            Names to which the effects are limited; all if empty. They are judged in the
            same way as without limits.

        Raises
        ------
        UsageError
            When a name is not known; the message has the closest one.
        """
        selection = Selection(configurations, workloads, metrics, benches)
        return self.compare(against=against, selection=selection).effects

    def table(self, selection: Selection | None = None) -> ReadingsTable:
        """Centre, spread and counts, by bench, series (rows) and configuration (columns).

        Raises
        ------
        UsageError
            When a name is not known; the message has the closest one.
        """
        return make_table(self.study, self.evidence(), selection)

    def factors(
        self,
        *,
        start: str | None = None,
        end: str | None = None,
        selection: Selection | None = None,
        parts: bool = True,
    ) -> FactorsAnswer:
        """What every level of every factor does; the change from ``start`` to ``end`` divided.

        Without ``parts`` it is not told which workload carries the index, which is faster.

        Raises
        ------
        UsageError
            When a name is not known, or nothing was measured.
        """
        from ferocal.answers.factors import attribute

        selection = (selection or Selection()).resolve(self.study)
        evidence = self.evidence()
        return attribute(
            self.study, evidence, start=start, end=end, selection=selection, parts=parts
        )

    def claims(self) -> ClaimsAnswer:
        """What the readings say of the claims of the study file.

        Claims that are new or changed are not kept by this; `ferocal claims` does that.
        """
        from ferocal.answers.claims import examine
        from ferocal.ledger.reading.claims import read_claims

        with open_ledger(self.directory) as ledger:
            return examine(self.study, gather(self.study, ledger), read_claims(ledger))

    def runs(self) -> list[RunRow]:
        """Every run with its readings in the order of time, those that do not count too."""
        from ferocal.ledger.reading.runs import read_runs

        with open_ledger(self.directory) as ledger:
            return read_runs(ledger)

    def readings(self) -> pd.DataFrame:
        """All readings, one per row, in the order of time; warm-ups have none.

        Returns
        -------
        pandas.DataFrame
            Columns ``run`` and ``visit`` (ids), ``started_at`` (UTC, NaT if unknown), ``bench``,
            ``configuration``, a column ``factor:NAME`` with the level of each factor,
            ``round``, ``workload``, ``number`` (of the run in its visit), ``outcome``,
            ``excluded`` (the reason, or missing), ``metric``, ``unit``, ``value``,
            ``low`` and ``high`` (the ends of a range), and ``bound`` (">" or "<" where the true
            value is above or below).
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
                "unit": reading.unit,
                "value": reading.value,
                "low": reading.low,
                "high": reading.high,
                "bound": reading.bound,
            }
            for run in self.runs()
            for metric, reading in run.values.items()
        ]
        frame = pd.DataFrame(rows)
        if rows:
            frame["started_at"] = pd.to_datetime(frame["started_at"].replace("", None), utc=True)
        return frame
