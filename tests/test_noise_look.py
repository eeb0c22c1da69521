"""A look at what a bench can resolve."""

from __future__ import annotations

import numpy as np
import pytest

from conftest import Ferocal
from ferocal.analysis.inference.noise_floors import estimate_noise
from ferocal.analysis.inference.power import power_difference
from ferocal.bench.noise_look import NoiseLook, Stretch
from ferocal.measure.noise_look import figures_of


def test_spread_within_and_between_stretches_is_told_apart() -> None:
    rng = np.random.default_rng(1)
    walls = [
        (np.exp(level) * np.exp(rng.normal(0, 0.02, 30))).tolist()
        for level in rng.normal(-4, 0.03, 400)
    ]
    noise = estimate_noise(walls)
    assert noise.run_sd == pytest.approx(0.02, rel=0.05)
    assert noise.stretch_sd == pytest.approx(0.03, rel=0.1)
    rounds = noise.rounds_for(0.03, 1)
    assert rounds is not None
    sd = np.sqrt(2 * (noise.stretch_sd**2 + noise.run_sd**2))
    for n, enough in ((rounds, True), (rounds - 1, False)):
        (power,) = power_difference(np.array([np.log1p(0.03)]), sd, np.array([n]))
        assert (power >= 0.8) is enough or bool(power >= 0.8) is enough
    assert noise.rounds_for(0.001, 3) is None


def test_what_to_change_first_is_the_largest_cause() -> None:
    def stretch(clock: float) -> Stretch:
        conditions = {"clock_mhz": clock, "governor": "powersave", "on_mains": False}
        return Stretch((0.01, 0.011, 0.0105), 0.2, 0.3, ("indexer",), conditions)

    figures = figures_of(NoiseLook(9.0, (stretch(2000), stretch(2500), stretch(2400)), 1e-7, ()))
    first = figures["first"]
    assert first[0].startswith("the machine runs on its battery")
    assert "governor" in first[1] and "took 30.0 %" in first[2]
    assert any("other processes took 20.0 % of processor time (indexer)" in text for text in first)
    assert figures["clock_mhz"] == [2000, 2500]


def test_a_look_is_kept_with_the_study_and_changes_nothing_else(ferocal: Ferocal) -> None:
    done = ferocal("inspect", "--noise", "1")
    assert "A change of 3 % would need" in done.stdout and "not recorded" in done.stdout
    ferocal.quick("new", "st")
    study = Ferocal(ferocal.directory / "st")
    assert "recorded with the study, for" in study("inspect", "--noise", "1").stdout
    (look,) = study.json("inspect")["looks"]
    assert look["figures"]["runs"] >= 9 and look["figures"]["run_sd"] > 0
    assert "noise of" in study.quick("inspect")
    assert study.json("runs")["run_list"] == []
    assert "range" in study.refusal("inspect", "--noise", "0")
