"""Readings from anywhere: by hand in a terminal, typed in one line, from files, and back."""

from __future__ import annotations

import json
import random
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pexpect
import pytest
from hypothesis import given
from hypothesis import strategies as st

import ferocal as face
from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from ferocal.answers.export import readings_frame
from ferocal.api import OpenedStudy
from ferocal.bench.facts import read_facts
from ferocal.errors import IntakeError
from ferocal.intake.loading import load_files
from ferocal.intake.placed import ReadingPlace, enter_values
from ferocal.intake.shapes import parse_columns
from ferocal.intake.tables.options import TableOptions
from ferocal.intake.typed import TypedError, parse_typed
from ferocal.ledger.opening import read_ledger
from ferocal.media.readings import write_readings
from ferocal.study.load import load_study
from test_measure import query, wait_until

STUDY = """
[study]
question = "Which is quicker?"
margin = "5 %"
rounds = 1
runs = 2
[bench.kiosk]
facts = {{ screen = "L7" }}
[factor.system.level.halden-4]
{hold}
[factor.system.level.halden-5]
[workload.cold-start]
instructions = "Switch it on."
[workload.cold-start.metric.time]
unit = "s"
better = "lower"
read = "stopwatch"
[workload.idle-memory.metric.memory]
unit = "MiB"
better = "lower"
plausible = [100, 9000]
"""


@pytest.fixture
def kiosk(ferocal: Ferocal) -> Ferocal:
    ferocal.write(STUDY.format(hold=""))
    return ferocal


def spawn(ferocal: Ferocal) -> pexpect.spawn[str]:
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(ferocal.directory), env=surroundings(), encoding="utf-8",
        dimensions=(40, 120), timeout=PATIENCE,
    )  # fmt: skip
    terminal.delaybeforesend = None
    return terminal


def press(terminal: pexpect.spawn[str], key: str) -> None:
    """Press a key as soon as the terminal listens for single keys, which it does not echo."""
    wait_until(lambda: not terminal.getecho())
    terminal.send(key)


def take_time(terminal: pexpect.spawn[str], key: str) -> None:
    terminal.expect("ready")
    press(terminal, " ")
    terminal.expect("running")
    press(terminal, " ")
    terminal.expect("Enter keeps")
    press(terminal, key)


def type_value(terminal: pexpect.spawn[str], text: str) -> None:
    terminal.expect("help.*: ")
    terminal.sendline(text)


def end(terminal: pexpect.spawn[str], status: int) -> None:
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == status


