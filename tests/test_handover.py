"""A study that others take over: what happened to it, and where its numbers are from."""

from __future__ import annotations

import random

import pytest

from conftest import Ferocal

STUDY = """
[study]
question = "Which system is faster?"
margin = "{margin}"
rounds = 5
runs = 2
{benches}
{levels}
[workload.flight.metric.score]
unit = "points"
better = "higher"
"""
CENTRES = {"a": 100, "b": 104, "c": 97}


def rows(rng: random.Random, arms: str, rounds: range, bench: str = "node") -> list[str]:
    return [
        f"{bench},{arm},flight,{CENTRES[arm] * (1 + rng.gauss(0, 0.006)):.3f},{number},{run}"
        for number in rounds for arm in arms for run in (1, 2)
    ]  # fmt: skip


def write(ferocal: Ferocal, arms: str = "ab", benches: str = "node", margin: str = "2 %") -> None:
    ferocal.write(
        STUDY.format(
            margin=margin,
            benches="".join(f"[bench.{name}]\n" for name in benches.split()),
            levels="".join(f"[factor.system.level.{arm}]\n" for arm in arms),
        )
    )


def load(ferocal: Ferocal, name: str, lines: list[str], *options: str) -> str:
    text = "\n".join(["bench,configuration,workload,value,round,run", *lines])
    (ferocal.directory / name).write_text(text)
    return ferocal.quick("load", name, *options)


@pytest.fixture
def study(ferocal: Ferocal) -> Ferocal:
    write(ferocal)
    load(ferocal, "first.csv", rows(random.Random(3), "ab", range(1, 6)), "--operator", "Ada")
    return ferocal


def test_what_happened_is_told_in_order_with_who_why_and_under_which_file(study: Ferocal) -> None:
    run = study.json("runs")["run_list"][0]["id"]
    study.quick("exclude", run, "--reason", "projector was off")
    write(study, margin="3 %")
    study.quick("enter", "flight", "--configuration", "b", "104.2", "--operator", "Grace")
    last = study.json("runs")["run_list"][-1]["id"]
    study.quick("correct", last, "score", "103.9", "--reason", "two digits exchanged")
    study.quick("note", "hot day")
    history = study.json("history")
    kinds = [(e["kind"], e["operator"], e["file_version"]) for e in history["history"]]
    assert kinds == [
        ("load", "Ada", 1), ("exclude", None, None), ("enter", "Grace", 2),
        ("correct", None, None), ("note", None, None),
    ]  # fmt: skip
    imported = history["history"][0]
    assert ["configuration", "configuration", "its name"] in imported["imported_as"]["columns"]
    assert imported["run_count"] == 20 and imported["source"] == "first.csv"
    changes = history["file_versions"][1]["changes"]
    assert changes == [{"path": "study.margin", "changed_from": "2 %", "changed_to": "3 %"}]
    text = study.quick("history")
    for told in ("projector was off", "two digits exchanged", "hot day", "Grace", "study.margin"):
        assert told in text
    year = history["history"][0]["recorded_at"][:4]
    assert 'margin = "3 %"' in study.quick("history", "--study-file", year)
    first = history["history"][0]["recorded_at"][:23]
    assert 'margin = "2 %"' in study.quick("history", "--study-file", first)
    assert "no study file is kept of 2001" in study.refusal("history", "--study-file", "2001")


def test_an_import_is_undone_and_done_again(study: Ferocal) -> None:
    before = study.json("compare")["effects"]
    load(study, "second.csv", rows(random.Random(4), "ab", range(6, 9)))
    assert study.json("compare")["effects"] != before
    name = study.json("history")["history"][-1]["id"]
    out = study.quick("exclude", "--import", name, "--reason", "another machine")
    assert "excluded 12 runs" in out and f"ferocal restore --import {name}" in out
    undone = study.json("compare")
    for old, new in zip(before, undone["effects"], strict=True):
        same = ("change", "low", "high", "rounds", "method", "verdict")
        assert [old[key] for key in same] == [new[key] for key in same]
    assert undone["excluded"] == 12
    assert "are excluded already" in study.refusal("exclude", "--import", name, "--reason", "x")
    study.quick("restore", "--import", name)
    assert study.json("compare")["excluded"] == 0
    assert "is not the id of an import" in study.refusal(
        "exclude", "--import", "zz", "--reason", "x"
    )
    assert "name runs, or an import" in study.refusal("exclude", "--reason", "x")


def test_a_number_leads_to_its_runs_and_a_run_to_its_answers(study: Ferocal) -> None:
    (effect,) = study.json("compare")["effects"]
    shown = f"{100 * effect['change']:+.1f} %"
    for text in (shown, shown.replace(" ", ""), shown.lstrip("+")):
        (match,) = study.json("lookup", text)["matches"]
        assert (match["configuration"], match["baseline"]) == ("b", "a")
        assert len(match["run_list"]) == len(match["base_run_list"]) == 10
    assert shown.replace("-", "−") in study.quick("lookup", shown)
    run = match["run_list"][0]["id"]
    found = study.json("lookup", run)
    assert found["found_run"]["id"] == run and found["matches"] == []
    assert [e["configuration"] for e in found["part_of_effects"]] == ["b"]
    assert found["import_id"] == study.json("history")["history"][0]["id"]
    study.quick("exclude", run, "--reason", "late")
    assert study.json("lookup", run)["part_of_effects"] == []
    centre = study.json("table")["cells"][0]["centre"]
    assert study.json("lookup", f"{centre:.1f}")["matches"][0]["centre"] == centre
    assert "is no number of" in study.refusal("lookup", "12345")


@pytest.mark.parametrize("added", ["configuration", "later", "round", "bench"])
def test_what_is_added_leaves_old_comparisons_as_they_are(study: Ferocal, added: str) -> None:
    rng = random.Random(5)

    def kept() -> list[object]:
        return [
            (
                e["method"],
                round(e["change"], 9),
                round(e["low"], 9),
                round(e["high"], 9),
                [c["code"] for c in e["caveats"]],
            )
            for e in study.json("compare")["effects"]
            if (e["bench"], e["configuration"]) == ("node", "b")
        ]

    before = kept()
    if added == "bench":
        write(study, benches="node other")
        load(study, "more.csv", rows(rng, "ab", range(1, 6), "other"))
    elif added == "round":
        load(study, "more.csv", rows(rng, "ab", range(6, 7)))
        after = kept()
        assert [(a[0], a[4]) for a in after] == [(b[0], b[4]) for b in before]  # type: ignore[index]
        return
    else:
        new = rows(rng, "c" if added == "configuration" else "ac", range(1, 6))
        if added == "later":
            new = rows(rng, "ac", range(6, 9))
        assert "added system=c" in load(study, "more.csv", new, "--add")
    assert kept() == before
