"""Results for notebooks, pipelines and monitoring: the same numbers as the commands."""

from __future__ import annotations

import csv
import html
import io
import re
import sys
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import nbformat
import pandas as pd
import pytest
from nbclient import NotebookClient

import ferocal as face
from conftest import Ferocal
from ferocal.errors import UsageError

NOTEBOOK = Path(__file__).parents[1] / "docs" / "notebook.ipynb"


def test_the_notebook_of_the_docs_runs_and_shows_what_the_commands_say(
    demo: tuple[Ferocal, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # A kernel keeps its files in the home of the user, and not every user has one.
    for name in ("HOME", "JUPYTER_RUNTIME_DIR", "JUPYTER_DATA_DIR", "IPYTHONDIR"):
        monkeypatch.setenv(name, str(tmp_path))
    # Nor has every process a standard input, whose encoding is asked for.
    monkeypatch.setattr(sys, "stdin", io.StringIO())
    notebook: Any = nbformat.reads(NOTEBOOK.read_text(), as_version=4)  # type: ignore[no-untyped-call]
    place = {"metadata": {"path": str(demo[0].directory)}}
    NotebookClient(notebook, timeout=300, kernel_name="python3", resources=place).execute()
    outputs = [o for cell in notebook.cells for o in cell.get("outputs", ())]
    assert not [o for o in outputs if o.output_type in ("error", "stream")]
    shown: list[Any] = [o.data for o in outputs]
    page = html.unescape(shown[0]["text/html"])
    assert page.startswith("<iframe srcdoc=") and "+15.7" in page
    first = demo[0].json("compare")["effects"][0]
    assert f"{first['change']:.6f}" in shown[1]["text/html"]
    assert sum("image/png" in data for data in shown) == 2
    assert "r64+vulkan" in shown[4]["text/plain"]


@pytest.mark.parametrize(
    ("name", "place", "command", "rows"),
    [
        ("effects", ".", ("compare",), "effects"),
        ("factors", ".", ("factors",), None),
        ("series", "kiosk", ("series", "firmware"), "values"),
        ("ranking", "hosts", ("rank",), None),
        ("claims", "firmware", ("claims",), "claims"),
    ],
)
def test_a_result_has_a_frame_a_figure_and_a_page(
    demo: tuple[Ferocal, str], name: str, place: str, command: tuple[str, ...], rows: str | None
) -> None:
    directory = demo[0].directory / place
    result = getattr(face.open(directory), name)()
    frame = result.frame
    assert isinstance(frame, pd.DataFrame) and len(frame) >= len(result) > 0
    assert len(list(result)) == len(result) and result[0] is next(iter(result))
    known = Ferocal(directory).json(*command)
    if rows is not None and rows in known:
        assert len(frame) == len(known[rows])
    for dark in (False, True):
        figure = result.figure(dark=dark)
        assert figure.axes and figure.get_facecolor() != (0, 0, 0, 0)
    with pytest.raises(UsageError, match="numbered from 0"):
        result.figure(99)
    assert html.escape("<h1>") in result._repr_html_()


def test_effects_are_the_same_in_json_csv_junit_and_the_frame(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    ferocal = demo[0]
    known = ferocal.json("compare")["effects"]
    rows = list(csv.DictReader(io.StringIO(ferocal.quick("compare", "--format", "csv"))))
    frame = face.open(ferocal.directory).effects().frame
    assert len(rows) == len(known) == len(frame)
    for row, effect, of_frame in zip(rows, known, frame.to_dict("records"), strict=True):
        assert row["verdict"] == effect["verdict"] == of_frame["verdict"]
        assert of_frame["change"] == effect["change"]
        assert float(row["change"] or "nan") == pytest.approx(
            float("nan") if effect["change"] is None else effect["change"], nan_ok=True
        )
    target = tmp_path / "result.xml"
    ferocal.quick("compare", "-o", str(target))
    ferocal.quick("compare", "-o", str(target))  # it is known as our own
    suites = ElementTree.parse(target).getroot()
    cases = suites.findall(".//testcase")
    judged = [effect for effect in known if not effect["control"]]
    assert len(cases) == len(judged)
    worse = [effect for effect in judged if effect["verdict"] == "worse"]
    assert len(suites.findall(".//failure")) == len(worse) > 0
    for suite in suites:
        assert int(suite.attrib["tests"]) == len(suite.findall("testcase"))
        for tag, name in (("failure", "failures"), ("error", "errors"), ("skipped", "skipped")):
            assert int(suite.attrib[name]) == len(suite.findall(f"testcase/{tag}"))
    assert "comparison only" in ferocal.refusal(
        "compare", "--between", "driver", "--format", "junit"
    )


def test_readings_are_samples_of_openmetrics(ferocal: Ferocal) -> None:
    rows = 'workload,configuration,value,unit,date\npage,"a",10.5,s,2026-05-03T10:00:00Z\n'
    (ferocal.directory / "r.csv").write_text(f"{rows}page,b,12,s,\nidle,a,7,MiB,\n")
    ferocal.quick("new", "s", "--from", "r.csv")
    opened = Ferocal(ferocal.directory / "s")
    opened.quick("export", "r.openmetrics")
    lines = (opened.directory / "r.openmetrics").read_text().splitlines()
    assert lines[0] == "# TYPE ferocal_reading gauge" and lines[-1] == "# EOF"
    sample = re.compile(r'ferocal_reading\{([a-z_]+="[^"]*",?)+\} [-+0-9.e]+( \d+\.\d+)?')
    samples = [line for line in lines if not line.startswith("#")]
    assert len(samples) == 3 and all(sample.fullmatch(line) for line in samples)
    (dated,) = [line for line in samples if 'configuration="a",workload="page"' in line]
    assert dated.endswith("} 10.5 1777802400.000")
