"""Traces: frame times and soaks, from runs to figures."""

from __future__ import annotations

import importlib
import json
import os
import re
import subprocess
import sys
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pexpect
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.analysis.inference.effects import Setting
from ferocal.analysis.inference.estimation import estimate_effects
from ferocal.answers.export import exported_traces
from ferocal.intake.loading import load_files
from ferocal.ledger.opening import read_ledger
from ferocal.media.figures.frames import frames_figure
from ferocal.media.figures.soak import soak_figure
from ferocal.media.readings import write_traces
from ferocal.study.load import load_study
from ferocal.traces.capture import Channel, TraceSpec
from ferocal.traces.events import find_level_shifts
from ferocal.traces.frames import check_frames, count_stutters, from_stamps, summarise_frames
from ferocal.traces.kinds import KINDS
from ferocal.traces.soak import summarise_soak
from simulation import simulate, simulate_bursts, simulate_falls, simulate_soak
from test_measure import query

CELSIUS = Channel("celsius", "°C", "none", "second")
GRAPHICS = Path(__file__).parent.parent / "examples" / "graphics-drivers"


@given(st.lists(st.floats(1, 200), min_size=1, max_size=400), st.integers(0, 5))
def test_lows_are_rates_at_percentiles_of_frame_time(times: list[float], cut: int) -> None:
    array = np.array(times)
    parts = [part for part in np.split(array, [len(array) * cut // 6]) if len(part)]
    found = summarise_frames(parts, limit=33.3)
    assert found.frames == len(times)
    assert found.rate == pytest.approx(1000 * len(times) / array.sum())
    assert found.low_1 == pytest.approx(1000 / np.quantile(array, 0.99))
    assert found.low_01 == pytest.approx(1000 / np.quantile(array, 0.999))
    slowest = np.sort(array)[-max(1, len(array) // 100) :]
    assert found.slowest_1 == pytest.approx(1000 / slowest.mean())
    assert found.over_limit == pytest.approx(100 * array[array > 33.3].sum() / array.sum())


def test_stutters_are_counted_against_their_surroundings() -> None:
    times = np.r_[np.full(500, 10.0), np.full(500, 30.0)]  # slower, but steady
    assert count_stutters(times) == 0
    times[[100, 700, 990]] = [21.0, 61.0, 59.0]
    assert count_stutters(times) == 2
    assert count_stutters(np.array([10.0, 10.0, 25.0])) == 1
    # The average is of time, not of rates: half of the time at 100 fps, half at 10.
    assert summarise_frames([np.r_[np.full(100, 10.0), np.full(10, 100.0)]]).rate == 55.0


@pytest.mark.parametrize(
    ("times", "message"),
    [
        ([], "no frames"), ([16.0, np.nan], "frame 2 is not a number"), ([np.inf], "is infinite"),
        ([16.0, -1.0], "frame 2 duration -1 ms is negative"), ([0.0, 0.0], "all 2 frames"),
        ([3.6e6], "duration 3.6e+06 ms; a pause, or another unit"),
    ],
)  # fmt: skip
def test_frames_that_cannot_be_are_refused(times: list[float], message: str) -> None:
    with pytest.raises(ValueError) as caught:
        check_frames(np.array(times), unit="ms", per_unit=1.0)
    assert message in str(caught.value)
    with pytest.raises(ValueError, match="time stamp 3 is earlier"):
        from_stamps(np.array([0.0, 5.0, 4.0]))


def test_drops_are_found_when_they_come_and_nothing_where_none_is() -> None:
    rng = np.random.default_rng(5)
    quiet = [{"drift": -0.10}, {"drift": -0.15}, {"correlation": 0.8}, {"spikes": 0.05}]
    for settings in quiet:
        assert not any(find_level_shifts(*simulate_soak(rng, **settings)) for _ in range(15))
    for _ in range(25):
        at = float(rng.uniform(600, 2400))
        (onset, back) = find_level_shifts(*simulate_soak(rng, drop=0.2, at=at, until=at + 700))
        assert abs(onset.at - at) <= 5 and abs(back.at - at - 700) <= 5
        assert onset.after / onset.before == pytest.approx(0.8, abs=0.03)
    found = summarise_soak(*simulate_soak(rng, drop=0.3, at=1800.0), "higher")
    assert (found.onset, found.depth) == pytest.approx((1800, 0.3), rel=0.05)
    assert np.isnan(found.recovery)
    assert found.sustained == pytest.approx(0.7, abs=0.01) and found.bin == 10
    time, value = simulate_soak(rng, drop=0.3, at=1800.0, until=2400.0)
    upside = summarise_soak(time, 1e4 / value, "lower")
    assert (upside.onset, upside.recovery) == pytest.approx((1800, 2400), abs=5)
    short = summarise_soak(time[:120], value[:120], "higher")
    assert short.bin < 10 and np.isnan(short.onset)


@pytest.mark.parametrize("drift", [0.0, -0.05, -0.1])
def test_all_events_of_a_soak_are_found_and_the_one_that_costs_most(drift: float) -> None:
    rng = np.random.default_rng(11)
    for _ in range(12):
        time, value, events, main = simulate_falls(rng, drift=drift)
        for better, values in (("higher", value), ("lower", 4e4 / value)):
            found = summarise_soak(time, values, better)  # type: ignore[arg-type]
            assert [shift.at for shift in found.events] == pytest.approx(events, abs=10)
            assert found.onset == pytest.approx(main, abs=10)
            assert found.throttled == pytest.approx(3600 - events[0], abs=12)
            assert found.throttled_level == pytest.approx(
                values[time >= events[0]].mean(), rel=0.01
            )
            lost = 1 - values.mean() / np.median(values[time < min(180, events[0])])
            assert found.area_lost == pytest.approx(lost if better == "higher" else -lost, abs=0.01)


def test_a_level_that_comes_back_in_part_says_how_much(tmp_path: Path) -> None:
    time, value = simulate_soak(np.random.default_rng(3))
    value[(time >= 900) & (time < 2700)] *= 144 / 209
    value[time >= 2700] *= 180 / 209
    found = summarise_soak(time, value, "higher")
    assert (found.onset, found.recovery) == pytest.approx((900, 2700), abs=5)
    assert found.recovered == pytest.approx((180 - 144) / (209 - 144), abs=0.03)
    # A fall at the very start hides none that comes later and costs more.
    value = simulate_soak(np.random.default_rng(4))[1]
    value[time >= 45] *= 0.9
    value[time >= 2460] *= 0.7
    found = summarise_soak(time, value, "higher")
    assert [shift.at for shift in found.events] == pytest.approx([45, 2460], abs=5)
    assert found.main == 1 and found.depth == pytest.approx(0.3, abs=0.02)
    # Scenes that come again and again are no falls.
    rng = np.random.default_rng(5)
    for period in rng.uniform(60, 400, 20):
        value = simulate_soak(rng)[1] * (1 + 0.1 * np.sin(2 * np.pi * time / period))
        assert not find_level_shifts(time, value)


SOAKED = """
[study]
question = "Which firmware keeps the shows smooth?"
margin = "2 %"
[factor.firmware.level."fw-1.02"]
[factor.firmware.level."fw-1.10"]
[workload.attract-loop.metric.rendering]
kind = "soak"
unit = "fps"
better = "higher"
source = { file = "*.csv", column = "fps", time = "s"SECOND }
""".replace("SECOND", ', second = ["heat", "clock"], second-unit = ["°C", "MHz"]')


def write_soaks(directory: Path) -> None:
    """Three of each: one falls at 1000 s and half of that comes back, one begins lower and stays.

    Numbers have commas; the second starts warmer.
    """
    rng = np.random.default_rng(6)
    for number in range(1, 4):
        for name, heat in (("fw_1.02", 21.5), ("fw_1.10", 26.0)):
            time, value = simulate_soak(rng)
            value *= 2.0 if heat < 25 else 1.8
            if heat < 25:
                value[time >= 1000] *= 0.6
                value[time >= 2000] *= 0.8 / 0.6
            rows = [f"{t:g};{v:.3f};{heat:g};1800" for t, v in zip(time, value, strict=True)]
            text = "\n".join(["s;fps;heat;clock", *(row.replace(".", ",") for row in rows)])
            (directory / f"soak-{name}-{number}.csv").write_text(text + "\n")


def test_soaks_say_what_happens_and_which_session_is_better(
    ferocal: Ferocal, tmp_path: Path
) -> None:
    ferocal.write(SOAKED)
    write_soaks(ferocal.directory)
    pattern = "soak-{firmware}-{round}.csv"
    assert "would record 6 runs" in ferocal.quick("load-trace", pattern, "--preview")
    ferocal.quick("load-trace", pattern)
    assert "was loaded already" in ferocal.refusal("load-trace", pattern)
    found = ferocal.json("soak", "-o", str(tmp_path / "soak.png"))
    events = [(e["kind"], round(e["at"], -1), e["main"], e["runs"]) for e in found["events"]]
    assert events == [("fall", 1000, True, 3), ("rise", 2000, False, 3)]
    assert {e["of_runs"] for e in found["events"]} == {3}
    assert found["events"][1]["regained"] == pytest.approx(0.5, abs=0.03)
    (choice,) = found["sessions"]
    assert [s["verdict"] for s in choice["lengths"]] == ["worse", "better"]
    # 200 until 1000 s, then 120: as much as 180 throughout, after 1333 s.
    crossing = choice["crossing"]
    assert crossing["at"] == pytest.approx(4000 / 3, rel=0.02) and crossing["better_above"]
    assert crossing["low"] < crossing["at"] < crossing["high"] < 1450
    effects = {e["metric"].partition("/")[2]: e for e in found["effects"]}
    assert effects["depth"]["scale"] == "difference" and effects["depth"]["margin"] == 2
    assert effects["depth"]["change"] == pytest.approx(-40, abs=2)
    assert effects["first-10-min"]["change"] == pytest.approx(-0.1, abs=0.01)
    # It is no better sustained for having begun lower, and it began warmer.
    assert effects["sustained"]["verdict"] == "better" or "weak-beginning" in {
        c["code"] for c in effects["sustained"]["caveats"]
    }
    assert effects["heat-start"]["change"] == pytest.approx(4.5)
    seen = [c["seen"] for c in effects["mean"]["caveats"] if c["code"] == "conditions-differ"]
    assert any("heat start" in text and "+4.5 °C" in text for text in seen)
    assert not any("clock" in text for text in seen)
    text = ferocal.quick("soak")
    assert re.search("rise, (49|50|51) % of the loss back", text) and "no fall or rise with" in text
    assert "worse for a session of 10 min" in text and "better for the whole 1 h" in text


def test_what_is_better_only_against_a_worse_beginning_has_no_verdict(ferocal: Ferocal) -> None:
    ferocal.write(SOAKED.replace(', second = ["heat", "clock"], second-unit = ["°C", "MHz"]', ""))
    rng = np.random.default_rng(8)
    for number in range(1, 6):
        for name, level in (("fw-1.02", 1.0), ("fw-1.10", 0.8)):
            time, value = simulate_soak(rng)
            value[time < 900] *= level / 0.8
            rows = [f"{t:g},{v:.3f}" for t, v in zip(time, value, strict=True)]
            (ferocal.directory / f"{name}-{number}.csv").write_text("\n".join(["s,fps", *rows]))
    ferocal.quick("load-trace", "{firmware}-{round}.csv")
    effects = {e["metric"].partition("/")[2]: e for e in ferocal.json("compare")["effects"]}
    assert effects["last-quarter"]["verdict"] == "equivalent"
    assert effects["beginning"]["verdict"] == "worse" and effects["sustained"]["change"] > 15
    assert effects["sustained"]["verdict"] == "not comparable"
    assert [c["code"] for c in effects["sustained"]["caveats"]].count("weak-beginning") == 1


def captures_of(kind: str) -> dict[str, str]:
    """The same frames, as programs write them: by the name of the file."""
    lengths = np.random.default_rng(9).normal(16.7, 1.2, 60).round(3)
    ends = np.cumsum(lengths)
    rows = range(len(lengths))

    def table(head: str, row: Callable[[int], str]) -> str:
        return "\n".join([head, *(row(n) for n in rows)]) + "\n"

    def comma(number: float) -> str:
        return f"{number:.3f}".replace(".", ",")

    certain = {
        "lines.txt": "\n".join(comma(x) for x in lengths),
        "semicolons.csv": table("frame;frame time (ms)", lambda n: f"{n};{comma(lengths[n])}"),
        "quoted.csv": table("n,ms", lambda n: f'{n},"{comma(lengths[n])}"'),
        "seconds.csv": table("frame,frame time", lambda n: f"{n},{lengths[n] / 1000:.6f}"),
        "stamps.csv": table("timestamp", lambda n: f"{ends[n] - 16.7:.3f}"),
        "stamped.csv": table("time_s,ms", lambda n: f"{ends[n] / 1000:.6f},{lengths[n]:.3f}"),
        "blanks.txt": table("", lambda n: f"{n} {lengths[n]:.3f}").lstrip(),
        "rates.csv": table("time,fps", lambda n: f"{ends[n] / 1000:.6f},{1000 / lengths[n]:.6f}"),
    }
    doubtful = {
        "alone.csv": table("fps", lambda n: f"{1000 / lengths[n]:.4f}"),
        "averages.csv": table("time,fps", lambda n: f"{n}.0,{1000 / lengths[n]:.4f}"),
        "loads.csv": table("processor,adapter", lambda n: f"{n % 7},{n % 5}.5"),
        "longer.csv": table("ms", lambda n: f"{lengths[n]:.3f}" + (",1" if n == 40 else "")),
        "words.csv": table("frame,ms", lambda n: f"{n},{'lost' if n == 9 else lengths[n]}"),
        "empty.txt": "",
    }
    return certain if kind == "certain" else doubtful


def test_captures_are_understood_as_programs_write_them(ferocal: Ferocal) -> None:
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    place = ("--configuration", "on", "--workload", "flight")
    captures = captures_of("certain")
    for file, text in captures.items():
        (ferocal.directory / file).write_text(text)
        ferocal.quick("load-trace", file, *place)
    rates = [value for name, value in values_of(ferocal) if name == "frame-time/rate"]
    assert len(rates) == len(captures)
    # Of stamps the first frame is not known.
    assert max(rates) / min(rates) < 1.003
    said = ferocal.quick("load-trace", "seconds.csv", *place, "--preview", "--again")
    assert 'column "frame time"; they are in s' in said


@pytest.mark.parametrize(
    ("file", "says", "option"),
    [
        ("alone.csv", "if each is that of a single frame, say --unit fps", ["--unit", "fps"]),
        ("averages.csv", "rates 1 s apart: averages", None),
        ("loads.csv", "which of its columns (processor, adapter)", ["--column", "adapter"]),
        ("longer.csv", "line 42 has 2 columns where 1 was expected", None),
        ("words.csv", "row 10, ms: 'lost' is not a number", None),
        ("empty.txt", "empty.txt: it is empty", None),
    ],
)  # fmt: skip
def test_captures_that_are_doubtful_are_refused(
    ferocal: Ferocal, file: str, says: str, option: list[str] | None
) -> None:
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    (ferocal.directory / file).write_text(captures_of("doubtful")[file])
    place = ("--configuration", "on", "--workload", "flight")
    error = ferocal.refusal("load-trace", file, *place)
    assert says in error and error.count(file) == 1 and "nothing was recorded" in error
    assert not (ferocal.directory / "ledger.sqlite").exists()
    if option is not None:
        ferocal.quick("load-trace", file, *place, *option)


def test_frames_that_nobody_could_see_are_told(ferocal: Ferocal) -> None:
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    for name, length in (("off", 900.0), ("on", 890.0)):
        (ferocal.directory / f"{name}.txt").write_text(f"{length}\n" * 50)
        said = ferocal.quick("load-trace", "{mode}.txt".replace("{mode}", name), "--configuration",
                             name)  # fmt: skip
        assert "another --unit?" in said
    codes = {c["code"] for e in ferocal.json("frames")["effects"] for c in e["caveats"]}
    assert "odd-frames" in codes


def test_a_pattern_of_names_that_does_not_fit_says_why(ferocal: Ferocal) -> None:
    ferocal.write(SOAKED)
    (ferocal.directory / "soak-fw9-1.csv").write_text("s;fps\n0;1\n")
    for pattern, says in (
        ("soak-{firmware}-{visit}.csv", "fits no known name (firmware: fw-1.02, fw-1.10)"),
        ("soak-{firm}-{visit}.csv", 'no field "firm"; did you mean "firmware"?'),
        ("none-{visit}.csv", "no file fits"),
        ("soak-fw9-{visit}.csv", "fits fw-1.02, fw-1.10"),
    ):
        assert says in ferocal.refusal("load-trace", pattern), pattern


def test_a_range_off_a_display_widens_the_interval_by_its_width() -> None:
    readings = simulate(np.random.default_rng(7), rounds=6)
    vague = replace(readings, width=0.03 * readings.value)
    sharp, wide = (estimate_effects(r, "base", Setting())[0] for r in (readings, vague))
    assert wide.change == sharp.change
    # By hand: a half width of 3 % on both sides adds 0.03 / sqrt(3) * sqrt(2) to the error.
    error = [(e.shift.high - e.shift.low) / 2 / _quantile(e.shift.degrees) for e in (sharp, wide)]
    assert error[1] ** 2 == pytest.approx(error[0] ** 2 + 2 * 0.03**2 / 3)
    assert wide.shift.degrees > sharp.shift.degrees


def _quantile(degrees: float) -> float:
    from scipy import stats

    return float(stats.t.ppf(0.975, degrees))


TRACED = """
[study]
question = "Which is smoother?"
margin = "5 %"
rounds = 2
runs = 1
[factor.mode.level.off]
[factor.mode.level.on]
[workload.flight]
shell = true
command = '''{command}'''
[workload.flight.metric.frame-time]
kind = "frames"
unit = "{unit}"
limit = "20 ms"
source = {source}
"""
LINES = "for i in 1 2 3 4; do echo 0.010; done; echo 0.040"
FILE = "printf 'n;ms\\n0;500\\n1;10\\n2;10\\n3;40\\n' > frames.csv"


def values_of(ferocal: Ferocal) -> list[tuple[str, float]]:
    rows = query(ferocal, "SELECT name, value FROM reading JOIN metric ON metric_id = metric.id")
    return sorted(rows)


@pytest.mark.parametrize(
    ("command", "unit", "source", "rate"),
    [
        (LINES, "s", '{ output = "lines" }', 62.5),
        ("for n in 1 2 3; do echo 12,500; done", "ms", '{ output = "lines" }', 80.0),
        ("seq 0 10 90", "ms", '{ output = "lines", stamps = true }', 100.0),
        (FILE, "ms", '{ file = "frames.csv", column = "ms", skip = 1 }', 50.0),
        (f"{FILE}; cp frames.csv frames2.csv", "ms",
         '{ file = "frames*.csv", column = "ms", skip = 1 }', 50.0),
    ],
)  # fmt: skip
def test_frames_are_read_from_output_and_files(
    ferocal: Ferocal, tmp_path: Path, command: str, unit: str, source: str, rate: float
) -> None:
    ferocal.write(TRACED.format(command=command, unit=unit, source=source))
    ferocal.quick("measure")
    cells = {c["metric"]: c["centre"] for c in ferocal.json("frames")["cells"]}
    # Exported, the traces come to the same again, whatever their unit and columns were.
    with read_ledger(ferocal.directory) as ledger:
        count = write_traces(exported_traces(ledger), tmp_path / "traces")
    assert count == 4 * (1 + ("*" in source))
    (tmp_path / "copy").mkdir()
    copy = Ferocal(tmp_path / "copy")
    copy.write(TRACED.format(command=command, unit=unit, source=source))
    load_files(load_study(copy.directory), sorted((tmp_path / "traces").iterdir()))
    assert values_of(copy) == values_of(ferocal)
    assert cells["frame-time/rate"] == pytest.approx(rate)
    assert set(cells) == {
        f"frame-time/{part}"
        for part in ("rate", "1%-low", "0.1%-low", "slowest-1%", "over-limit", "stutters", "median")
    }


@pytest.mark.parametrize(
    ("command", "source", "message"),
    [
        ("true", '{ file = "none.csv" }', "the workload wrote no none.csv"),
        ("true", '{ file = "old.csv", column = "ms" }', "old.csv is from before this run"),
        (
            FILE,
            '{ file = "frames.csv", column = "frame" }',
            'no column "frame"; the columns are n, ms',
        ),
        ("echo fast", '{ output = "lines" }', "line 1: 'fast' is not a number"),
        ("echo cold; echo 17", '{ output = "lines" }', "line 1: 'cold' is not a number"),
        ("echo 1; echo 2,5", '{ output = "lines" }', "line 2 has 2 columns"),
        ("echo 12,174; echo 13,0", '{ output = "csv", column = "ms" }', 'no column "ms"'),
        ("echo -- -5", '{ output = "lines" }', "is negative"),
    ],
)
def test_a_run_without_a_true_trace_is_a_failed_one(
    ferocal: Ferocal, command: str, source: str, message: str
) -> None:
    (ferocal.directory / "old.csv").write_text("ms\n10\n")
    command = command.replace("echo -- ", "echo ")
    ferocal.write(TRACED.format(command=f"sleep 0.1; {command}", unit="ms", source=source))
    ferocal.quick("measure", "--rounds", "1", status=1)
    assert message in ferocal.json("runs")["run_list"][0]["reason"]


def test_captures_from_elsewhere_are_loaded_as_runs(ferocal: Ferocal) -> None:
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    files = [f"{number}.txt" for number in range(4)]
    for number, file in enumerate(files):
        (ferocal.directory / file).write_text("\n".join([f"{10 + number}.5"] * 100))
    place = ("--configuration", "on", "--workload", "flight")
    assert "1 run with 2 captures" in ferocal.quick(
        "load-trace", *files[:2], *place, "--round", "1"
    )
    message = ferocal.quick("load-trace", *files[2:], *place, "--round", "2", "--separate")
    assert "2 runs with 2 captures and 14 readings" in message
    rates = [value for name, value in values_of(ferocal) if name == "frame-time/rate"]
    assert rates == pytest.approx([1000 / 13.5, 1000 / 12.5, 1000 / 11])
    # Any file that was loaded is known, not only the first of a call.
    assert "1.txt: was loaded already" in ferocal.refusal("load-trace", files[1], *place)
    (ferocal.directory / "bad.txt").write_text("10\n3600000\n")
    error = ferocal.refusal("load-trace", "bad.txt", *place)
    assert "bad.txt, line 2: frame 2 duration 3.6e+06 ms; a pause, or another unit" in error
    assert "no configuration" in ferocal.refusal(
        "load-trace", "bad.txt", place[0], "of", *place[2:]
    )
    ferocal("exclude", ferocal.json("runs")["run_list"][2]["id"], "--reason", "late")
    ferocal.quick("export", "out.csv", "--traces", "t")
    (exported, *_) = sorted((ferocal.directory / "t").iterdir())
    assert "use `ferocal load`" in ferocal.refusal("load-trace", str(exported), *place)
    text = (ferocal.directory / "study.toml").read_text()
    ferocal.write(text.replace("metric.frame-time", "metric.frames"))
    assert 'no metric "frame-time"' in ferocal.refusal("load", str(exported))
    (ferocal.directory / "ledger.sqlite").unlink()
    ferocal.write(text)
    load_files(load_study(ferocal.directory), sorted((ferocal.directory / "t").iterdir()))
    runs = ferocal.json("runs")["run_list"]
    assert [run["excluded_because"] for run in runs].count("late") == 1 and len(runs) == 3


def test_captures_of_other_columns_and_units_are_previewed_and_dated(ferocal: Ferocal) -> None:
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    rows = "\n".join(["1;9.0", *(f"{n};0.0{n % 2 + 1}" for n in range(100))])
    (ferocal.directory / "other.csv").write_text(f"n;seconds\n{rows}\n")
    place = ("--configuration", "on", "--workload", "flight", "--column", "seconds",
             "--skip", "1", "--unit", "s", "--date", "2026-05-01T12:00+00:00")  # fmt: skip
    message = ferocal.quick("load-trace", "other.csv", *place, "--preview")
    assert "frame-time/rate" in message and "66.67" in message and "would record 1 run" in message
    assert not (ferocal.directory / "ledger.sqlite").exists()
    ferocal.quick("load-trace", "other.csv", *place)
    assert dict(values_of(ferocal))["frame-time/rate"] == pytest.approx(1000 / 15)
    assert ferocal.json("runs")["run_list"][0]["started_at"].startswith("2026-05-01T12:00")
    for wrong in (["--unit", "fps"], ["--column", "n2"], ["--skip", "101"], ["--metric", "x"]):
        ferocal.refusal("load-trace", "other.csv", *place, *wrong, "--again")
    rows_of = [{"seconds": 0.01 + 0.01 * (n % 2)} for n in range(100)]
    (ferocal.directory / "rows.jsonl").write_text("\n".join(map(json.dumps, rows_of)))
    ferocal("load-trace", "rows.jsonl", *place[:6], "--unit", "s")
    assert [v for k, v in values_of(ferocal) if k.endswith("/rate")] == pytest.approx(
        [1000 / 15] * 2
    )


def test_traces_are_compared_and_drawn(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    ferocal = demo[0]
    frames = ferocal.json("frames", "-o", str(tmp_path / "f.png"))
    effects = {(e["metric"], e["configuration"]): e for e in frames["effects"]}
    stutters = effects["frame-time/stutters", "r61+vulkan"]
    assert stutters["verdict"] == "worse" and "trade-off" in str(stutters["caveats"])
    assert effects["frame-time/rate", "r61+vulkan"]["verdict"] == "better"
    soak = ferocal("soak", "-o", str(tmp_path / "s.svg"), "--configuration", "r64+opengl")
    assert "last quarter" in soak.stdout and "wrote" in soak.stdout
    cells = ferocal.json("soak")["cells"]
    onset = [c for c in cells if c["metric"] == "rendering/onset"]
    assert {c["configuration"]: c["centre"] for c in onset if c["bound"] is None} == pytest.approx(
        {"r61+opengl": 2280, "r61+vulkan": 2280}, rel=0.03
    )
    # With r64 it does not throttle: that would come after the hour.
    later = {c["configuration"]: c["centre"] for c in onset if c["bound"] == ">"}
    assert later == pytest.approx({"r64+opengl": 3600, "r64+vulkan": 3600}, rel=0.001)
    assert (tmp_path / "f.png").read_bytes().startswith(b"\x89PNG")
    assert "r64+opengl" in (tmp_path / "s.svg").read_text()
    assert "name the file .html" in ferocal.refusal("soak", "-o", "x.gif")


def test_charts_of_frames_show_the_tail_and_of_soaks_the_median() -> None:
    """By hand: a tenth of the frames lasts 40 ms; of three soaks the middle one is drawn."""
    frames = KINDS["frames"].collect("r61", TraceSpec("ms", "lower"))
    frames.add({"value": np.r_[np.full(90, 10.0), np.full(10, 40.0)]})
    curve = frames.curve()
    at = {limit: float(curve.longer[np.searchsorted(curve.edges, limit)]) for limit in (20, 39)}
    assert at == pytest.approx({20: 0.1, 39: 0.1})
    assert np.all(np.diff(curve.longer) <= 0)
    tail = frames_figure([curve], "t", "ms").axes[0].lines[0]
    assert np.array_equal(np.asarray(tail.get_ydata()), curve.longer)
    soaks = KINDS["soak"].collect("r61", TraceSpec("fps", "higher"))
    for level in (10.0, 20.0, 40.0):
        soaks.add({"time": np.arange(600.0), "value": np.full(600, level)})
    curve = soaks.curve()
    levels = {name: set(getattr(curve, name)) for name in ("low", "median", "high")}
    assert levels == {"low": {10.0}, "median": {20.0}, "high": {40.0}}
    axes = soak_figure([curve], "t", "fps").axes[0]
    assert np.all(np.asarray(axes.lines[0].get_ydata()) == 20.0)


def test_every_kind_of_trace_has_parts_a_summary_and_a_figure() -> None:
    for name in KINDS:
        assert importlib.import_module(f"ferocal.media.figures.{name}").draw
    value = np.repeat([10.0, 20.0, 12.0], 240) + np.tile([0.0, 0.1], 360)
    columns = {"value": value, "time": np.arange(720.0), "second": np.ones(720)}
    for kind in KINDS.values():
        spec = TraceSpec("ms", "lower", limit=0.015, channels=(CELSIUS,))
        values, kept = kind.summarise(spec, [columns])
        assert set(values) == {part.name for part in kind.parts(spec)}
        assert sum(part.leads for part in kind.parts(spec)) >= 1 and len(kept) == 1


def test_a_short_soak_says_what_is_scaled(ferocal: Ferocal) -> None:
    text = TRACED.format(command="seq 101 220", unit="ms", source='{ output = "lines" }')
    text = text.replace('kind = "frames"', 'kind = "soak"\nbetter = "higher"')
    ferocal.write(text.replace('limit = "20 ms"\n', ""))
    ferocal.quick("measure")
    assert "medians of 4.96 s are used instead of 10 s" in ferocal.quick("soak")


def test_studies_without_traces_say_so(small_study: Callable[..., Ferocal]) -> None:
    error = small_study()("frames", status=2).stderr
    assert 'has kind = "frames"' in error
    wild = simulate_bursts(np.random.default_rng(1), 10_000)
    assert summarise_frames([wild]).low_1 < 0.75 * summarise_frames([wild]).rate


def drivers_installed() -> bool:
    """Whether the off-screen renderer can draw here at all."""
    environment = {**os.environ, "EGL_PLATFORM": "surfaceless", "LIBGL_ALWAYS_SOFTWARE": "1"}
    command = [sys.executable, str(GRAPHICS / "render.py"), "--renderer"]
    done = subprocess.run(command, env=environment, capture_output=True, check=False)
    return done.returncode == 0 and b"llvmpipe" in done.stdout


def test_the_example_of_graphics_drivers(ferocal: Ferocal) -> None:
    if not drivers_installed():
        pytest.skip("needs moderngl, EGL and Mesa")
    for name in ("study.toml", "render.py"):
        (ferocal.directory / name).write_bytes((GRAPHICS / name).read_bytes())
    text = (ferocal.directory / "study.toml").read_text()
    ferocal.write(text.replace("runs = 2", "runs = 1").replace('"100"', '"20"'))
    ferocal.quick("measure", "--rounds", "2")
    effects = {(e["metric"], e["configuration"]): e for e in ferocal.json("frames")["effects"]}
    assert effects["frame-time/rate", "softpipe"]["change"] < -0.5
    # The same picture under all drivers, or a caveat would say that the workload differs.
    codes = {c["code"] for e in effects.values() for c in e["caveats"]}
    assert "workload-differs" not in codes and "short-capture" in codes
    renderers = query(ferocal, "SELECT DISTINCT configuration, checks FROM visit")
    assert "zink" in dict(renderers)["over-vulkan"] and "softpipe" in dict(renderers)["softpipe"]
    # A driver that ignores the setting is found out.
    ferocal.write(text.replace('GALLIUM_DRIVER = "softpipe"', 'GALLIUM_DRIVER = "llvmpipe"'))
    error = ferocal.quick("measure", "--rounds", "3", "--configuration", "softpipe", status=1)
    assert 'driver=softpipe is not active: expected equals "softpipe", seen "llvmpipe' in error


BY_HAND = """
[study]
question = "?"
margin = "5 %"
rounds = 1
runs = 1
[factor.mode.level.off]
[factor.mode.level.on]
[workload.soak]
instructions = "Play the show for an hour."
[workload.soak.metric.power]
kind = "soak"
unit = "W"
better = "lower"
part-margin = { peak = "3 W", onset = "60 s" }
source = { file = "*.csv", column = "w", second = "mhz", second-unit = "MHz" }
[workload.flight.metric.frame-time]
kind = "frames"
"""


def write_numbers(path: Path, values: Iterable[float], head: str = "") -> None:
    lines = [head] if head else []
    path.write_text("\n".join([*lines, *(f"{value:g}" for value in values)]) + "\n")


def test_strange_traces_are_told_and_give_no_infinite_figures(ferocal: Ferocal) -> None:
    ferocal.write(BY_HAND.replace(', second = "mhz", second-unit = "MHz"', ""))
    place = ["--configuration", "on", "--workload"]
    write_numbers(ferocal.directory / "zeros.txt", [0, 0, 0, 16.7] * 50)
    assert "too coarse" in ferocal.refusal("load-trace", "zeros.txt", *place, "flight")
    for name, values in (
        ("start", [0] * 600 + [50] * 1200), ("stop", [50] * 600 + [0] * 900), ("none", [0] * 900),
        ("below", [-1] * 600 + [-5] * 900),
    ):  # fmt: skip
        write_numbers(ferocal.directory / f"{name}.csv", values, "w")
        ferocal.quick("load-trace", f"{name}.csv", *place, "soak")
    read = [v["value"] for run in ferocal.json("runs")["run_list"] for v in run["values"].values()]
    assert len(read) > 20 and np.isfinite(read).all()


def test_traces_by_hand_are_asked_for_by_their_file(ferocal: Ferocal) -> None:
    ferocal.write(BY_HAND[: BY_HAND.index("[workload.flight")])
    for name, level in (("off", 100.0), ("on", 90.0)):
        rows = [f"{level + n % 3:g},{3000 - n % 5}" for n in range(1200)]
        (ferocal.directory / f"{name}.csv").write_text("\n".join(["w,mhz", *rows]) + "\n")
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(ferocal.directory), env=surroundings(), encoding="utf-8",
        timeout=PATIENCE, dimensions=(40, 120),
    )  # fmt: skip
    for number in range(2):
        name = ("off", "on")[terminal.expect(["off: soak, run", "on: soak, run"])]
        terminal.expect("power, file of this run: ")
        if not number:
            terminal.sendline("nowhere.csv")
            terminal.expect("power, file of this run: ")
        terminal.sendline(f"{name}.csv")
    terminal.expect("the plan is complete")
    terminal.expect(pexpect.EOF)
    effects = {e["metric"]: e for e in ferocal.json("compare")["effects"]}
    # A slower clock is neither better nor worse, and a part has a margin of its own.
    assert effects["power/mhz-mean"]["verdict"] == "not judged"
    assert (effects["power/peak"]["scale"], effects["power/peak"]["margin"]) == ("difference", 3)
    assert effects["power/onset"]["margin"] == 60
    # Neither throttles: that would come after the end, on either side.
    cells = {(c["metric"], c["configuration"]): c for c in ferocal.json("table")["cells"]}
    assert cells["power/onset", "on"]["bound"] == ">"
    assert cells["power/depth", "on"]["centre"] == 0
    ferocal.write(BY_HAND.replace('peak = "3 W"', 'peak = "3 fps"'))
    assert "part-margin of peak must be in" in ferocal.refusal("inspect")
