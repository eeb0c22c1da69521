"""Tables as people write them: right, asked, or refused with what would be right."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from conftest import Ferocal
from zoo import ZOO, Table


def readings_of(study: Ferocal) -> dict[str, list[float]]:
    """What a study holds, in the order in which it was recorded."""
    found: dict[str, list[float]] = {}
    for run in reversed(study.json("runs")["run_list"]):
        for metric, value in run["values"].items():
            key = f"{run['configuration']}/{run['workload']}/{metric}"
            found.setdefault(key, []).append(value["value"])
    return found


def begin(ferocal: Ferocal, name: str, table: Table, *options: str) -> tuple[int, str, str]:
    content = table.content
    data = content if isinstance(content, bytes) else content.encode()
    # The workload of a table that names none is called like the file.
    file = f"t{Path(name).suffix}" if name.startswith("t.") else name
    (ferocal.directory / file).write_bytes(data)
    return ferocal.attempt("new", "s", "--from", file, *options)


@pytest.mark.parametrize("name", ZOO)
def test_a_table_is_read_right_or_asked_about_or_refused(ferocal: Ferocal, name: str) -> None:
    table = ZOO[name]
    study = Ferocal(ferocal.directory / "s")
    if table.asked or table.refused:
        status, _, error = begin(ferocal, name, table)
        assert (status, study.directory.exists()) == (2, False), error
        assert table.asked in error and table.refused in error, error
    if table.refused:
        return
    status, out, error = begin(ferocal, name, table, *table.options)
    assert status == 0, error
    assert all(told in out for told in table.told), out
    found = readings_of(study)
    assert {key: sorted(values) for key, values in found.items()} == {
        key: pytest.approx(sorted(values)) for key, values in table.right.items()
    }


def test_the_zoo_is_large() -> None:
    assert len(ZOO) >= 60 and sum(bool(t.asked) for t in ZOO.values()) >= 10
    assert all(re.fullmatch(r"[\w.]+", name) for name in ZOO) and Path(__file__).exists()
