"""From readings to effects, over all series and configurations at once."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ferocal.analysis import structure
from ferocal.analysis.components import pool_sd, run_variances
from ferocal.analysis.contrasts import METHODS, Contrasts, Method, contrast, widen
from ferocal.analysis.effects import Effect, Setting, Shift
from ferocal.analysis.floors import NoiseFloor, estimate_floor
from ferocal.analysis.looks import LookPlan
from ferocal.analysis.power import MOST_ROUNDS, rounds_to_decide
from ferocal.analysis.readings import (
    Readings,
    choose_scales,
    margin_on_scale,
    reading_uncertainty,
    summarise_visits,
)
from ferocal.analysis.segments import FloatArray, IntArray
from ferocal.analysis.student import Interval, t_interval
from ferocal.analysis.verdicts import (
    CONFIDENCE,
    SIGNIFICANCE,
    Verdict,
    adjust_holm,
    decide,
    is_beyond,
)


def estimate_effects(
    readings: Readings, baseline: str, setting: Setting | None = None
) -> tuple[Effect, ...]:
    """The effect of every other configuration on every series, with its verdict.

    Parameters
    ----------
    readings
        Valid readings; a series or configuration without any is left out.
    baseline
        The configuration to compare with.
    setting
        What else is known of the study; by default an interleaved one.

    Returns
    -------
    tuple of Effect
        In the order of series, then configurations. Caveats are those that follow from
        the numbers of visits and rounds; `doubts.find_doubts` looks at the readings.

    Notes
    -----
    Which interval an effect has is told in `contrast`. Primary series form one family
    for Holm's adjustment, the others another; without primary series all effects are one
    family. The control arm is a family of its own. In a study that was measured until
    decided, intervals have the level of a look, and a verdict stands from the look at
    which it was reached.
    """
    if not len(readings.value):
        return ()
    setting = setting or Setting()
    analysis = _Analysis(readings, baseline, setting)
    return analysis.effects()


@dataclass(frozen=True)
class _Judgement:
    """Verdicts of the rows of a table of contrasts; ``level`` is that of each test."""

    p_adjusted: FloatArray
    level: FloatArray
    verdict: list[Verdict]
    beyond: np.ndarray


class _Analysis:
    """The steps from readings to effects, over all series and configurations at once."""

    def __init__(self, readings: Readings, baseline: str, setting: Setting) -> None:
        self.readings = readings
        self.setting = setting
        self.baseline = readings.configurations.index(baseline)
        self.scales = choose_scales(readings)
        self._floors: dict[int, NoiseFloor | None] = {}
        self.margin = np.array(
            [
                margin_on_scale(s, scale)
                for s, scale in zip(readings.series, self.scales, strict=True)
            ]
        )
        self.higher = np.array([series.better == "higher" for series in readings.series])
        self.family = np.array([int(series.primary) for series in readings.series])

    def effects(self) -> tuple[Effect, ...]:
        looks = self.setting.looks
        table = self._contrast(self.readings)
        interval = t_interval(
            table.mean,
            table.error,
            table.degrees,
            confidence=looks.confidence if looks else CONFIDENCE,
        )
        judgement = (
            self._judge(table, interval, SIGNIFICANCE)
            if looks is None
            else self._judge_by_looks(table, looks)
        )
        return self._assemble(table, interval, judgement)

    def _contrast(self, readings: Readings) -> Contrasts:
        table = contrast(
            summarise_visits(readings, self.scales),
            self.baseline,
            len(readings.configurations),
            interleaved=self.setting.interleaved,
            floor_of=self._floor_of,
        )
        if readings.width.any():
            names = len(readings.configurations)
            uncertainty = reading_uncertainty(readings, self.scales)
            own = uncertainty[table.series_of * names + table.configuration_of]
            widen(table, np.hypot(own, uncertainty[table.series_of * names + self.baseline]))
        return table

    def _floor_of(self, s: int) -> NoiseFloor | None:
        """The noise floor of a series: of the study's own visits, else one brought in."""
        if s not in self._floors:
            floor = self.setting.floors.get(self.readings.series[s])
            if floor is not None and floor.scale != self.scales[s]:
                floor = None
            if self.setting.floor_arm is not None:
                arm = self.readings.configurations.index(self.setting.floor_arm)
                floor = estimate_floor(self.readings, arm, s, self.scales) or floor
            self._floors[s] = floor
        return self._floors[s]

    def _judge(
        self,
        table: Contrasts,
        interval: Interval,
        significance: float,
        pending: np.ndarray | None = None,
    ) -> _Judgement:
        """Verdicts, adjusted within primary series, the others, and the control arm."""
        names = self.readings.configurations
        control = names.index(self.setting.control) if self.setting.control in names else -1
        family = np.where(table.configuration_of == control, 2, self.family[table.series_of])
        p_values = interval.p_value
        adjusted, multiplied = np.full(len(p_values), np.nan), np.ones(len(p_values), np.int64)
        for one in range(3):
            members = family == one if pending is None else (family == one) & pending
            adjusted[members], multiplied[members] = adjust_holm(p_values[members])
        # On the usual scale, on which a difference is found below 0.05.
        adjusted = np.minimum(1.0, adjusted * SIGNIFICANCE / significance)
        margin = self.margin[table.series_of]
        verdict = decide(
            interval.low, interval.high, adjusted, margin, self.higher[table.series_of]
        )
        beyond = is_beyond(interval.low, interval.high, margin)
        return _Judgement(adjusted, significance / multiplied, verdict, beyond)

    def _judge_by_looks(self, table: Contrasts, looks: LookPlan) -> _Judgement:
        """For each effect the verdict of the look that decided it."""
        rows = {key: n for n, key in enumerate(_keys(table))}
        size = len(rows)
        found = _Judgement(
            np.full(size, np.nan),
            np.full(size, looks.alpha),
            [Verdict.INCONCLUSIVE] * size,
            np.zeros(size, dtype=bool),
        )
        for look in looks.reached(int(self.readings.round_of.max(initial=0))):
            early = self._contrast(self.readings.up_to_round(look))
            interval = t_interval(
                early.mean, early.error, early.degrees, confidence=looks.confidence
            )
            place = [rows[key] for key in _keys(early)]
            pending = np.array([found.verdict[n] is Verdict.INCONCLUSIVE for n in place], bool)
            judged = self._judge(early, interval, looks.alpha, pending)
            for row in np.flatnonzero(pending):
                n = place[row]
                found.p_adjusted[n] = judged.p_adjusted[row]
                found.level[n] = judged.level[row]
                found.verdict[n] = judged.verdict[row]
                found.beyond[n] = judged.beyond[row]
        return found

    def _assemble(
        self, table: Contrasts, interval: Interval, judgement: _Judgement
    ) -> tuple[Effect, ...]:
        more = self._more_rounds(table, judgement)
        run_sd = np.sqrt(run_variances(self.readings, self.scales))
        rounds = int(self.readings.round_of.max(initial=0))
        moves = self._baseline_moves()
        effects = []
        for n, s in enumerate(table.series_of.tolist()):
            effect = self._effect(n, table, interval, judgement, int(more[n]))
            evidence = structure.Evidence(
                rounds=rounds,
                unpaired=int(table.unpaired[n]),
                run_sd=float(run_sd[s]),
                baseline_move=float(moves[s]),
                visits_known=self.readings.visits_known,
            )
            found = structure.find_caveats(effect, self.setting, evidence)
            effects.append(replace(effect, caveats=tuple(found)) if found else effect)
        return tuple(effects)

    def _baseline_moves(self) -> FloatArray:
        """By how much the baseline moved while others were visited, by series; else NaN."""
        moves = np.full(len(self.scales), np.nan)
        if self.setting.interleaved:
            return moves
        summaries = summarise_visits(self.readings, self.scales)
        for s in range(len(moves)):
            own = np.flatnonzero(summaries.series_of == s)
            order = own[np.argsort(summaries.visit_of[own], kind="stable")]
            home = np.flatnonzero(summaries.configuration_of[order] == self.baseline)
            if len(home) and home[-1] - home[0] >= len(home):
                first, last = order[home[0]], order[home[-1]]
                moves[s] = summaries.centre[last] - summaries.centre[first]
        return moves

    def _effect(
        self, n: int, table: Contrasts, interval: Interval, judgement: _Judgement, more: int
    ) -> Effect:
        """Row ``n`` as an effect, without caveats."""
        s = int(table.series_of[n])
        scale, method = self.scales[s], METHODS[table.method[n]]
        configuration = self.readings.configurations[table.configuration_of[n]]
        ends = [float(end[n]) for end in (table.mean, interval.low, interval.high)]
        change, low, high = map(math.expm1, ends) if scale == "ratio" else ends
        rest = [float(column[n]) for column in (interval.p_value, table.sd, table.degrees)]
        return Effect(
            bench=self.readings.bench,
            series=self.readings.series[s],
            baseline=self.readings.configurations[self.baseline],
            configuration=configuration,
            scale=scale,
            method=method,
            change=change,
            low=low,
            high=high,
            shift=Shift(*ends, *rest),
            p_adjusted=float(judgement.p_adjusted[n]),
            verdict=judgement.verdict[n],
            beyond_margin=bool(judgement.beyond[n]),
            rounds=int(table.pairs[n]),
            visits=int(table.visits[n]),
            base_visits=int(table.base_visits[n]),
            runs=int(table.runs[n] + table.base_runs[n]),
            base_runs=int(table.base_runs[n]),
            more_rounds=more or None,
            floor=self._floors.get(s) if method is Method.FLOOR else None,
            control=configuration == self.setting.control,
            caveats=(),
        )

    def _more_rounds(self, table: Contrasts, judgement: _Judgement) -> IntArray:
        """Further rounds for each inconclusive effect, 0 where decided or unknown."""
        sd = pool_sd(table)
        pending = np.array([v is Verdict.INCONCLUSIVE for v in judgement.verdict], bool)
        pending &= ~np.isnan(sd)
        more = np.zeros(len(sd), dtype=np.int64)
        if not pending.any():
            return more
        needed = rounds_to_decide(
            table.mean[pending],
            sd[pending],
            self.margin[table.series_of[pending]],
            alpha=judgement.level[pending],
        )
        present = np.maximum(table.pairs, np.minimum(table.visits, table.base_visits))[pending]
        more[pending] = np.where(
            needed == 0, MOST_ROUNDS, np.clip(needed - present, 1, MOST_ROUNDS - 1)
        )
        return more


def _keys(table: Contrasts) -> list[tuple[int, int]]:
    return list(zip(table.series_of.tolist(), table.configuration_of.tolist(), strict=True))
