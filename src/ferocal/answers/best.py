"""The best configuration of a metric, and those that are statistically tied with it."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.series import Series
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.rank.lineup import Contestant
from ferocal.analysis.rank.standings import Contest, Ranking, rank_all
from ferocal.answers.compare import find_barred, setting_of
from ferocal.answers.evidence import Evidence
from ferocal.answers.selection import Selection
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class Best:
    """The configuration with the best value, and all that nothing is shown to be better than.

    ``known`` says whether the noise is known: without it nothing is shown, and all are tied.
    """

    leader: str
    tied: tuple[str, ...]
    known: bool


def find_best(
    readings: Readings, setting: Setting, bench: str, series: Series, names: Sequence[str]
) -> Best | None:
    """The best of some configurations on a bench; None where none can be ranked."""
    (found,) = rank_all(readings, [_contest(readings, bench, series, names)], setting)
    return None if found is None else _best_of(found)


def _contest(readings: Readings, bench: str, series: Series, names: Iterable[str]) -> Contest:
    place = readings.benches.index(bench)
    contestants = [Contestant(place, readings.configurations.index(name)) for name in names]
    return Contest(readings.series.index(series), contestants)


def _best_of(found: Ranking) -> Best:
    tied = tuple(s.configuration for s in found.standings if s.rank_best == 1)
    first = found.standings[0]
    return Best(first.configuration, tied, not math.isnan(first.chance))


def find_all_best(
    study: Study, evidence: Evidence, selection: Selection
) -> dict[tuple[str, Series], Best]:
    """The best of every wanted metric on every bench, by these.

    All configurations take part, wanted or not, but those that are not comparable.
    """
    setting = setting_of(study, evidence, study.baseline)
    barred = find_barred(study, evidence, study.baseline, setting)
    readings = evidence.readings
    names = [c.name for c in study.configurations if c.name != CONTROL]
    pairs = {
        (readings.benches[b], readings.series[s])
        for b, s in zip(readings.bench_of.tolist(), readings.series_of.tolist(), strict=True)
    }
    contests = {
        (bench, series): _contest(
            readings, bench, series, (n for n in names if (bench, series, n) not in barred)
        )
        for bench, series in pairs
        if series.better != "none"
        and any(selection.wants(bench, n, series.workload, series.metric) for n in names)
    }
    rankings = rank_all(readings, list(contests.values()), setting)
    return {
        key: _best_of(found)
        for key, found in zip(contests, rankings, strict=True)
        if found is not None
    }