def interrupt(terminal: pexpect.spawn[str]) -> None:
    """Press Ctrl-C until it is heard: one just before the program reads ends nothing in Python."""
    for _ in range(PATIENCE // 15):
        terminal.sendintr()
        if terminal.expect([pexpect.EOF, pexpect.TIMEOUT], timeout=15) == 0:
            break
    end(terminal, 130)


def test_an_operator_is_led_through_a_whole_session(kiosk: Ferocal) -> None:
    kiosk.write(STUDY.format(hold='hold = "Start from the disk with Halden 4."'))
    assert "operator, stopwatch" in kiosk.quick("inspect")
    assert "do this: Start from the disk" in kiosk.quick("measure", status=4)
    first, second = spawn(kiosk), None
    # Whichever comes first: halden-4 is switched to by the operator, halden-5 by nobody.
    if first.expect(["when it is done", "ready"]) == 0:
        first.sendline("")
        first.expect("ready")
    press(first, " ")
    first.expect("running")
    press(first, " ")
    first.expect("Enter keeps")
    press(first, "a")  # once more
    take_time(first, "\r")
    take_time(first, "d")  # a mistake: this run does not count
    first.expect("why")
    first.sendline("pressed too late")
    type_value(first, "?")
    first.expect("moving display")
    type_value(first, "70..80")
    first.expect(r"is outside the plausible range \(100 to 9000 MiB\)")
    type_value(first, "1,234")
    first.expect("write one of these")
    type_value(first, "0,5 GiB")
    first.expect("run 2 of 2")
    type_value(first, "51")
    first.expect("outside the plausible range")
    type_value(first, "500..520")
    first.expect("round 1 of 1")
    first.expect(["when it is done", "ready"])
    interrupt(first)
    gaps = [run["absences"] for run in kiosk.json("runs")["run_list"]]
    assert {"time": {"mark": "absent", "reason": "pressed too late"}} in gaps
    second = spawn(kiosk)
    if second.expect(["when it is done", "ready"]) == 0:
        second.sendline("")
        second.expect("ready")
    press(second, " ")
    second.expect("running")
    press(second, " ")
    second.expect("Enter keeps")
    press(second, "\r")
    take_time(second, "\r")
    type_value(second, "-")
    second.expect("why")
    second.sendline("no display")
    type_value(second, "9999!")
    second.expect("took 4 runs in .*; the plan is complete")
    end(second, 0)
    rows = query(kiosk, "SELECT value, low, high, resolution FROM reading ORDER BY run_id")
    assert len(rows) == 6
    assert {row[3] for row in rows} == {0.15, None}
    assert (510.0, 500.0, 520.0, None) in rows and (512.0, None, None, None) in rows


def test_the_computer_of_an_operator_is_no_bench_and_visits_are_begun(ferocal: Ferocal) -> None:
    text = STUDY.format(hold='hold = "Start from the disk with Halden 4."')
    text = text.replace("rounds = 1\nruns = 2", 'schedule = "once"\nvisits = 2\nruns = 1')
    ferocal.write(text.partition("[workload.idle-memory")[0])
    processor = next(fact.value for fact in read_facts() if fact.name == "processor")
    assert processor not in ferocal.quick("inspect") and ferocal.json("inspect")["machine"] == []
    terminal = spawn(ferocal)
    again = "once more, for a separate visit: "
    for words in ("needed now", f"{again}Start from", "", f"{again}leave it and come back"):
        if words:  # nobody brings the other level the first time
            terminal.expect(words)
            terminal.sendline("")
        take_time(terminal, "\r")
    terminal.expect("the plan is complete")
    end(terminal, 0)
    facts = query(ferocal, "SELECT content FROM facts")
    assert {fact["name"] for row in facts for fact in json.loads(row[0])} == {"screen"}
    conditions = query(ferocal, "SELECT conditions FROM run")
    assert [json.loads(row[0]) for row in conditions] == [{"before": {}, "after": {}}] * 4
    # The times are a thousandth of what a hand is exact to, so that anything may be true.
    (effect,) = ferocal.json("compare")["effects"]
    assert effect["verdict"] == "inconclusive" and " wide " in ferocal.quick("compare")
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    assert processor not in page and "L7" in page
    ferocal.write(text.replace("[bench.kiosk]", "[bench.kiosk]\nthis-machine = true"))
    assert processor in " ".join(ferocal.quick("inspect").split())


@pytest.mark.parametrize("how", ["Ctrl-C", "SIGKILL"])
def test_a_confirmed_reading_outlives_the_session_and_its_run_is_completed(
    ferocal: Ferocal, how: str
) -> None:
    second = '[workload.cold-start.metric.memory]\nunit = "MiB"\nbetter = "lower"\n'
    ferocal.write(STUDY.format(hold="").partition("[workload.idle-memory")[0] + second)
    terminal = spawn(ferocal)
    take_time(terminal, "\r")
    terminal.expect("memory, MiB .*: ")
    if how == "Ctrl-C":
        interrupt(terminal)
    else:
        terminal.kill(signal.SIGKILL)
        terminal.expect(pexpect.EOF)
    terminal = spawn(ferocal)
    terminal.expect("cold-start, run 1: time = .* s was kept .* only the rest is asked for")
    type_value(terminal, "512")
    for _ in range(3):
        take_time(terminal, "\r")
        type_value(terminal, "500")
    terminal.expect("the plan is complete")
    end(terminal, 0)
    runs = ferocal.json("runs", "--all")["run_list"]
    assert [(run["outcome"], sorted(run["values"])) for run in runs] == [
        ("ok", ["memory", "time"])
    ] * 4
    assert runs[0]["values"]["memory"]["value"] == 512
    assert not (ferocal.directory / "measure.journal").exists()


@given(st.floats(0.01, 9999), st.sampled_from(["s", "ms", "min"]), st.booleans())
def test_typed_readings_are_converted_whatever_their_comma(
    value: float, unit: str, comma: bool
) -> None:
    text = f"{value:.4f}"
    typed = parse_typed(f" {text.replace('.', ',') if comma else text} {unit}", "s")
    assert typed.value == pytest.approx(float(text) * {"s": 1, "ms": 0.001, "min": 60}[unit])


@pytest.mark.parametrize(
    "text", ["", "fast", "1.2.3", "80..70", "3 fps", "-4", "1,234", "0", "nan"]
)
def test_what_is_typed_wrong_is_asked_for_again(text: str) -> None:
    with pytest.raises(TypedError):
        parse_typed(text, "s")


def test_an_unlikely_reading_is_kept_only_when_it_is_insisted_on() -> None:
    assert parse_typed("214", "s", fellows=200.0).value == 214
    with pytest.raises(TypedError, match="but the others are near 200"):
        parse_typed("21.4", "s", fellows=200.0)
    assert parse_typed("21.4!", "s", fellows=200.0).value == 21.4


def test_readings_are_entered_in_one_line(kiosk: Ferocal) -> None:
    kiosk("enter", "cold-start", "--configuration", "halden-5", "21,4", "21.2 s", "23000ms",
          "--date", "2026-05-01T14:30+00:00", "--visit", "may", "--version", "3.1")  # fmt: skip
    kiosk.quick("enter", "cold-start", "--configuration", "halden-4", "25", "26..28", "27")
    runs = kiosk.json("runs")["run_list"]
    assert sorted(run["values"]["time"]["value"] for run in runs) == [21.2, 21.4, 23, 25, 27, 27]
    assert len({run["visit"] for run in runs}) == 4  # one of three runs, and three of one each
    dates = [run["started_at"] for run in runs]
    assert dates.count(None) == 3 and dates[-1].startswith("2026-05-01T14:30")
    error = kiosk.refusal("enter", "cold-strat", "1", "--configuration", "halden-5")
    assert 'did you mean "cold-start"' in error
    for arguments in (["21.4 fps"], ["1", "x"], ["1", "--bench", "other"], ["1", "--date", "May"]):
        kiosk.refusal("enter", "cold-start", *arguments, "--configuration", "halden-5")
    assert len(kiosk.json("runs")["run_list"]) == 6


@pytest.mark.parametrize(("later", "coarse"), [("20.05", True), ("20.4", False)])
def test_an_effect_below_what_a_hand_can_time_is_told(
    kiosk: Ferocal, later: str, coarse: bool
) -> None:
    kiosk.write(STUDY.format(hold="").replace("5 %", "0.1 %"))
    study = load_study(kiosk.directory)
    for name, value in (("halden-4", "20"), ("halden-5", later)):
        for number in range(1, 4):
            enter_values(study, ReadingPlace(name, "cold-start", "time", number), [value, value])
    (effect,) = face.open(kiosk.directory).effects()
    assert ("coarse" in {caveat.code for caveat in effect.caveats}) is coarse


LONG = [
    {"configuration": c, "workload": "cold-start", "metric": "time", "value": v, "round": r}
    for r, (a, b) in enumerate([(25.5, 21.25), (26.0, 21.5), (25.0, 21.0)], 1)
    for c, v in (("halden-4", a), ("halden-5", b))
]
CHANGE = float(np.exp(np.mean(np.log([21.25 / 25.5, 21.5 / 26.0, 21.0 / 25.0]))) - 1)


def write_long(path: Path, kind: str) -> None:
    frame = pd.DataFrame(LONG)
    if kind == "csv":
        frame.to_csv(path, index=False)
    elif kind == "semicolon":
        frame.to_csv(path, index=False, sep=";", decimal=",", encoding="cp1252")
    elif kind == "utf-16":
        frame.to_csv(path, index=False, sep="\t", encoding="utf-16")
    elif kind == "json":
        path.write_text(json.dumps({"readings": LONG}))
    elif kind == "jsonl":
        path.write_text("\n".join(map(json.dumps, LONG)))
    elif kind == "parquet":
        frame.astype({"configuration": "category"}).to_parquet(path)
    elif kind in ("xlsx", "ods"):
        engine: Any = {"ods": "odf", "xlsx": "openpyxl"}[kind]
        frame.to_excel(path, index=False, engine=engine)
    elif kind == "factors":
        frame.rename(columns={"configuration": "system"}).to_csv(path, index=False)
    elif kind == "milliseconds":
        frame.assign(value=frame["value"] * 1000, unit="ms").to_csv(path, index=False)
    elif kind == "named":
        frame.rename(columns={"configuration": "OS", "value": "took"}).to_csv(path, index=False)
    elif kind == "wide":
        wide = frame.pivot(index="round", columns="configuration", values="value").reset_index()
        wide.insert(0, "test", "cold-start")
        wide.assign(metric="time").to_csv(path, index=False)


ENDINGS = {"json": "json", "jsonl": "jsonl", "parquet": "parquet", "xlsx": "xlsx", "ods": "ods"}
KINDS = ["csv", "semicolon", "utf-16", *ENDINGS, "factors", "milliseconds", "named", "wide"]


@pytest.mark.parametrize("kind", KINDS)
def test_files_of_every_kind_say_the_same(kiosk: Ferocal, kind: str) -> None:
    path = kiosk.directory / f"scores.{ENDINGS.get(kind, 'csv')}"
    write_long(path, kind)
    named = ["configuration=OS", "value=took"] if kind == "named" else []
    options = TableOptions(named=parse_columns(named))
    load_files(load_study(kiosk.directory), [path], options=options)
    (effect,) = face.open(kiosk.directory).effects()
    assert effect.change == pytest.approx(CHANGE)
    assert (effect.method, effect.rounds) == ("paired by round", 3)


def test_a_page_is_understood_as_it_was_written(kiosk: Ferocal) -> None:
    """Capitals do not matter, and a metric that only one workload has needs no workload."""
    page = kiosk.directory / "page.csv"
    rows = [f"{metric};{value};{value + 1}" for metric, value in (("Time", 20), ("MEMORY", 900))]
    page.write_text("\n".join(["metric;HALDEN 4;Halden 5", *rows * 8]))
    preview = kiosk.quick("load", "page.csv", "--preview")
    assert "cold-start" in preview and "idle-memory" in preview and "20 readings more" in preview
    kiosk.quick("load", "page.csv")
    cells = {(c["workload"], c["configuration"]): c["centre"] for c in kiosk.json("table")["cells"]}
    assert cells["idle-memory", "halden-5"] == pytest.approx(901)
    text = (kiosk.directory / "study.toml").read_text()
    kiosk.write(text.replace("metric.memory", "metric.time"))
    error = kiosk.attempt("load", "page.csv", "--again")[2]
    assert "line 2, workload: missing, and the metric alone is ambiguous" in error


def test_loading_is_previewed_and_the_same_file_is_noticed(kiosk: Ferocal) -> None:
    write_long(kiosk.directory / "scores.csv", "named")
    named = ("--column", "configuration=OS", "--column", "value=took")
    preview = kiosk.quick("load", "scores.csv", *named, "--preview")
    assert "would record 6 readings of 6 runs in 6 visits" in preview and "25.5" in preview
    assert not (kiosk.directory / "ledger.sqlite").exists()
    assert "recorded 6 readings" in kiosk.quick("load", "scores.csv", *named)
    assert "was loaded already" in kiosk.refusal("load", "scores.csv", *named)
    kiosk.quick("load", "scores.csv", *named, "--again")
    twice = (kiosk.directory / "scores.csv").read_text() + "halden-5,cold-start,time,21.25,1\n"
    (kiosk.directory / "twice.csv").write_text(twice)
    message = kiosk.refusal("load", "twice.csv", *named, "--preview")
    assert "7 rows are already in the ledger, 0 are new" in message
    message = kiosk.quick("load", "twice.csv", *named, "--preview", "--again")
    assert "identical rows: 1, each counted as a run" in message
    error = kiosk.refusal("load", "scores.csv", "--again", "--column", "value=tok")
    assert 'did you mean "took"' in error


HEAD = "configuration,workload,metric,value,unit,round,run\n"
ROW = "halden-5,cold-start,time,{},s,1,{}\n"


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "is empty"),
        (HEAD, "has a header but no readings"),
        (HEAD + 'halden-5,"cold-start,time,3,s,1,1\n', "line 2: no row can be read from here"),
        (HEAD + ROW.format("1.5", 1) + ROW.format('"1,5"', 2), 'has a decimal point and "1,5"'),
        (HEAD + ROW.format('"1,234"', 1), '"1,234" may be 1.234 or 1234: write one of these'),
        (HEAD.replace(",", ";") + "halden-4;cold-start;time;2\n", "line 2: has 4 columns, not 7"),
        (HEAD + ROW.format(3, 1) + ROW.format("NaN", 2), 'line 3, value: "NaN" is not a number'),
        (HEAD + ROW.format("inf", 1), "is outside the range of numbers"),
        (HEAD + ROW.format(-3, 1), "is negative, but a time cannot be"),
        (HEAD + ROW.format("", 1), "value: is empty"),
        (HEAD + ROW.format(3, 1) * 2, 'line 3, run: run "1" of this visit'),
        (HEAD + ROW.format(3, 1).replace("5,", "6,"), 'did you mean "halden-5"'),
        (HEAD + ROW.format(3, 1).replace(",s,", ",fps,"), '"fps" cannot be converted to "s"'),
        (HEAD + ROW.format(3, 1).replace(",1,", ",0,"), "is not a round"),
        (HEAD + '\n"halden-5",cold-start,time,"\n3",s,1,1\n' + ROW.format("x", 2),
         'line 5, value: "x" is not a number'),
        (HEAD.replace("unit", "low") + ROW.replace(",s,", ",3.5,").format(3, 1),
         'line 2, low: "3.5" is above the value'),
        (HEAD.replace("run", "value") + ROW.format(3, 1), 'are both called "value"'),
        (b"\x81\xff" * 99, "is not a text in UTF-8"),
        ("a,b\n1,2\n", 'line 2, configuration: no configuration "a"'),
        ("a,b\nx,y\n", 'neither a column "value" nor columns named like'),
        ("workload,metric,value\ncold-start,time,3\n", "no column has the configuration"),
    ],
)  # fmt: skip
def test_one_wrong_row_and_nothing_is_recorded(
    kiosk: Ferocal, content: str | bytes, message: str
) -> None:
    study = load_study(kiosk.directory)
    write_long(kiosk.directory / "good.csv", "csv")
    load_files(study, [kiosk.directory / "good.csv"])
    before = (kiosk.directory / "ledger.sqlite").read_bytes()
    path = kiosk.directory / "bad.csv"
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    other = kiosk.directory / "other.csv"
    other.write_text((kiosk.directory / "good.csv").read_text() + "\n")
    with pytest.raises(IntakeError, match=r"bad\.csv") as caught:
        load_files(study, [other, path])
    assert message in str(caught.value)
    assert (kiosk.directory / "ledger.sqlite").read_bytes() == before


