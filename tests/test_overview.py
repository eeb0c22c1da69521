"""The overview as it is printed: rows, columns, signs, what folds and what is left out."""

from __future__ import annotations

import csv
import random
import re
from collections.abc import Callable, Mapping, Sequence

import pytest

from conftest import Ferocal

Effect = Callable[[str, str], float]
SUITE = """
[study]
question = "Which host renders the evening show soonest?"
margin = "3 %"
[factor.host]
{levels}
[workload.render]
group = "Graphics"
[workload.render.metric]
processor = {{ unit = "points", better = "higher", part-of = "total" }}
total = {{ unit = "points", better = "higher", role = "primary" }}
single-core = {{ unit = "points", better = "higher", part-of = "processor" }}
workers = {{ unit = "1", role = "context" }}
[workload.query]
group = "Storage"
metric.time = {{ unit = "s", better = "lower" }}
[workload.export]
group = "Graphics"
metric.time = {{ unit = "s", better = "lower" }}
metric.spill = {{ unit = "MiB", better = "lower", role = "detail" }}
"""
PLACES = [
    ("render", "total", "points", 900.0), ("render", "processor", "points", 400.0),
    ("render", "single-core", "points", 60.0), ("render", "workers", "1", 4.0),
    ("query", "time", "s", 12.0), ("export", "time", "s", 40.0), ("export", "spill", "MiB", 10.0),
]  # fmt: skip


def load(
    ferocal: Ferocal,
    text: str,
    hosts: Sequence[str],
    places: Sequence[tuple[str, str, str, float]],
    factor: Mapping[tuple[str, str], float],
    rounds: int = 6,
) -> None:
    """Load a study of readings that vary by half a per cent, times a factor by host and metric."""
    ferocal.write(text.format(levels="\n".join(f"[factor.host.level.{h}]" for h in hosts)))
    chance = random.Random(5)
    with (ferocal.directory / "r.csv").open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(["round", "configuration", "workload", "metric", "unit", "value"])
        for number in range(1, rounds + 1):
            for host in hosts:
                for workload, metric, unit, value in places:
                    noise = 1.0 if metric == "workers" else chance.gauss(1, 0.005)
                    seen = value * noise * factor.get((host, f"{workload} {metric}"), 1.0)
                    out.writerow([number, host, workload, metric, unit, f"{seen:.4g}"])
    ferocal.quick("load", "r.csv")


HOSTS = ["Oxbow-S", "Oxbow-M", "Tarn-8", "Tarn-9", "Oxbow-L", "Oxbow-XL", "Tarn-12"]
FACTORS = {
    ("Oxbow-M", "render total"): 1.1, ("Oxbow-M", "render workers"): 2.0,
    ("Tarn-8", "export spill"): 3.4, ("Tarn-8", "query time"): 0.9,
}  # fmt: skip


def test_rows_are_in_groups_with_parts_below_their_total_and_details_on_request(
    ferocal: Ferocal,
) -> None:
    load(ferocal, SUITE, HOSTS[:3], PLACES, FACTORS)
    text = ferocal.quick("compare")
    order = ["— Graphics —", "render", "  total •", "    processor", "      single-core", "export",
             "— Storage —", "query"]  # fmt: skip
    table = text[text.index("baseline") :]
    places = [
        re.search(rf"^{re.escape(name)}\b|^{re.escape(name)} *$", table, re.M)
        or re.search(rf"^{re.escape(name)} ", table, re.M)
        for name in order
    ]
    assert None not in places
    starts = [place.start() for place in places if place is not None]
    assert starts == sorted(starts)
    assert re.search(r"total • +points +↑ +9\d\d\.\d +\+10\.\d ±0\.\d % ▲ +[-−+0].* =", table)
    # What gets clearly worse is shown although it is a detail, as a factor where it is large.
    assert re.search(r"spill +MiB +↓ .* × 3\.4\d* ±0\.\d+ ▼", table)
    # A context is never judged, and what differs in it is told of its workload.
    assert "workers" not in table.split("▲ better")[0]
    assert "with Oxbow-M: render workers differs by +100 % from Oxbow-S" in " ".join(text.split())
    context = ferocal.quick("compare", "--role", "context")
    assert re.search(r"workers +1 +4\.000 +\+100 ±\d+ % +−\d+ … \+\d+ %", context)
    assert "▲" not in context
    (only, *rest) = ferocal.json("compare", "--only", "worse")["effects"]
    assert (only["label"], only["role"], only["mark"], rest) == ("export spill", "detail",
                                                                  "worse", [])  # fmt: skip
    grouped = {e["workload"] for e in ferocal.json("compare", "--group", "Storage")["effects"]}
    assert grouped == {"query"}
    assert "did you mean" in ferocal.refusal("compare", "--group", "Storag")
    # Roles are families: the only primary metric is judged among its own comparisons.
    sizes = {e["role"]: e["family_size"] for e in ferocal.json("compare")["effects"]}
    assert sizes == {"primary": 2, "secondary": 8, "detail": 2, "context": 0}
    ferocal.quick("compare", "--gate", "worse")
    for command in ("table", "plan", "inspect"):
        output = ferocal.quick(command)
        first, second = output.index("— Graphics —"), output.index("— Storage —")
        assert "export" in output[first:second] and "query" in output[second:]


