"""From readings to effects: every configuration against the baseline."""

from __future__ import annotations

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.analysis.inference.families import against_baseline, find_references
from ferocal.analysis.inference.judging import judge_contrasts


def estimate_effects(
    readings: Readings, baseline: str, setting: Setting | None = None, only: str | None = None
) -> tuple[Effect, ...]:
    """The effect of every other configuration on every series, bench by bench.

    Parameters
    ----------
    readings
        Valid readings; a series or configuration without any is left out.
    baseline
        The configuration to compare with.
    setting
        What else is known of the study; by default an interleaved one.
    only
        The only configuration that is asked about, which is then a separate family; all by default.

    Returns
    -------
    tuple of Effect
        In the order of benches, series, configurations; without caveats. A series that was
        never read under the baseline is compared with another configuration, as `find_references`
        says, which is then the baseline of its effects.
    """
    setting = setting or Setting()
    instead = find_references(readings, baseline, setting)
    contrasts = against_baseline(readings, baseline, control=setting.control, instead=instead)
    if only is not None:
        place = readings.configurations.index(only)
        contrasts = [c for c in contrasts if c.first.configuration == place]
    effects = []
    for n, estimate in judge_contrasts(readings, contrasts, setting).items():
        arm = contrasts[n].first
        configuration = readings.configurations[arm.configuration]
        effects.append(
            Effect(
                **vars(estimate),
                bench=readings.benches[arm.bench],
                series=readings.series[arm.series],
                baseline=readings.configurations[contrasts[n].weights[1][0].configuration],
                configuration=configuration,
                control=configuration == setting.control,
                caveats=(),
            )
        )
    return tuple(effects)
