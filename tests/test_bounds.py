"""What is accepted is readable: records at and beyond the bounds, by every way in."""

from __future__ import annotations

import json
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Ferocal
from ferocal.terms.bounds import LARGEST, MOST_ROUNDS, MOST_SAMPLES, SMALLEST, beyond, is_time

STUDY = """
[study]
question = "Is it read again?"
margin = "5 %"
rounds = 3
runs = 1
[factor.mode]
order = "file"
[factor.mode.level.off]
[factor.mode.level.on]
[factor.mode.level.more]
[workload.flight]
shell = true
command = "cat answer 2> /dev/null || echo '{\\"score\\": 100, \\"of\\": 5}'"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { json = "/score" }
samples = { json = "/of" }
[workload.show]
command = "seq 11 70"
metric.frames = { unit = "ms", kind = "frames", source = { output = "lines" } }
"""
READING = (
    "compare", "compare --detail", "table", "runs --all", "chart", "rank", "factors", "series mode",
    "plan", "note", "reference", "inspect", "frames", "compare --json", "runs --json",
)  # fmt: skip
WIDTHS = (20, 25, 30, 40, 60, 80, 100, 200)
EDGES = (0.0, SMALLEST, LARGEST, 1e308, 1.7976931348623157e308, 5e-324, 1e-300, 3.7)
NUMBERS = st.one_of(
    st.sampled_from(EDGES).flatmap(lambda x: st.sampled_from((x, -x, x * 1.01, x * 0.99))),
    st.floats(allow_nan=True, allow_infinity=True),
)
COUNTS = st.one_of(
    st.sampled_from((0, 1, MOST_ROUNDS, MOST_ROUNDS + 1, MOST_SAMPLES, MOST_SAMPLES + 1)),
    st.sampled_from((2**31, 2**63 - 1, 2**63, 20260512, 10**40)),
)
TIMES = st.one_of(
    st.sampled_from((
        "9999-12-31T23:59:59-23:59", "0001-01-01", "1899-12-31T23:59:59+00:00", "2026-02-30",
        "1900-01-01", "2999-12-31T23:59:59Z", "2999-12-31T23:59:59-14:00", "2026-05-01T24:00:00",
        "2026-05-01T14:30", "2026-05-01T14:30:00.123456789Z", "9999-99-99", "20260501", "2026-W18",
    )),
    st.datetimes().map(lambda moment: moment.isoformat()),
)  # fmt: skip


