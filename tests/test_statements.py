"""What answers say of small tables: nothing that these do not show."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import pytest

from conftest import Ferocal


def begun(tmp_path: Path, table: str, *further: str, toml: str = "") -> Ferocal:
    """A study begun from a table, with more in its study file."""
    (tmp_path / "table.csv").write_text(table)
    place = tmp_path / "study"
    Ferocal(tmp_path).quick("new", str(place), "--from", "table.csv", *further)
    ferocal = Ferocal(place)
    if toml:
        text = (place / "study.toml").read_text(encoding="utf-8")
        ferocal.write(text + toml)
    return ferocal


def in_rounds(cells: dict[tuple[str, str, str, str], Sequence[float]]) -> str:
    """A long table: by configuration, workload, metric and unit the values of rounds."""
    lines = ["configuration,workload,metric,unit,value,round"]
    for place, values in cells.items():
        lines += [f"{','.join(place)},{value},{n}" for n, value in enumerate(values, 1)]
    return "\n".join(lines)


WIDE = "Workload,Pelican,Wren\npage,100,101\ncanvas,100,50\nvideo,100,50\n"


def test_a_ranking_without_rounds_is_over_all_metrics_and_as_read(tmp_path: Path) -> None:
    ferocal = begun(tmp_path, WIDE, toml="[preference.reader]\nweights = { page = 1 }\n")
    answer = ferocal.json("rank")
    overall = [r for r in answer["ranking"] if r["metric"] == "index"]
    assert [r["configuration"] for r in overall] == ["Pelican", "Wren"]
    assert overall[1]["value"] == pytest.approx((1.01 * 0.5 * 0.5) ** (1 / 3))
    assert overall[1]["low"] is None and overall[1]["first"] is None
    text = ferocal.quick("rank")
    assert "As read, Pelican is first by all metrics together" in text
    assert "is ahead" not in text and "0 %" not in text
    wanted = ferocal.json("rank", "--for", "reader")
    (pelican, wren) = (r for r in wanted["ranking"] if r["metric"] == "reader")
    assert (pelican["configuration"], wren["configuration"]) == ("Wren", "Pelican")
    # Wins count over what is weighed alone.
    assert {sum(t[k] for k in ("wins", "losses", "ties", "open")) for t in wanted["tally"]} == {1}


def test_what_cannot_enter_a_ranking_comes_first_with_its_own_reason(tmp_path: Path) -> None:
    cells = {
        ("a", "w", "time", "s"): (10.0, 10.1, 10.2),
        ("b", "w", "time", "s"): (9.0, 9.1, 9.0),
        ("a", "v", "rate", "fps"): (50.0, 51.0, 50.0),
        ("b", "v", "rate", "fps"): (50.0, 52.0, 51.0),
        ("a", "v", "heat", "°C"): (50.0, 51.0, 50.0),
        ("b", "v", "heat", "°C"): (49.0, 51.0, 50.0),
        ("a", "v", "drift", "ms"): (0.0, 1.0, 2.0),
        ("b", "v", "drift", "ms"): (1.0, 1.0, 2.0),
        ("a", "x", "score", "points"): (9.0, 9.0, 9.0),
    }
    ferocal = begun(tmp_path, in_rounds(cells))
    text = (ferocal.directory / "study.toml").read_text(encoding="utf-8")
    # A margin in the unit does not take the ratios from a time.
    ferocal.write(text.replace('unit = "s"', 'unit = "s"\nmargin = "0.2 s"'))
    first = ferocal.quick("rank").split("\n\n")[1]
    assert first.startswith("Ranked by all metrics together, without ")
    answer = ferocal.json("rank")
    assert {metric: why for _, metric, why in answer["why_not_in_index"]} == {
        "v heat": "has no natural zero",
        "v drift": "may be zero or negative",
        "x": "not read everywhere",
    }
    index = {r["configuration"]: r for r in answer["ranking"] if r["metric"] == "index"}
    time, rate = 27.1 / 30.3, 1.0132
    assert index["b"]["value"] == pytest.approx((rate / time) ** 0.5, rel=0.01)


def test_what_reading_leaves_uncertain_in_a_metric_is_in_the_index(tmp_path: Path) -> None:
    cells = {
        ("a", "w", "time", "s"): (10.0, 10.01, 10.02),
        ("b", "w", "time", "s"): (9.0, 9.01, 9.02),
        ("a", "v", "rate", "fps"): ("30..90",) * 3,
        ("b", "v", "rate", "fps"): ("40..80",) * 3,
    }
    ferocal = begun(tmp_path, in_rounds(cells))  # type: ignore[arg-type]
    (index,) = (
        r for r in ferocal.json("rank")["ranking"] if r["metric"] == "index" if r["low"] != 1
    )
    # Half of the weight is on a metric whose readings are off by 33 and 50 % at most.
    assert index["high"] / index["low"] > 1.5
    effects = ferocal.json("factors")["factors"]
    (factor,) = (e for e in effects if e["metric"] == "index")
    assert factor["high"] - factor["low"] > 0.4