def test_damaged_files_are_told_without_a_traceback(kiosk: Ferocal) -> None:
    write_long(kiosk.directory / "cut.parquet", "parquet")
    whole = (kiosk.directory / "cut.parquet").read_bytes()
    (kiosk.directory / "cut.parquet").write_bytes(whole[:-9])
    (kiosk.directory / "x.json").write_text("[1, 2")
    (kiosk.directory / "x.jsonl").write_text('{"value": 1}\n{"value"\n')
    (kiosk.directory / "x.xlsx").write_bytes(b"no sheet")
    for name, message in (
        ("cut.parquet", "not a whole Parquet file"), ("x.json", "is not JSON"),
        ("x.jsonl", "line 2: is not JSON"), ("x.xlsx", "as a spreadsheet"), ("no.csv", "No such"),
    ):  # fmt: skip
        assert message in kiosk.refusal("load", name)
    assert not (kiosk.directory / "ledger.sqlite").exists()


def test_a_spreadsheet_becomes_a_study_with_verdicts_in_two_commands(ferocal: Ferocal) -> None:
    rows = [("Sky query", 100 + n % 3, 121 + n % 2) for n in range(6)]
    rows += [("export", 50 + n % 2, 50 + n % 3) for n in range(6)]
    pd.DataFrame(rows, columns=["test", "Halden 4", "Halden 5 (bêta)"]).to_excel(
        ferocal.directory / "scores.xlsx", index=False
    )
    assert "with 24 readings" in ferocal.quick("new", "s", "--from", "scores.xlsx")
    verdicts = {
        e["workload"]: e["verdict"] for e in ferocal.json("compare", "--study", "s")["effects"]
    }
    assert verdicts == {"Sky-query": "better", "export": "equivalent"}
    error = ferocal.refusal("new", "t", "--from", "scores.xlsx", "--baseline", "halden-3")
    assert 'did you mean "Halden-' in error and not (ferocal.directory / "t").exists()
    text = "Metric,Unit,Halden 4,Halden 5\nLatency,ms,25,20\nMemory,MiB,200,200\n"
    (ferocal.directory / "Viewer 2.csv").write_text(text)
    ferocal.quick("new", "v", "--from", "Viewer 2.csv")
    study = load_study(ferocal.directory / "v")
    assert [(w, name, m.better) for w, name, m in study.metrics()] == [
        ("Viewer-2", "Latency", "lower"), ("Viewer-2", "Memory", "lower")
    ]  # fmt: skip
    text = "test,Halden 4,Halden-4\nquery,1,2\n"
    (ferocal.directory / "same.csv").write_text(text)
    error = ferocal.refusal("new", "u", "--from", "same.csv")
    assert '"Halden 4" and "Halden-4" would both be called Halden-4' in error
    assert "was not changed" in ferocal.refusal("new", "s", "--from", "scores.xlsx")


