"""Readings out of a study and into another; every option of what brings readings in."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest

from conftest import Ferocal
from test_measure import query

_HEAD = """
[study]
question = "Which level is faster?"
margin = "3 %"
[factor.{factor}.level.base]
[factor.{factor}.level.other]
[factor.api.level.gl]
[factor.api.level.vulkan]
[configuration]
design = "full"
baseline = {{ {factor} = "base", api = "gl" }}
[workload.flight.metric.rate]
unit = "fps"
better = "higher"
role = "primary"
margin = "1.5 %"
resolution = 0.01
[workload.flight.metric.stutter]
unit = "1/min"
better = "lower"
margin = "0.7 1/min"
[workload.export.metric.time]
unit = "s"
better = "lower"
"""


def rows_of(rng: random.Random, factor: str) -> Iterator[str]:
    """Readings of a study in rounds, in named visits, or without either."""
    how = rng.choice(["round", "visit", "neither"])
    yield f"{factor},api,workload,metric,value,round,visit,excluded"
    cells = list(itertools.product(("base", "other"), ("gl", "vulkan")))
    for number, (level, api) in itertools.product(range(1, rng.randrange(2, 6)), cells):
        for workload, metric in (("flight", "rate"), ("flight", "stutter"), ("export", "time")):
            for _ in range(rng.randrange(1, 4)):
                value = f"{rng.lognormvariate(4, 0.1):.{rng.randrange(1, 9)}f}"
                value = rng.choice([value] * 12 + [f">{value}", f"{value}..9999", "n/a"])
                place = (str(number), "") if how == "round" else ("", f"v{number}")
                place = ("", "") if how == "neither" else place
                why = rng.choice([""] * 20 + ["the door was open"])
                yield ",".join((level, api, workload, metric, value, *place, why))


def effects(ferocal: Ferocal) -> dict[tuple[str, ...], dict[str, Any]]:
    """All that is estimated and judged, by place."""
    return {
        tuple(e.pop(key) for key in ("configuration", "workload", "metric")): {
            k: v for k, v in e.items() if k not in ("caveats", "bench", "label", "group")
        }
        for e in ferocal.json("compare")["effects"]
    }


@pytest.mark.parametrize("seed", range(4))
def test_a_study_begun_from_an_export_gives_the_same_effects(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    factor = ("driver", "configuration", "workload", "bench")[seed]
    source = Ferocal(tmp_path / "source")
    source.directory.mkdir()
    source.write(_HEAD.format(factor=factor))
    lines = "\n".join(rows_of(rng, f"factor:{factor}"))
    (source.directory / "rows.csv").write_text(lines)
    source.quick("load", "rows.csv")
    before = effects(source)
    assert len(before) > 6
    for ending in ("csv", "json", "parquet"):
        source.quick("export", f"all.{ending}")
        for options in ((), ("--factor", factor)):
            place = tmp_path / f"{ending}{len(options)}"
            file = str(source.directory / f"all.{ending}")
            source.quick("new", str(place), "--from", file, "--baseline", "base+gl", *options)
            assert effects(Ferocal(place)) == before
        copy = Ferocal(tmp_path / f"copy-{ending}")
        copy.directory.mkdir()
        copy.write(_HEAD.format(factor=factor))
        copy.quick("load", file)
        assert effects(copy) == before


_FILES = {
    "one.csv": "configuration,workload,metric,value\nbase+gl,flight,rate,60\n",
    "equal.csv": "configuration,workload,metric,value\n" + "base+gl,flight,rate,60\n" * 3,
    "two.csv": "configuration,workload,metric,value,note\n"
    "base+gl,flight,rate,60,x\nother+gl,flight,rate,61,y\n",
    "header.csv": "configuration,workload,metric,value\n",
    "gaps.csv": "configuration,workload,metric,value\nbase+gl,flight,rate,n/a\n",
    "results.csv": "device,metric,value,source\nLarkspur,flight rate,60,brochure\n",
    "trace.csv": "ms\n16\n17\n16\n",
}
_PLACE = ("--configuration", "base+gl", "--workload", "flight")
# By command, what goes before its files and each option that can be left out.
_COMMANDS: dict[tuple[str, ...], Sequence[tuple[str, ...]]] = {
    ("load",): [
        ("--preview",), ("--again",), ("--only-new",), ("--bench", "bench"),
        ("--column", "value=value"),
    ],
    ("new", "fresh", "--from"): [
        ("--baseline", "base+gl"), ("--column", "configuration=workload"),
        ("--factor", "configuration"), ("--factor", "metric"), ("--by-hand",),
    ],
    ("load-trace", *_PLACE): [
        ("--preview",), ("--again",), ("--separate",), ("--skip", "9"), ("--column", "ms"),
        ("--unit", "s"), ("--visit", "v"), ("--round", "1"), ("--metric", "frames"),
    ],
    ("reference", "add"): [("--device", "Larkspur"), ("--metric", "rate"), ("--value", "1")],
}  # fmt: skip


@pytest.mark.parametrize("command", _COMMANDS, ids=lambda words: words[0])
def test_every_option_goes_with_every_other_or_is_refused(
    tmp_path: Path, command: tuple[str, ...]
) -> None:
    """Nothing ends in a fault, and what is refused or previewed records nothing."""
    ferocal = Ferocal(tmp_path)
    ferocal.write(
        _HEAD.format(factor="driver")
        + '[workload.flight.metric.frames]\nkind = "frames"\nsource = { file = "*", column = "ms" }'
    )
    for name, text in _FILES.items():
        (tmp_path / name).write_text(text)
    ferocal.quick("load", "two.csv")
    options = _COMMANDS[command]
    pairs = [*itertools.combinations(options, 2), *((option,) for option in options), ()]
    taken = 0
    for chosen, file in itertools.product(pairs, _FILES):
        before = count_runs(ferocal)
        words = [word for option in chosen for word in option]
        status, _, error = ferocal.attempt(*command, file, *words)
        assert status in (0, 1, 2), (words, file, error)
        if status or "--preview" in words:
            assert count_runs(ferocal) == before, (words, file)
            assert not (tmp_path / "fresh").exists() or command[0] == "new"
        for name in ("study.toml", "ledger.sqlite"):
            (tmp_path / "fresh" / name).unlink(missing_ok=True)
        taken += status == 0
    assert taken


def count_runs(ferocal: Ferocal) -> int:
    ((count,),) = query(ferocal, "SELECT count(*) FROM run")
    return int(count)
