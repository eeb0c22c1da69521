"""The public face: a study and its ledger, opened for reading."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.answers.compare import Comparison, compare
from ferocal.answers.evidence import Evidence, gather
from ferocal.answers.selection import Selection
from ferocal.answers.table import ReadingsTable, make_table
from ferocal.api.results import Result
from ferocal.errors import UsageError
from ferocal.ledger.opening import read_ledger
from ferocal.study.load import Study, load_study

if TYPE_CHECKING:
    import pandas as pd

    from ferocal.analysis.factors.results import FactorEffect
    from ferocal.analysis.inference.effects import Effect
    from ferocal.analysis.rank.standings import Standing
    from ferocal.analysis.series.shifts import SeriesShift
    from ferocal.answers.across import AcrossAnswer
    from ferocal.answers.chart import RatioChart
    from ferocal.answers.claims import ClaimFinding, ClaimsAnswer
    from ferocal.answers.factors import FactorsAnswer
    from ferocal.answers.rank import RankAnswer
    from ferocal.answers.references import ReferenceAnswer
    from ferocal.answers.series import SeriesAnswer
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
        with read_ledger(self.directory) as ledger:
            return gather(self.study, ledger)

    def compare(
        self, *, against: str | None = None, selection: Selection | None = None
    ) -> Comparison:
        """Effects with what they were judged by; ``against`` names another baseline.

        Raises
        ------
        UsageError
            When a name is unknown; the message has the closest one.
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
    ) -> Result[Comparison, Effect]:
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
            When a name is unknown; the message has the closest one.
        """
        from ferocal.answers.charts import effect_rows
        from ferocal.documents.compare import comparison_document
        from ferocal.documents.frames import effects_frame

        selection = Selection(configurations, workloads, metrics, benches)
        found = self.compare(against=against, selection=selection)
        return Result(
            found, found.effects, effects_frame, comparison_document, "effects", effect_rows
        )

    def table(self, selection: Selection | None = None) -> ReadingsTable:
        """Centre, spread and counts, by bench, series (rows) and configuration (columns).

        Raises
        ------
        UsageError
            When a name is unknown; the message has the closest one.
        """
        return make_table(self.study, self.evidence(), selection)

    def factors(
        self,
        *,
        start: str | None = None,
        end: str | None = None,
        selection: Selection | None = None,
        parts: bool = True,
    ) -> Result[FactorsAnswer, FactorEffect]:
        """What every level of every factor does; the change from ``start`` to ``end`` divided.

        Without ``parts`` it is not told which workload carries the index, which is faster.

        Raises
        ------
        UsageError
            When a name is unknown, or nothing was measured.
        """
        from ferocal.answers.charts import factor_rows
        from ferocal.answers.factors import attribute
        from ferocal.documents.factors import factors_document
        from ferocal.documents.frames import factors_frame

        selection = (selection or Selection()).resolve(self.study)
        evidence = self.evidence()
        found = attribute(
            self.study, evidence, start=start, end=end, selection=selection, parts=parts
        )
        effects = [effect for bench in found.benches for effect in bench.effects]
        return Result(found, effects, factors_frame, factors_document, "factors", factor_rows)

    def series(
        self,
        factor: str | None = None,
        *,
        at: tuple[str, ...] = (),
        selection: Selection | None = None,
        gate: bool = False,
    ) -> Result[SeriesAnswer, SeriesShift]:
        """Where the releases of a factor changed the scores, with all of them compared.

        Without a ``factor`` it is the one that has an order. The result has the steps as items.

        ``at`` names levels of the other factors ("driver=r64"), by default those of the baseline.
        For a ``gate`` the newest release is compared with the level before it.

        Raises
        ------
        UsageError
            When a name is unknown, the factor has no order, or nothing was measured.
        """
        from ferocal.answers.release_line import find_release_line
        from ferocal.answers.series import follow
        from ferocal.documents.frames import series_frame
        from ferocal.documents.series import series_document

        factor = factor or self.study.ordered_factor
        if factor is None:
            raise UsageError("no factor of this study has an `order`: name one")
        selection = (selection or Selection()).resolve(self.study)
        find_release_line(self.study, factor, at)  # before anything is read
        found = follow(self.study, self.evidence(), factor, at=at, selection=selection, gate=gate)
        return Result(
            found, found.steps, series_frame, series_document, "series", lambda answer: [answer]
        )

    def ranking(
        self,
        *,
        preference: str | None = None,
        per: str | None = None,
        across: str = "configurations",
        selection: Selection | None = None,
    ) -> Result[RankAnswer, Standing]:
        """Who is first by all metrics together and by each, and what that depends on.

        ``preference`` names weights of the study file, ``per`` a declared quantity or a metric by
        which values are divided; with ``across`` "benches" these compete, not configurations.

        Raises
        ------
        UsageError
            When a name is unknown, a quantity is not declared everywhere, or too few of those
            that compete were measured.
        """
        from ferocal.answers.charts import ranked_rows
        from ferocal.answers.rank import rank
        from ferocal.documents.frames import ranking_frame
        from ferocal.documents.rank import ranking_document

        selection = (selection or Selection()).resolve(self.study)
        found = rank(
            self.study,
            self.evidence(),
            preference=preference,
            per=per,
            across=across,
            selection=selection,
        )
        standings = [s for field in found.fields for s in field.main.standings]
        return Result(found, standings, ranking_frame, ranking_document, "ranking", ranked_rows)

    def across(self, selection: Selection | None = None) -> AcrossAnswer:
        """Benches against the first one, under every configuration that both were measured with.

        Raises
        ------
        UsageError
            When a name is unknown, or fewer than two benches were measured.
        """
        from ferocal.answers.across import compare_across

        selection = (selection or Selection()).resolve(self.study)
        return compare_across(self.study, self.evidence(), selection)

    def references(
        self, *, selection: Selection | None = None, search: str = ""
    ) -> ReferenceAnswer:
        """Our results among those from elsewhere, with the ranks that they may have.

        ``search`` limits the references that are listed by device, source or date.

        Raises
        ------
        UsageError
            When a name is unknown, or there are no references.
        """
        from ferocal.answers.references import stand_among
        from ferocal.ledger.reading.additions import read_references

        with read_ledger(self.directory) as ledger:
            evidence, known = gather(self.study, ledger), read_references(ledger)
        return stand_among(self.study, evidence, known, selection=selection, search=search)

    def charts(
        self, *, against: str | None = None, selection: Selection | None = None
    ) -> tuple[RatioChart, ...]:
        """All metrics that decide under all configurations, a chart for every bench.

        Raises
        ------
        UsageError
            When a name is unknown, or nothing was measured that has ratios.
        """
        from ferocal.answers.chart import make_charts
        from ferocal.ledger.reading.additions import read_references

        with read_ledger(self.directory) as ledger:
            evidence, known = gather(self.study, ledger), read_references(ledger)
        return make_charts(self.study, evidence, known, against=against, selection=selection)

    def claims(self) -> Result[ClaimsAnswer, ClaimFinding]:
        """What the readings say of the claims of the study file.

        Claims that are new or changed are not kept by this; `ferocal claims` does that.
        """
        from ferocal.answers.claims import examine
        from ferocal.documents.claims import claims_document
        from ferocal.documents.frames import claims_frame
        from ferocal.ledger.reading.additions import read_claims

        with read_ledger(self.directory) as ledger:
            found = examine(self.study, gather(self.study, ledger), read_claims(ledger))
        return Result(
            found, found.findings, claims_frame, claims_document, "claims", lambda answer: [answer]
        )

    def runs(self) -> list[RunRow]:
        """Every run with its readings in the order of time, those that do not count too."""
        from ferocal.ledger.reading.runs import read_runs

        with read_ledger(self.directory) as ledger:
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
