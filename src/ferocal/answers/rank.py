"""Ranking: who is first by a metric or by all together, how surely, and what that depends on."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.data.index import (
    WhyNot,
    deciding_places,
    index_scales,
    why_not_in_index,
)
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Series
from ferocal.analysis.rank.lineup import Contestant
from ferocal.analysis.rank.sensitivity import find_tippings, orders_without, turned_means
from ferocal.analysis.rank.standings import (
    Contest,
    Ranking,
    Standing,
    rank_all,
    value_contestants,
)
from ferocal.analysis.rank.tally import Reversal, Tally, count_tallies, find_reversals
from ferocal.answers.answer import Answer, basis_of
from ferocal.answers.circumstances import MixedStatistic, find_mixed_statistics
from ferocal.answers.compare import doubts_of, find_barred, setting_of
from ferocal.answers.composite import Composite, Composites, sign_of_cost
from ferocal.answers.evidence import Evidence
from ferocal.answers.per import Per, differing_quantities, find_per, offset_of, per_unit
from ferocal.answers.selection import Selection
from ferocal.errors import NothingToShowError, UsageError
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest

Names = tuple[str, ...]


@dataclass(frozen=True)
class TippingPoint:
    """Who leads once a part of the composite weighs more, or less, than a share of all."""

    part: str
    now: float
    share: float
    above: bool
    leader: str


@dataclass(frozen=True)
class Field:
    """The rankings of those who compete: configurations on a bench, or benches.

    ``place`` names the bench, or the configuration where benches compete. ``composite`` is the
    ranking by all metrics together, None where there are too few; ``per_resource`` has the main
    ranking again per every quantity that differs, ``amounts`` these by contestant. ``without``
    says who leads without each part of the composite, where that is another. ``left_out`` are
    metrics that cannot enter the composite, each with the reason, ``absent`` those that were
    not read with enough contestants, ``barred`` what is not comparable, with the reason.
    ``decisive`` is the place of the ranking that decides without a composite.
    """

    place: str
    composite: Ranking | None
    rankings: tuple[Ranking, ...]
    weights: Mapping[str, float]
    lead_changes: tuple[TippingPoint, ...]
    without: tuple[tuple[str, str], ...]
    reversals: tuple[Reversal, ...]
    tallies: tuple[Tally, ...]
    per_resource: Mapping[str, Ranking]
    amounts: Mapping[str, Mapping[str, float]]
    left_out: tuple[tuple[Series, WhyNot], ...]
    absent: tuple[Series, ...]
    decisive: int = 0
    barred: tuple[tuple[str, Caveat], ...] = ()

    @property
    def main(self) -> Ranking:
        """The ranking that decides: the composite, else the only metric that can be in one."""
        return self.composite or self.rankings[self.decisive]


@dataclass(frozen=True)
class RankAnswer(Answer):
    """Rankings of all fields. ``across`` is "configurations" or "benches".

    ``preferences`` are the names of weights that the study file has.

    ``per`` is the quantity or metric by which values are divided, ``unit`` that of a quantity.
    """

    across: str
    preference: str | None
    preferences: Names
    per: str | None
    per_unit: str | None
    fields: tuple[Field, ...]
    mixed: tuple[MixedStatistic, ...] = ()


def rank(
    study: Study,
    evidence: Evidence,
    *,
    preference: str | None = None,
    per: str | None = None,
    across: str = "configurations",
    selection: Selection | None = None,
) -> RankAnswer:
    """Rank the configurations on every bench, or the benches under every configuration.

    Raises
    ------
    UsageError
        When a name is unknown, a quantity is not declared everywhere, or fewer than two of
        those that compete were measured.
    """
    selection = (selection or Selection()).resolve(study)
    if preference is not None and preference not in study.file.preference:
        known = list(study.file.preference)
        hint = closest(preference, known) if known else "write [preference.NAME] weights = { … }"
        raise UsageError(f'no preference "{preference}" in this study; {hint}')
    maker = _Maker(study, evidence, preference, per, across, selection)
    fields = [field for field in maker.fields() if field is not None]
    if not fields:
        raise NothingToShowError(f"fewer than two {across} were measured, so nothing to rank")
    ranked = maker.originals({r.series for f in fields for r in f.rankings})
    standings = [s for f in fields for r in f.rankings for s in r.standings]
    names, benches = {s.configuration for s in standings}, {s.bench for s in standings}
    return RankAnswer(
        **basis_of(study, evidence, doubts_of(study, evidence, ranked, benches, names)),
        across=across,
        preference=preference,
        preferences=tuple(study.file.preference),
        per=per,
        per_unit=None if maker.quantity is None else maker.quantity.unit,
        fields=tuple(fields),
        mixed=find_mixed_statistics(evidence.contexts),
    )


class _Maker:
    """What all fields are made of: the readings with an index, and what values are divided by."""

    def __init__(
        self,
        study: Study,
        evidence: Evidence,
        preference: str | None,
        per: str | None,
        across: str,
        selection: Selection,
    ) -> None:
        self.study, self.evidence, self.across = study, evidence, across
        self.selection, self.preference = selection, preference
        setting = setting_of(study, evidence, study.baseline)
        # Benches are compared under one configuration, of which there is nothing to bar.
        self.barred = (
            find_barred(study, evidence, study.baseline, setting) if across != "benches" else {}
        )
        self.readings = evidence.readings
        self._chosen: dict[frozenset[int], Readings] = {}
        self.per_metric = None if per is None else _metric_named(self.readings, study, per)
        self.composites = Composites(study, self.readings, setting, preference, self.per_metric)
        self.quantity: Per | None = None
        if per is not None and self.per_metric is None:
            cells = [c for field in self._cells() for c in field]
            if not cells:
                raise NothingToShowError(f"fewer than two {across} were measured")
            self.quantity = find_per(study, per, self._names(cells))

    def _cells(self) -> list[list[tuple[int, int]]]:
        """Bench and configuration of those who compete, field by field, of what was read."""
        readings = self.readings
        names = readings.configurations
        read = sorted(
            {(int(b), int(c)) for b, c in np.unique(np.stack([readings.bench_of,
             readings.configuration_of]), axis=1).T}
        )  # fmt: skip
        wanted = [
            (b, c)
            for b, c in read
            if names[c] != CONTROL and self.selection.includes(readings.benches[b], names[c])
        ]
        key = 1 if self.across == "benches" else 0
        fields: dict[int, list[tuple[int, int]]] = {}
        for cell in wanted:
            fields.setdefault(cell[key], []).append(cell)
        return [cells for cells in fields.values() if len(cells) > 1]

    def _names(self, cells: Sequence[tuple[int, int]]) -> list[tuple[str, str]]:
        readings = self.readings
        return [(readings.benches[b], readings.configurations[c]) for b, c in cells]

    def fields(self) -> list[Field | None]:
        """The rankings of all fields."""
        return [self._field(cells) for cells in self._cells()]

    def originals(self, ranked: Collection[Series]) -> list[Series]:
        """The metrics as they were read of those that are ranked, perhaps per something."""
        names = {(s.workload, s.metric) for s in ranked}
        return [s for s in self.readings.series if (s.workload, s.metric) in names]

    def _metrics(self) -> list[int]:
        """The metrics that are ranked by: those named, else those that decide."""
        series = self.readings.series
        if self.selection.places is not None:
            named = [n for n, s in enumerate(series) if (s.workload, s.metric)
                     in self.selection.places and s.better != "none"]  # fmt: skip
            if not named:
                raise UsageError("none of these metrics has a direction that counts as better")
            return named
        metrics = deciding_places(series, np.unique(self.readings.series_of).tolist())
        if not metrics:
            raise NothingToShowError(
                "no metric of role primary or secondary: name one with --metric"
            )
        return metrics

    def _field(self, cells: Sequence[tuple[int, int]]) -> Field | None:
        metrics, here = self._metrics(), self._only(cells)
        reasons = why_not_in_index(here, metrics)
        barred = {n: self._barred(n, cells) for n in metrics}
        reasons |= {n: WhyNot.NOT_COMPARABLE for n in metrics if barred[n] and n not in reasons}
        members = [n for n in metrics if n not in reasons]
        whole = self.composites.make(members, reasons)
        contests = {
            n: self._contest_of(n, [c for c in cells if c not in barred[n]]) for n in metrics
        }
        ranked = self._rank_all({n: c for n, c in contests.items() if c is not None})
        composite = None if whole is None else self._rank_whole(whole, cells, self.quantity)
        if composite is None and not ranked:
            return None
        changes, without = self._depends(here, whole, composite, cells)
        # The only metric that can be in a composite decides alone.
        alone = next((n for n in ranked if n not in reasons), next(iter(ranked), metrics[0]))
        resources = self._resources(cells)
        per = {
            r.name: self._rank(*self._contest(self.readings, alone, cells, r))
            if whole is None
            else self._rank_whole(whole, cells, r)
            for r in resources
        }
        counted = [r for n, r in ranked.items() if self.preference is None or n not in reasons]
        return Field(
            place=self._place(cells[0]),
            composite=composite,
            rankings=tuple(ranked.values()),
            weights={} if whole is None else whole.shares,
            lead_changes=changes,
            without=without,
            reversals=tuple(find_reversals(counted, self.across)),
            tallies=tuple(count_tallies(counted, self.across)),
            per_resource={name: ranking for name, ranking in per.items() if ranking is not None},
            amounts={r.name: self._amounts(r, cells) for r in resources},
            left_out=tuple((here.series[n], why) for n, why in reasons.items()),
            absent=tuple(here.series[n] for n in metrics if n not in ranked),
            decisive=list(ranked).index(alone) if ranked else 0,
            barred=tuple(
                (f"{self._label(cell)} by {here.series[n].title}", reason)
                for n, of_metric in barred.items()
                for cell, reason in of_metric.items()
            ),
        )

    def _rank_whole(
        self, whole: Composite, cells: Sequence[tuple[int, int]], per: Per | None
    ) -> Ranking | None:
        return self._rank(*self._contest(whole.readings, whole.series, cells, per, whole.weights))

    def _amounts(self, resource: Per, cells: Sequence[tuple[int, int]]) -> dict[str, float]:
        """How much of a resource each contestant has."""
        names = self._names(cells)
        return {self._label(c): resource.amounts[n] for c, n in zip(cells, names, strict=True)}

    def _barred(
        self, series: int, cells: Sequence[tuple[int, int]]
    ) -> dict[tuple[int, int], Caveat]:
        """Those that are not comparable by a metric, with the reason."""
        known = self.readings.series[series]
        found = {c: self.barred.get((b, known, n))
                 for c, (b, n) in zip(cells, self._names(cells), strict=True)}  # fmt: skip
        return {cell: reason for cell, reason in found.items() if reason is not None}

    def _depends(
        self,
        here: Readings,
        whole: Composite | None,
        ranking: Ranking | None,
        cells: Sequence[tuple[int, int]],
    ) -> tuple[tuple[TippingPoint, ...], tuple[tuple[str, str], ...]]:
        """At which weights another leads, and who does without each part of the composite."""
        if whole is None or ranking is None:
            return (), ()
        names = [self._label(c) for c in cells]
        offsets = self._offsets(cells, here, list(whole.weights))
        values = turned_means(here, index_scales(here), list(whole.weights), cells, offsets)
        changes = tuple(
            TippingPoint(t.name, t.now, t.share, t.above, names[t.leader])
            for t in find_tippings(values, whole.parts)
        )
        # Of two parts, what is left is the other one, whose own ranking says as much.
        orders = orders_without(values, whole.parts) if len(whole.parts) > 2 else []
        first = ranking.label(0, self.across)
        others = ((w.name, names[w.order[0]]) for w in orders)
        return changes, tuple((name, leader) for name, leader in others if leader != first)

    def _only(self, cells: Sequence[tuple[int, int]]) -> Readings:
        """The readings of those who compete."""
        readings = self.readings
        codes = frozenset(b * len(readings.configurations) + c for b, c in cells)
        if codes not in self._chosen:
            self._chosen[codes] = readings.select(np.isin(readings.cell_of, list(codes)))
        return self._chosen[codes]

    def _rank_all(self, contests: Mapping[int, tuple[Readings, Contest]]) -> dict[int, Ranking]:
        """The rankings by metric; those of the same readings are judged together."""
        by_readings: dict[Readings, dict[int, Contest]] = {}
        for n, (readings, contest) in contests.items():
            by_readings.setdefault(readings, {})[n] = contest
        found: dict[int, Ranking | None] = {}
        for readings, asked in by_readings.items():
            rankings = rank_all(readings, list(asked.values()), self.composites.setting)
            found |= dict(zip(asked, rankings, strict=True))
        return {n: ranking for n in contests if (ranking := found[n]) is not None}

    def _contest_of(
        self, series: int, cells: Sequence[tuple[int, int]]
    ) -> tuple[Readings, Contest] | None:
        """How it is ranked by a metric, perhaps per something; None where it cannot be."""
        readings = self.readings
        ratios = index_scales(self._only(cells))
        if self.per_metric is None or self.per_metric == series:
            if self.quantity is not None and ratios[series] != "ratio":
                return None
            return self._contest(readings, series, cells, self.quantity)
        if ratios[series] != "ratio" or ratios[self.per_metric] != "ratio":
            return None
        s = readings.series[series]
        index = replace(s, unit="1", better="higher")
        extended, place = self.composites.with_index({index: {series: 1.0}})
        return self._contest(extended, place, cells, None, {series: 1.0})

    def _rank(self, readings: Readings, contest: Contest) -> Ranking | None:
        return rank_all(readings, [contest], self.composites.setting)[0]

    def _contest(
        self,
        readings: Readings,
        series: int,
        cells: Sequence[tuple[int, int]],
        per: Per | None,
        weights: Mapping[int, float] | None = None,
    ) -> tuple[Readings, Contest]:
        """What is ranked; an index, with the ``weights`` of its metrics, against the baseline."""
        relative = weights is not None
        weights = weights or {}
        better = readings.series[series].better
        names, factor, share = self._names(cells), 1.0, 1.0
        if per is not None and relative:
            share = sum(w for n, w in weights.items() if per.name not in readings.series[n].per)
        elif per is not None and per.name in readings.series[series].per:
            per = None  # it is per that already
        if per is not None:
            unit, factor = per_unit(readings.series[series].unit, better, per)
            changed = list(readings.series)
            # Over something else, an amount in the unit is no margin any more.
            changed[series] = replace(changed[series], unit=unit, unit_margin=None)
            if not relative:
                readings = replace(readings, series=tuple(changed))
        scale = 0.0 if relative else math.log(factor)
        offsets = [
            0.0 if per is None else scale + offset_of(per, name, better, share) for name in names
        ]
        contestants = [Contestant(*c, o) for c, o in zip(cells, offsets, strict=True)]
        return readings, Contest(series, contestants, self._base(cells) if relative else None)

    def _base(self, cells: Sequence[tuple[int, int]]) -> int:
        """Who composite values are relative to: the baseline, or the first bench."""
        names = self.readings.configurations
        if self.across == "benches":
            return 0
        places = [n for n, (_, c) in enumerate(cells) if names[c] == self.study.baseline]
        return places[0] if places else 0

    def _offsets(
        self, cells: Sequence[tuple[int, int]], readings: Readings, series: Sequence[int]
    ) -> np.ndarray:
        """What the quantity, or the metric, takes from each contestant and metric, (k, m)."""
        shape = len(cells), len(series)
        if self.quantity is not None:
            of_cell = [offset_of(self.quantity, name, "higher") for name in self._names(cells)]
            fresh = [self.quantity.name not in readings.series[n].per for n in series]
            return np.outer(of_cell, fresh)
        if self.per_metric is None:
            return np.zeros(shape)
        scales = index_scales(readings)
        mean = turned_means(readings, scales, [self.per_metric], cells, np.zeros((len(cells), 1)))
        column = sign_of_cost(readings.series[self.per_metric]) * mean
        return np.broadcast_to(column, shape)

    def _resources(self, cells: Sequence[tuple[int, int]]) -> list[Per]:
        if self.quantity is not None or self.per_metric is not None:
            return []
        return differing_quantities(self.study, self._names(cells))

    def _place(self, cell: tuple[int, int]) -> str:
        names = (self.readings.benches[cell[0]], self.readings.configurations[cell[1]])
        return names[1] if self.across == "benches" else names[0]

    def _label(self, cell: tuple[int, int]) -> str:
        names = (self.readings.benches[cell[0]], self.readings.configurations[cell[1]])
        return names[0] if self.across == "benches" else names[1]


def rank_values(study: Study, evidence: Evidence, series: Series) -> tuple[Standing, ...]:
    """Values with intervals of every configuration on every bench, by one metric."""
    setting = setting_of(study, evidence, study.baseline)
    readings = evidence.readings
    place = readings.series.index(series)
    own = readings.select(readings.series_of == place)
    cells = np.unique(np.stack([own.bench_of, own.configuration_of]), axis=1).T.tolist()
    names = readings.configurations
    contestants = [Contestant(b, c) for b, c in cells if names[c] != CONTROL]
    return value_contestants(readings, place, contestants, setting)


def _metric_named(readings: Readings, study: Study, name: str) -> int | None:
    """The metric that is meant by a name, None where there is none of it."""
    found = [
        n
        for n, s in enumerate(readings.series)
        if name in (s.metric, s.title, f"{s.workload} {s.metric}")
    ]
    if len(found) > 1:
        titles = ", ".join(f'"{readings.series[n].title}"' for n in found)
        raise UsageError(f'"{name}" may be any of {titles}: name workload and metric')
    return found[0] if found else None
