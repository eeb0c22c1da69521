"""Metrics that are computed from others, and sizes of problems."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Ferocal
from ferocal.analysis.data.derived import add_derived
from ferocal.analysis.data.series import Series
from ferocal.study.expressions import Expression, ExpressionError, parse_expression
from ferocal.terms.dimensions import dimension_of
from ferocal.terms.formulas import Formula, Operation, Operator, Reading
from ferocal.terms.units import UnitError
from simulation import make_readings

STUDY = """
[study]
question = "What does the kiosk page cost over idle?"
margin = "2 %"
[bench.kiosk]
quantities = {{ watts = "30 W" }}
[factor.browser.level.pelican]
quantities = {{ price = "0.5 EUR/h" }}
[factor.browser.level.wren]
[workload.idle]
[workload.idle.metric.memory]
unit = "MiB"
better = "lower"
resolution = 1.0
[workload.page]
group = "Kiosk"
[workload.page.metric.memory]
unit = "GiB"
better = "lower"
[workload.page.metric.time]
unit = "ms"
better = "lower"
[workload.page.metric.tiles]
unit = "tiles"
better = "higher"
[workload.map]
group = "Kiosk"
[workload.map.metric.time]
unit = "s"
better = "lower"
{metrics}
"""


def metric(formula: str, *more: str, name: str = "made", workload: str = "page") -> str:
    lines = [f"[workload.{workload}.metric.{name}]", f'from = "{formula}"', 'better = "lower"']
    return "\n".join([*lines, *more])


def load(ferocal: Ferocal, rows: list[str], *metrics: str) -> None:
    ferocal.write(STUDY.format(metrics="\n".join(metrics)))
    head = "configuration,round,run,workload,metric,unit,value"
    (ferocal.directory / "readings.csv").write_text("\n".join([head, *rows]), encoding="utf-8")
    ferocal.quick("load", "readings.csv")


def rows_of(
    values: dict[tuple[str, str, str], list[list[float]]], units: dict[str, str]
) -> list[str]:
    """A row for each value, by configuration, workload and metric, round and run."""
    return [
        f"{c},{r},{c}{r}{k},{w},{m},{units[m]},{value}"
        for (c, w, m), rounds in values.items()
        for r, runs in enumerate(rounds, 1)
        for k, value in enumerate(runs)
    ]


def test_a_formula_is_computed_per_run_or_per_visit_before_anything_is_analysed(
    ferocal: Ferocal,
) -> None:
    rng = np.random.default_rng(4)
    units = {"memory": "MiB", "time": "ms", "tiles": "tiles"}
    values: dict[tuple[str, str, str], list[list[float]]] = {}
    for c, w, m in itertools.product(("pelican", "wren"), ("idle", "page"), ("memory",)):
        middle = {"idle": 300, "page": 500 if c == "wren" else 450}[w]
        values[c, w, m] = rng.normal(middle, 3, (6, 3)).round(2).tolist()
    for c in ("pelican", "wren"):
        values[c, "page", "time"] = rng.normal(2000, 20, (6, 3)).round(2).tolist()
        values[c, "page", "tiles"] = rng.normal(80, 1, (6, 3)).round(2).tolist()
    load(
        ferocal,
        rows_of(values, units),
        metric("memory - idle", 'unit = "MiB"', name="over-idle"),
        metric("time × watts / tiles", name="energy"),
    )
    effects = {e["metric"]: e for e in ferocal.json("compare")["effects"]}

    def visits(c: str, w: str, m: str) -> Any:
        return np.median(values[c, w, m], axis=1)

    over = {
        c: visits(c, "page", "memory") - visits(c, "idle", "memory") for c in ("pelican", "wren")
    }
    logs = np.log(over["wren"]) - np.log(over["pelican"])
    half = 2.570581836 * logs.std(ddof=1) / math.sqrt(6)  # Student's t with 5 degrees of freedom
    found = effects["over-idle"]
    assert found["unit"] == "MiB" and found["rounds"] == 6
    assert np.log1p(found["change"]) == pytest.approx(logs.mean())
    # The declared resolution of one operand stays in the interval.
    assert np.log1p(found["high"]) >= logs.mean() + half - 1e-9
    runs = {c: np.array(values[c, "page", "time"]) / values[c, "page", "tiles"] for c in over}
    ratio = np.log(np.median(runs["wren"], axis=1)) - np.log(np.median(runs["pelican"], axis=1))
    assert effects["energy"]["unit"] == "ms·W/tiles"
    assert np.log1p(effects["energy"]["change"]) == pytest.approx(ratio.mean())
    listed = " ".join(ferocal.quick("runs", "--metric", "over-idle").split())
    assert "page over-idle is computed from page memory and idle memory, of which" in listed
    assert "computed: memory - idle" in " ".join(ferocal.quick("inspect").split())


def test_what_cannot_be_computed_is_absent_and_says_why(ferocal: Ferocal) -> None:
    rows = [
        f"{c},{r},{c}{r},page,{m},{u},{v}"
        for c in ("pelican", "wren")
        for r in range(1, 6)
        for m, u, v in (
            ("time", "ms", 0 if r == 1 else 1900 + r), ("tiles", "tiles", 80 + r),
        )
        if not (m == "tiles" and r == 2 and c == "wren")
    ]  # fmt: skip
    load(
        ferocal, rows,
        metric("tiles / time", name="speed"),
        metric("time × price × 1000", 'unit = "EUR"', name="cost"),
        metric("geomean(time, map.time)", name="both"),
        metric("geomean(time, time)", name="same"),
    )  # fmt: skip
    document = ferocal.json("compare")
    (speed,) = [e for e in document["effects"] if e["metric"] == "speed"]
    assert speed["rounds"] == 3
    seen = {c["seen"] for c in speed["caveats"] if c["code"] == "not-computed"}
    assert seen == {
        "with pelican, 1 value could not be computed: a division by zero",
        "with wren, 1 value could not be computed: a division by zero",
        "with wren, 1 value could not be computed: page tiles is missing",
    }
    (same,) = [e for e in document["effects"] if e["metric"] == "same"]
    reasons = {c["seen"] for c in same["caveats"] if c["code"] == "not-computed"}
    assert any("a geometric mean of what is not above zero" in text for text in reasons)
    gaps = {(g["metric"], g["configuration"]): (g["mark"], g["reason"]) for g in document["gaps"]}
    assert gaps["cost", "wren"] == ("absent", "price is not declared there")
    assert gaps["both", "wren"] == ("absent", "map time is missing")


@pytest.mark.parametrize(
    ("metrics", "complaint"),
    [
        (metric("memory -"), "makes no sense from its end on"),
        (metric("memory-idle"), 'no metric or quantity "memory-idle"; .*put spaces around a minus'),
        (metric("memory - time"), '"ms" cannot be taken from "GiB"'),
        (metric("memory - idle", 'unit = "s"'), 'gives "GiB", not "s"'),
        (metric("sum(memory, idle)"), 'unknown function "sum"'),
        (metric("geomean(memory, time)"), 'geomean cannot mix "GiB" and "ms"'),
        (metric("other / time") + "\n" + metric("made / time", name="other"), "circular"),
        (metric("watts × 2"), "names no metric"),
        (metric("time / 0"), "divides by zero"),
        (metric("time × 1e400"), "1e400 is too large"),
        (metric(" + ".join(["time"] * 300)), "more than 100 operations in one another"),
        (metric("memory", 'source = "wall-time"'), "cannot have `source`"),
        (metric("2 °C × tiles"), "has no natural zero"),
        (metric("idle.memory", 'margin = "2 s"'), 'its margin in "s"'),
        ("[workload.lone]\n" + metric("page.time", workload="lone"), "it has no readings"),
    ],
)
def test_formulas_that_mean_nothing_are_refused_with_line_and_key(
    ferocal: Ferocal, metrics: str, complaint: str
) -> None:
    ferocal.write(STUDY.format(metrics=metrics))
    said = " ".join(ferocal.refusal("inspect").split())
    assert re.search(complaint, said), said
    assert "line " in said and "workload." in said


def test_ranges_and_bounds_go_through_a_formula(ferocal: Ferocal) -> None:
    rows = [
        f"{c},{r},{c}{r},page,{m},,{v}"
        for c in ("pelican", "wren")
        for r in range(1, 6)
        for m, v in (("tiles", "70..80"), ("time", ">2000" if c == "wren" else 2000 + r))
    ]
    load(ferocal, rows, metric("time / tiles", name="each"))
    (row,) = [e for e in ferocal.json("compare")["effects"] if e["metric"] == "each"]
    # More than 2000 ms over 80 tiles at most is more than 25.
    assert row["bound"] == ">" and row["verdict"] in ("worse", "inconclusive")
    cells = [c for c in ferocal.json("table")["cells"] if c["metric"] == "each"]
    by_name = {c["configuration"]: c for c in cells}
    assert by_name["wren"]["centre"] == pytest.approx(25)
    low, high = by_name["pelican"]["low"], by_name["pelican"]["high"]
    assert low == pytest.approx(2001 / 80, rel=0.02) and high == pytest.approx(2005 / 70, rel=0.02)


OPERATIONS: dict[Operator, Callable[[Any, Any], Any]] = {
    "+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide
}  # fmt: skip


@pytest.mark.parametrize("operator", OPERATIONS)
def test_ranges_hold_all_that_their_parts_allow_and_no_more(operator: Operator) -> None:
    rng = np.random.default_rng(11)
    series = [Series(n, "m", "1", "lower", 0.02) for n in ("a", "b", "made")]
    middles, widths = rng.uniform(5, 9, (2, 40)), rng.uniform(0.1, 2, (2, 40))
    rows = [(s, 0, r, r, middles[s, r]) for s in range(2) for r in range(40)]
    readings = make_readings(series, ("base",), *zip(*rows, strict=True))
    readings = replace(readings, width=widths.ravel())
    term = Operation(operator, Reading("a", "m", 1.0), Reading("b", "m", 1.0))
    made, _ = add_derived(readings, {2: Formula("", term, 1.0, across=True)}, {})
    made = made.select(made.series_of == 2)
    ends = [
        OPERATIONS[operator](middles[0] + i * widths[0], middles[1] + j * widths[1])
        for i in (-1, 1)
        for j in (-1, 1)
    ]
    assert made.value == pytest.approx(OPERATIONS[operator](*middles))
    assert 2 * made.width == pytest.approx(np.max(ends, axis=0) - np.min(ends, axis=0))
    # A declared resolution of the parts is one of the result.
    coarse = replace(readings, series=(replace(series[0], resolution=0.5), *series[1:]))
    (found,) = add_derived(coarse, {2: Formula("", term, 1.0, across=True)}, {})[0].series[2:]
    expected = {"+": 0.5, "-": 0.5}.get(operator)
    assert found.resolution is not None
    assert expected is None or found.resolution == pytest.approx(expected)


def test_metrics_that_are_computed_cannot_be_typed(ferocal: Ferocal) -> None:
    ferocal.write(STUDY.format(metrics=metric("time / tiles", name="each")))
    said = ferocal.refusal("enter", "page", "--configuration", "wren", "each=3", "--bench", "kiosk")
    assert 'page has no metric "each"' in said


NAMES = st.sampled_from(["page", "idle", "frame-rate", "'a b'.'x/1%-low'"])
TREES = st.recursive(
    NAMES | st.integers(1, 99).map(str),
    lambda inner: st.tuples(inner, st.sampled_from("+-×÷*/"), inner).map(
        lambda t: f"({t[0]} {t[1]} {t[2]})"
    ),
    max_leaves=8,
)


@given(TREES)
@settings(max_examples=60, deadline=None)
def test_parentheses_decide_and_products_come_before_sums(text: str) -> None:
    def value(node: Expression) -> float:
        if node.kind in ("name", "number"):
            return 3.0 if node.kind == "name" else float(node.parts[0])
        a, b = map(value, node.parts)
        return {"add": a + b, "subtract": a - b, "multiply": a * b}.get(
            node.kind, a / b if b else math.inf
        )

    plain = text.replace("×", "*").replace("÷", "/")
    for name in ("'a b'.'x/1%-low'", "frame-rate", "page", "idle"):
        plain = plain.replace(name, "3.0")
    try:
        expected = eval(plain, {"__builtins__": {}})
    except ZeroDivisionError:
        return
    found = value(parse_expression(text))
    assert math.isinf(found) or found == pytest.approx(expected)
    bare = "1 + 2 × 3 - 8 / 4"
    assert value(parse_expression(bare)) == 5


@pytest.mark.parametrize(
    "text", ["__import__('os')", "a; b", "lambda: 1", "a.__class__", "(" * 3000]
)
def test_nothing_in_a_formula_is_ever_executed(text: str) -> None:
    try:
        node = parse_expression(text)
    except ExpressionError:
        return
    assert node.kind in ("call", "name")  # a name that no study has, and no function there is


def test_units_multiply_divide_and_convert() -> None:
    assert dimension_of("MB/s").agrees(dimension_of("KiB/ms"))
    assert dimension_of("W·s").agrees(dimension_of("kWh"))
    assert dimension_of("kWh").factor == pytest.approx(3.6e6)
    assert not dimension_of("points").agrees(dimension_of("frames"))
    with pytest.raises(UnitError, match="a part of it is missing"):
        dimension_of("MB/")


SIZES = """
[study]
question = "Does the new engine answer larger queries sooner?"
margin = "2 %"
rounds = 5
runs = 2
[factor.engine.level.old]
environment = { FIXED = "0", EACH = "10" }
[factor.engine.level.new]
environment = { FIXED = "5000", EACH = "8" }
[workload.query]
shell = true
command = 'echo took $((FIXED + EACH * {stars} + FEROCAL_VISIT % 3 * {stars} / 50))'
sizes = { parameter = "stars", values = [500, 1000, 4000, 16000] }
[workload.query.metric.time]
unit = "µs"
better = "lower"
source = { pattern = "took ([0-9]+)" }
"""


def test_sizes_are_measured_within_visits_and_tell_where_curves_cross(ferocal: Ferocal) -> None:
    ferocal.write(SIZES)
    ferocal.quick("measure")
    answer = ferocal.json("compare", "--between", "size")
    assert [d["second_place"] for d in answer["differences"]] == ["1000", "4000", "16000"]
    assert {d["verdict"] for d in answer["differences"]} == {"better"}
    (crossing,) = answer["crossings"]
    # 5000 + 8 n = 10 n at 2500 stars; a straight line over logarithms comes near to that.
    assert crossing["better_above"] and 2200 < crossing["size"] < 3200
    assert crossing["low"] < crossing["size"] < crossing["high"]
    text = ferocal.quick("compare", "--between", "size")
    assert "new is better than old on query" in text and "measured at 1000 and 4000" in text
    overview = ferocal.quick("compare").partition("— query —")[2]
    assert 0 < overview.index("query-500") < overview.index("query-16000")


def test_sizes_that_make_no_difference_are_refused(ferocal: Ferocal) -> None:
    ferocal.write(SIZES.replace("{stars}", "7"))
    assert 'contain "{stars}"' in ferocal.refusal("inspect")
    ferocal.write(SIZES.replace("[500, 1000,", "[1000, 500,"))
    assert "values must be in ascending order" in ferocal.refusal("inspect")


def test_where_the_study_file_is_kept(tmp_path: Path) -> None:
    """A formula that changes after the first reading is told, as other criteria are."""
    ferocal = Ferocal(tmp_path)
    load(
        ferocal, ["pelican,1,a,page,time,ms,2000", "pelican,1,a,page,tiles,tiles,80"],
        metric("time / tiles", name="each"),
    )  # fmt: skip
    text = (tmp_path / "study.toml").read_text(encoding="utf-8")
    ferocal.write(text.replace("time / tiles", "time / tiles / 2"))
    (change,) = ferocal.json("compare")["criteria_changed"]
    assert "formula of page each changed from time / tiles to time / tiles / 2" in change