def test_what_is_exported_loads_back_to_identical_effects(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    demo[0]("export", str(tmp_path / "out.csv"), "--traces", str(tmp_path / "traces"))
    wanted = numbers_of(face.open(demo[0].directory))
    traces = sorted((tmp_path / "traces").iterdir())
    assert len(traces) == 60 * 2
    for ending in ("csv", "json", "parquet"):
        output = tmp_path / f"out.{ending}"
        with read_ledger(demo[0].directory) as ledger:
            frame = readings_frame(load_study(demo[0].directory), ledger)
        write_readings(frame, output)
        # A recovery there is only where something throttles.
        assert len(frame) == 60 * (3 + 7 + 14) + 30 * 3
        copy = loaded(demo[0], tmp_path / ending, [output, *traces])
        assert numbers_of(face.open(copy.directory)) == wanted
    sql = "SELECT number, trace.metric, kind, unit, length, value FROM trace"
    sql += " JOIN reading USING (run_id) ORDER BY value, trace.metric"
    assert query(copy, sql) == query(demo[0], sql)
    # Without the readings, what the traces come to is found again.
    alone = loaded(demo[0], tmp_path / "alone", traces)
    sql = "SELECT metric.name, value, samples, round FROM reading"
    sql += " JOIN metric ON metric_id = metric.id JOIN run ON run_id = run.id"
    sql += " JOIN visit ON visit_id = visit.id"
    sql += " WHERE metric.name LIKE '%/%' ORDER BY value, metric.name, round"
    assert len(query(alone, sql)) == 60 * (7 + 14) + 30 * 3
    assert query(alone, sql) == query(demo[0], sql)
    error = alone("load", str(traces[7]), status=2).stderr
    assert "was loaded already" in error
    # The same runs from another file would count twice.
    with pytest.raises(IntakeError, match="already recorded"):
        loaded(demo[0], tmp_path / "twice", [tmp_path / "out.csv", tmp_path / "out.json"])
    for files in (["out.csv"], [str(traces[7])], ["out.csv", *map(str, traces)]):
        error = demo[0]("load", *[str(tmp_path / file) for file in files], status=2).stderr
        assert "already" in error


def loaded(original: Ferocal, directory: Path, files: list[Path]) -> Ferocal:
    """A study like another, with the readings of files only."""
    directory.mkdir()
    copy = Ferocal(directory)
    copy.write((original.directory / "study.toml").read_text())
    load_files(load_study(directory), files)
    return copy


def numbers_of(opened: OpenedStudy) -> str:
    return repr(
        [
            (e.series, e.configuration, e.shift, e.p_adjusted, e.verdict, e.rounds, e.runs)
            for e in opened.effects()
        ]
    )


def test_random_studies_survive_export_and_load(kiosk: Ferocal, tmp_path: Path) -> None:
    rng = random.Random(4)
    study = load_study(kiosk.directory)
    for number in range(30):
        visit, at = rng.choice([(None, None), (f"v{rng.randrange(3)}", None), (None, 2)])
        values = [f"{rng.uniform(1, 9):.6g}" for _ in range(rng.randrange(1, 4))]
        name = ("halden-4", "halden-5")[number % 2]
        enter_values(study, ReadingPlace(name, "cold-start", "time", at, visit), values)
    run = kiosk.json("runs")["run_list"][3]["id"]
    kiosk.quick("exclude", run, "--reason", "late")
    kiosk.quick("export", "out.csv")
    (tmp_path / "copy").mkdir()
    copy = Ferocal(tmp_path / "copy")
    copy.write(STUDY.format(hold=""))
    copy.quick("load", "../out.csv")
    original = kiosk.json("compare")
    assert copy.json("compare")["effects"] == original["effects"]
    assert copy.json("compare")["excluded"] == 1 == original["excluded"]


def test_a_killed_load_leaves_nothing_behind(kiosk: Ferocal) -> None:
    kiosk.quick("enter", "cold-start", "--configuration", "halden-5", "21.4")
    frame = pd.DataFrame(LONG * 10_000).assign(run=np.repeat(np.arange(10_000), 6))
    frame.to_csv(kiosk.directory / "many.csv", index=False)
    rng = random.Random(5)
    for number in range(4):
        process = subprocess.Popen(
            [PROGRAM, "load", "many.csv"], cwd=kiosk.directory, env=surroundings()
        )
        journal = kiosk.directory / "ledger.sqlite-journal"
        wait_until(lambda: journal.exists() or process.poll() is not None)  # noqa: B023
        time.sleep(0.3 * rng.random())
        kind = signal.SIGINT if number == 0 else signal.SIGKILL
        process.send_signal(kind)
        assert process.wait() in (0, -kind, 130 if kind == signal.SIGINT else -kind)
        (count,) = query(kiosk, "SELECT count(*) FROM reading")[0]
        assert count in (1, 60_001)
        if count > 1:
            break
    else:
        kiosk.quick("load", "many.csv")
    assert query(kiosk, "SELECT count(*) FROM reading") == [(60_001,)]