def test_the_best_of_each_row_is_marked_with_what_is_within_the_margin_of_it(
    ferocal: Ferocal,
) -> None:
    factors = {
        ("Oxbow-M", "query time"): 0.5, ("Tarn-8", "query time"): 0.505,
        ("Tarn-8", "render total"): 1.2,
    }  # fmt: skip
    load(ferocal, SUITE, HOSTS[:3], PLACES, factors)
    table = ferocal("table", COLUMNS="120").stdout
    row = re.search(r"\nquery .*", table)
    assert row is not None and re.search(
        r"2 tied +11\.\S+ ±\S+ % +5\.\S+ .* \* +6\.\S+ .* ≈$", row[0]
    )
    assert re.search(r"total • .* Tarn-8 +9\S+ ±\S+ % +9\S+ ±\S+ % +1\S+ ±\S+ % \*", table)
    assert re.search(r"workers", table) is None and "2 metrics of role detail are hidden" in table
    # What is only known to be beyond the best number is best; before it, nobody knows.
    for level, value in (("a", "10"), ("b", ">12"), ("c", ">9")):
        other = Ferocal(ferocal.directory / level)
        other.directory.mkdir()
        other.write(SUITE.format(levels="[factor.host.level.x]\n[factor.host.level.y]"))
        other.quick("enter", "render", "total=10", "--configuration", "x")
        other.quick("enter", "render", f"total={value}", "--configuration", "y")
        best = {"a": "x", "b": "y", "c": "–"}[level]
        assert re.search(rf"render total +points +↑ +{best} ", other.quick("table"))


@pytest.mark.parametrize("columns", [100, 60, 36])
def test_a_wide_overview_folds_and_loses_nothing(ferocal: Ferocal, columns: int) -> None:
    load(ferocal, SUITE, HOSTS, PLACES, {})
    text = ferocal("compare", COLUMNS=str(columns)).stdout
    overview = text[text.index("\n\n", 60) :].partition("\ncaveats")[0]
    # Names and cells are whole, in whatever number of blocks.
    for name in HOSTS[1:]:
        assert re.search(rf"(^|\s){name}(\s|$)", overview)
    assert len(re.findall(r"±\d", overview)) >= 5 * 6
    assert max(map(len, overview.splitlines())) <= columns
    assert max(map(len, text.splitlines())) <= max(columns, 80)  # commands are never broken


@pytest.mark.parametrize("environment", [{"NO_COLOR": "1"}, {"PYTHONIOENCODING": "ascii"}])
def test_words_stand_for_signs_where_there_are_none(
    ferocal: Ferocal, environment: dict[str, str]
) -> None:
    load(ferocal, SUITE, HOSTS[:3], PLACES, FACTORS)
    ferocal.quick("note", "no sound", "--configuration", "Tarn-8", "--workload", "query")
    signs = ferocal.quick("compare")
    assert re.search(r"query .* ▲¹\n", signs) and "\n¹ no sound\n" in signs
    words = ferocal("compare", status=0, **environment).stdout
    assert not re.search("[▲▼○¹•]", words)
    assert re.search(r"query .* better\[1\]\n", words) and "\n[1] no sound\n" in words


def test_of_very_many_metrics_verdicts_are_counted(ferocal: Ferocal) -> None:
    scenes = [f"scene-{n:03d}" for n in range(300)]
    text = '[study]\nquestion = "?"\nmargin = "2 %"\n[factor.host]\n{levels}\n' + "\n".join(
        f'[workload.{name}]\nmetric.rate = {{{{ unit = "fps", better = "higher" }}}}'
        for name in scenes
    )
    moved = {("r64", f"{name} rate"): 1.2 if n % 30 else 0.8 for n, name in enumerate(scenes[:90])}
    load(ferocal, text, ["r61", "r64"], [(s, "rate", "fps", 60.0) for s in scenes], moved)
    output = ferocal.quick("compare")
    assert len(output.splitlines()) < 25
    assert re.search(r"better +87 +scene-\d+ \+2\d\.\d %, .*8\d more\n", output)
    assert re.search(r"worse +3 +scene-\d+ −2\d\.\d %", output)
    effects = ferocal.json("compare", "--only", "worse")["effects"]
    assert {e["workload"] for e in effects} == {"scene-000", "scene-030", "scene-060"}
    shown = ferocal.quick("compare", "--only", "worse")
    assert [name for name in scenes if f"\n{name} " in shown] == [
        "scene-000", "scene-030", "scene-060",
    ]  # fmt: skip
    for command in ("table", "plan", "inspect", "runs"):
        assert len(ferocal.quick(command).splitlines()) < 70
    # Of very many runs those are listed that do not count, wherever they are, and the last ones.
    first = ferocal.json("runs")["run_list"][0]["id"]
    assert first not in ferocal.quick("runs") and first in ferocal.quick("runs", "--all")
    ferocal.quick("exclude", first, "--reason", "dark")
    listed = ferocal("runs", COLUMNS="120").stdout
    assert (
        re.search(rf"{first} .* excluded: dark", listed)
        and "shown: the 1 run that does not count" in listed
    )
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    assert "268 more metrics" in page


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ('role = "primary" }', None),
        ("primary = true }", 'write role = "primary"'),
        ('role = "context" }', "a context metric is never judged"),
        ('part-of = "sum" }', 'is part-of "sum", which is not a metric of this workload'),
        ('part-of = "total" }', "contains itself"),
        ('part-role = { rate = "detail" } }', "part-role needs a trace"),
    ],
)
def test_roles_and_parts_that_do_not_fit_are_refused(
    ferocal: Ferocal, change: str, message: str | None
) -> None:
    start = 'total = {{ unit = "points", better = "higher", role = "primary" }}'
    text = SUITE.replace(
        start, start.replace('role = "primary" }}', change.replace("{", "{{").replace("}", "}}"))
    )
    ferocal.write(text.format(levels="[factor.host.level.a]\n[factor.host.level.b]"))
    if message is None:
        ferocal.quick("inspect")
    else:
        error = ferocal.refusal("inspect")
        assert message in error and "line " in error