@pytest.fixture(scope="module")
def good(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A measured study, with a run and an exported trace."""
    directory = tmp_path_factory.mktemp("good")
    ferocal = Ferocal(directory)
    ferocal.write(STUDY)
    ferocal.quick("measure")
    ferocal.quick("export", "all.csv", "--traces", "traces")
    (directory / "run").write_text(ferocal.json("runs")["run_list"][0]["id"])
    return directory


def by_hand(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    return ["enter", "flight", "--configuration", "off", f"score={value!r}", "--round", str(count),
            "--date", time]  # fmt: skip


def samples_by_hand(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    return ["enter", "flight", "--configuration", "off", f"{value:f}!", "--samples", str(count)]


def rounds_option(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    return [
        "measure",
        "--configuration",
        "off",
        "--rounds",
        str(count if count > MOST_ROUNDS else 3),
    ]


def file(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    (ferocal.directory / "new.csv").write_text(
        "configuration,workload,metric,value,samples,round,started_at,resolution\n"
        f"on,flight,score,{value!r},{count},,{time},\noff,flight,score,90,1,7,,{value!r}\n"
        f"on,flight,score,91,1,{count},,\n"
    )
    return ["load", "new.csv"]


def program(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    answer = json.dumps({"score": value, "of": count})
    (ferocal.directory / "answer").write_text(answer)
    return ["measure", "--rounds", "4"]


def reference(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    return ["reference", "add", "--device", "Halden 5", "--metric", "flight score", "--value",
            f"{value:f}", "--source", "a poster", "--date", time, "--retrieved", time]  # fmt: skip


def correction(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    run = (ferocal.directory / "run").read_text()
    return ["correct", run, "score", f"{value:f}", "--reason", "misread"]


def note(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    return ["note", "dark", "--date", time]


def trace(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    source = sorted((ferocal.directory / "traces").iterdir())[0]
    table = pq.read_table(source)
    context = json.loads(table.schema.metadata[b"ferocal"])
    context |= {"started_at": time, "round": count, "number": count, "run": "f" * 32}
    new = table.replace_schema_metadata({b"ferocal": json.dumps(context)})
    pq.write_table(new, ferocal.directory / "trace.parquet")
    return ["load", "trace.parquet"]


def values_of_a_trace(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    (ferocal.directory / "frames.csv").write_text(f"{value!r}\n" * 30 + "16\n" * 30)
    return ["load-trace", "--configuration", "on", "--workload", "show", "frames.csv"]


def margin(ferocal: Ferocal, value: float, count: int, time: str) -> list[str]:
    text = STUDY.replace('margin = "5 %"', f'margin = "{value!r} points"', 1)
    ferocal.write(text.replace('unit = "points"', f'unit = "points"\nresolution = {value!r}'))
    return ["measure"]


WAYS: tuple[Callable[[Ferocal, float, int, str], list[str]], ...] = (
    by_hand, samples_by_hand, rounds_option, file, program, reference, correction, note, trace,
    values_of_a_trace, margin,
)  # fmt: skip


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.__name__)
@settings(max_examples=6, deadline=None)
@given(
    value=NUMBERS, count=COUNTS, time=TIMES,
    reading=st.lists(st.sampled_from(READING), min_size=2, max_size=2, unique=True),
    width=st.sampled_from(WIDTHS),
)  # fmt: skip
def test_what_is_accepted_is_read_by_every_command(
    good: Path,
    way: Callable[[Ferocal, float, int, str], list[str]],
    value: float,
    count: int,
    time: str,
    reading: list[str],
    width: int,
) -> None:
    with tempfile.TemporaryDirectory() as name, pytest.MonkeyPatch.context() as environment:
        environment.setenv("COLUMNS", str(width))
        ferocal = Ferocal(Path(name) / "study")
        shutil.copytree(good, ferocal.directory)
        status, out, err = ferocal.attempt(*way(ferocal, value, count, time))
        assert status in (0, 1, 2), (out, err)
        assert status == 0 or out + err
        if way is margin and status == 2:
            return  # the study file itself is refused
        assert ferocal.json("inspect", "--integrity")["whole"] is True
        for command in reading:
            status, out, err = ferocal.attempt(*command.split())
            assert status in (0, 2) and out + err, (command, out, err)


def test_bounds_are_the_same_for_one_and_for_many() -> None:
    assert [bool(beyond(x)) for x in (0, 1, LARGEST, 1.01 * LARGEST, SMALLEST, 0.9 * SMALLEST)] == [
        False, False, False, True, False, True,
    ]  # fmt: skip
    assert not beyond(float("nan")) and beyond(float("-inf"))
    assert is_time("1900-01-01T12:00Z") and not is_time("2026-5-1") and not is_time("now")


NAMES = st.text("abcdefgh-._", min_size=1, max_size=88).map(lambda text: f"n{text}")
VALUES = (0.0, SMALLEST, LARGEST, 1e-12, 5.0, 5.0000001, 1e40, 1e-40, 100.0, 0.9 * LARGEST)


@settings(max_examples=10, deadline=None)
@given(data=st.data())
def test_extreme_values_and_long_names_are_read_at_any_width(
    data: st.DataObject,
) -> None:
    levels, workloads = (
        data.draw(st.lists(NAMES, min_size=least, max_size=4, unique=True)) for least in (2, 1)
    )
    metrics = data.draw(st.lists(NAMES, min_size=1, max_size=2, unique=True))
    lines = ['[study]\nquestion = "Is it read?"\nmargin = "2 %"\n[factor.mode]']
    lines += ['order = "file"'] * data.draw(st.booleans())
    lines += [f'[factor.mode.level."{name}"]' for name in levels]
    rows = ["configuration,workload,metric,round,value"]
    values = data.draw(st.lists(st.sampled_from(VALUES), min_size=1, max_size=3))
    for workload in workloads:
        lines.append(f'[workload."{workload}"]\ninstructions = "by hand"')
        for metric in metrics:
            place = f'[workload."{workload}".metric."{metric}"]'
            unit = data.draw(st.sampled_from(("s", "fps")))
            better = data.draw(st.sampled_from(("higher", "lower")))
            lines.append(f'{place}\nunit = "{unit}"\nbetter = "{better}"\nread = "typed"')
            for level in levels:
                for number in range(1, 1 + data.draw(st.integers(0, 3))):
                    value = data.draw(st.sampled_from(values))
                    rows.append(f"{level},{workload},{metric},{number},{value!r}")
    with tempfile.TemporaryDirectory() as name, pytest.MonkeyPatch.context() as environment:
        ferocal = Ferocal(Path(name))
        ferocal.write("\n".join(lines))
        (ferocal.directory / "rows.csv").write_text("\n".join(rows))
        status, _, err = ferocal.attempt("load", "rows.csv")
        assert status == 0 or "nothing was recorded" in err or "no readings" in err, err
        for command in READING if status == 0 else ():
            environment.setenv("COLUMNS", str(data.draw(st.sampled_from(WIDTHS))))
            status, out, err = ferocal.attempt(*command.split())
            assert status in (0, 2) and out + err, (command, out, err)
