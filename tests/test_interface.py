"""The face of the program: help, start-up, the demo, the documents."""

from __future__ import annotations

import json
import math
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import Ferocal
from ferocal.cli.main import SECTIONS
from ferocal.cli.main import ferocal as group
from ferocal.documents.objects.index import OBJECTS

ROOT = Path(__file__).parent.parent
COMMANDS = [(name, summary) for section in SECTIONS.values() for name, summary in section.items()]
HEAVY = ("numpy", "scipy", "pandas", "matplotlib", "sqlalchemy")


@pytest.mark.parametrize("arguments", [["--help"], *[[name, "--help"] for name, _ in COMMANDS]])
def test_help_imports_nothing_heavy(arguments: list[str]) -> None:
    code = (
        "import atexit, sys\nfrom ferocal.__main__ import main\n"
        f"sys.argv = ['ferocal', *{arguments!r}]\n"
        f"atexit.register(lambda: print('HEAVY', [m for m in {HEAVY!r} if m in sys.modules]))\n"
        "main()"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.endswith("HEAVY []\n")


@pytest.mark.parametrize(("name", "summary"), COMMANDS)
def test_every_command_has_a_summary_and_an_example(name: str, summary: str) -> None:
    command = group.commands.get(name) or group.get_command(None, name)  # type: ignore[arg-type]
    assert command is not None and command.help is not None
    assert command.help.startswith(summary)
    assert f"Example: ferocal {name}" in command.help


def test_ferocal_alone_shows_the_commands_in_the_order_of_the_day(ferocal: Ferocal) -> None:
    output = ferocal().stdout
    places = [output.index(f" {name}  ") for name, _ in COMMANDS]
    assert places == sorted(places)
    lines = output.splitlines()
    assert len(lines) <= 40 and max(map(len, lines)) <= 80


def test_an_unknown_command_is_a_usage_error(ferocal: Ferocal) -> None:
    assert "comprae" in ferocal("comprae", status=2).stderr


def test_the_demo_finds_what_is_true(demo: tuple[Ferocal, str]) -> None:
    ferocal, output = demo
    truth = output.split("the true changes are known")[1]
    rows = re.findall(r"(yes|no)\s*$", truth, flags=re.MULTILINE)
    # Effects of the first study, levels of the second, steps of the third, hosts of the fourth.
    assert len(rows) == 12 + 4 + 7 + 5
    assert rows.count("yes") >= 25
    update = output.split("What did the update do")[1]
    assert "driver (r64) and firmware (fw-1.11) always changed together" in update
    assert re.search("refuted +vendor-loss", output) and re.search("supported +vulkan-pays", output)
    verdicts = {
        (e["workload"], e["configuration"]): e["verdict"] for e in decided_by_the_truth(ferocal)
    }
    assert verdicts["dome-flight", "r64+vulkan"] == "better"
    assert verdicts["show-export", "r61+vulkan"] == "better"
    assert verdicts["show-export", "r64+opengl"] == "equivalent"
    assert verdicts["catalogue-query", "r64+opengl"] == "worse"
    assert verdicts["cold-start", "r64+vulkan"] == "better"
    assert output.count("prevented: ") == 1
    assert "The bench ignored a switch" in output
    assert (
        "was not changed"
        in Ferocal(ferocal.directory.parent)("demo", make_other(ferocal), status=2).stderr
    )


def decided_by_the_truth(ferocal: Ferocal) -> list[dict[str, Any]]:
    """The effects whose true change is known, one for each workload and configuration."""
    effects = ferocal.json("compare")["effects"]
    return [e for e in effects if e["role"] == "primary" and e["metric"] != "frame-time/1%-low"]


def make_other(ferocal: Ferocal) -> str:
    other = ferocal.directory.parent / "other"
    other.mkdir()
    (other / "study.toml").write_text("# mine")
    return str(other)


def test_compare_selects_sorts_and_takes_another_baseline(demo: tuple[Ferocal, str]) -> None:
    ferocal = demo[0]
    everything = ferocal.json("compare")["effects"]
    other = ferocal.json("compare", "--against", "r64+vulkan")
    assert other["baseline"] == "r64+vulkan"
    change = {(e["label"], e["configuration"]): e["change"] for e in everything if e["primary"]}
    for effect in other["effects"]:
        if effect["configuration"] == "r61+opengl" and effect["primary"]:
            back = change[effect["label"], "r64+vulkan"]
            assert (1 + effect["change"]) * (1 + back) == pytest.approx(1)
    chosen = ferocal.json("compare", "--workload", "show-export", "--configuration", "r61+vulkan")
    assert chosen["effects"] == [
        e for e in everything
        if e["workload"] == "show-export" and e["configuration"] == "r61+vulkan"
    ]  # fmt: skip
    by_size = ferocal.json("compare", "--sort", "size")["effects"]
    largest: dict[str, float] = {}
    for e in by_size:
        size = abs(math.log1p(e["change"])) if e["scale"] == "ratio" else -1.0
        largest[e["label"]] = max(size, largest.get(e["label"], -1.0))
    assert list(largest.values()) == sorted(largest.values(), reverse=True)
    error = ferocal.quick("compare", "--metric", "framerate", status=2)
    assert 'did you mean "frame rate"' in error
    text = ferocal.quick("compare", "--as-factor", "--workload", "show-export")
    factor = 1 / (1 + change["show-export", "r61+vulkan"])
    assert f"{factor:.2f}" in text


def test_gates_hold_or_exit_with_3(demo: tuple[Ferocal, str]) -> None:
    ferocal = demo[0]
    error = ferocal.quick("compare", "--gate", "worse", status=3)
    assert "gate worse: r64+opengl is worse on catalogue-query" in error
    ferocal.quick("compare", "--gate", "worse", "--metric", "frame rate")
    ferocal.quick("compare", "--gate", "not-equivalent", "--workload", "dome-flight", status=3)
    only = ("--workload", "catalogue-query", "--configuration", "r61+vulkan")
    ferocal.quick("compare", "--gate", "not-equivalent", *only)


@pytest.mark.parametrize(
    ("command", "columns"), [("table", "80"), ("table", "140"), ("compare", "80")]
)
def test_tables_fit_their_width_and_are_plain_in_a_pipe(
    demo: tuple[Ferocal, str], command: str, columns: str
) -> None:
    text = demo[0](command, COLUMNS=columns).stdout
    assert max(map(len, text.splitlines())) <= int(columns)
    assert "\x1b" not in text
    assert text == demo[0](command, COLUMNS=columns).stdout


def test_the_report_is_one_file_that_needs_no_other(
    demo: tuple[Ferocal, str], tmp_path: Path
) -> None:
    page = (demo[0].directory / "report.html").read_text(encoding="utf-8")
    assert "<b>r64+vulkan</b> better: <a href=" in page
    assert ">frame rate\u00a0+" in page or ">frame rate +" in page
    assert "dome-flight trades better frame rate for worse stutters" in page
    assert not re.findall(r'(?:src|href)="(?!#)', page)
    # A dot with its line in every cell of which a change is known.
    compared = demo[0].json("compare")
    effects = compared["effects"]
    worse = {e["label"] for e in effects if e["verdict"] == "worse" and e["beyond_margin"]}
    shown = [e for e in effects if e["role"] in ("primary", "secondary") or e["label"] in worse]
    overview = page[: page.index("<nav")]
    drawn = len(re.findall('class="dot"|class="beyond', overview))
    assert drawn == len([*shown, *compared["summaries"]]) > 30
    demo[0]("report", "-o", "against.html", "--against", "r64+vulkan")
    against = (demo[0].directory / "against.html").read_text(encoding="utf-8")
    assert "<b>r61+opengl</b> better: <a href=" in against
    for part in ("L40 x2", "mirrored pairs", "several-factors", "61.4", "300 runs", "dome-node"):
        assert part in page, part
    # Nobody else writes into a copy: the page names the ledger and how many entries it has.
    for name in ("study.toml", "ledger.sqlite"):
        shutil.copy(demo[0].directory / name, tmp_path / name)
    pages = [tmp_path / name for name in ("first.html", "again.html")]
    for path in pages:
        Ferocal(tmp_path)("report", "-o", str(path))
    assert pages[0].read_bytes() == pages[1].read_bytes()
    assert "cannot be written" in demo[0]("report", "-o", "/proc/x.html", status=1).stderr


# In which of the demo's studies there is something of a kind, unless in the first.
CHAPTERS = {
    "claims": "firmware",
    "factors": "firmware",
    "series firmware": "kiosk",
    "compare --across benches": "kiosk",
    "reference": "kiosk",
    "rank": "hosts",
}


@pytest.mark.parametrize("command", OBJECTS)
def test_what_is_printed_as_json_is_what_the_manual_says(
    demo: tuple[Ferocal, str], command: str
) -> None:
    chapter = CHAPTERS.get(command, "")
    directory = demo[0].directory / chapter
    printed = Ferocal(directory).json(*command.split())
    jsonschema.validate(printed, OBJECTS[command].json_schema())
    assert list(printed) == list(OBJECTS[command].model_fields)


def keys_of(document: object) -> set[str]:
    """All keys of a document, at any depth, but those that are names of the user."""
    if isinstance(document, list):
        return {key for item in document for key in keys_of(item)}
    if not isinstance(document, dict):
        return set()
    return {*document, *(key for value in document.values() for key in keys_of(value))}


JSON_COMMANDS = ("compare", "table", "runs", "frames", "soak", "plan", "inspect", "note")


@pytest.mark.parametrize("command", JSON_COMMANDS)
def test_keys_of_json_have_no_blanks(demo: tuple[Ferocal, str], command: str) -> None:
    document = demo[0].json(command)
    keys = keys_of(document)
    assert keys and not [key for key in keys if re.search(r"[\s,]", key)]
    # Numbers say what they are: nothing stands for "this or more".
    assert not re.search(r'"(more_rounds|rounds_80|rounds_90)": (1000|0)\b', json.dumps(document))


def test_effects_without_a_number_of_rounds_say_why(demo: tuple[Ferocal, str]) -> None:
    effects = demo[0].json("compare")["effects"]
    for effect in effects:
        assert (effect["more_rounds"] is None) == (effect["more_rounds_reason"] is not None)
        # What is not judged is in no family.
        assert effect["p_adjusted"] is None or effect["p"] <= effect["p_adjusted"]
    effects = [e for e in effects if e["verdict"] != "not judged"]
    decided = [e for e in effects if e["verdict"] != "inconclusive"]
    assert {e["more_rounds_reason"] for e in decided} == {"decided"}
    beyond = [e for e in effects if e["more_rounds_reason"] not in (None, "decided")]
    assert {e["more_rounds_reason"] for e in beyond} == {"more than 100 rounds would be needed"}


def test_the_manual_names_every_command() -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    assert [name for name, _ in COMMANDS if f"`ferocal {name}" not in readme] == []
    shots = set(re.findall(r"docs/screenshots/[\w.-]+", readme))
    assert shots == {f"docs/screenshots/{p.name}" for p in (ROOT / "docs/screenshots").glob("*")}


STUDY_OF_ONE = """
[study]
question = "Is it refused?"
margin = "5 %"
[factor.mode.level.off]
[factor.mode.level.on]
[workload.flight]
command = "echo score 100"
metric.score = { unit = "points", better = "higher", source = { pattern = "score ([0-9]+)" } }
"""


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["note", "\udcff\udcfe"], "is not a text in UTF-8"),
        (["reference", "add", "--device", "\udcff", "--metric", "score", "--value", "1"], "UTF-8"),
        (["note", ""], "is empty"),
        (["note", "  "], "is empty"),
        (["measure", "--seek", ""], "is empty"),
        (["enter", "flight", "--configuration", "on", "5", "--visit", ""], "is empty"),
        (["enter", "flight", "--configuration", "on", "5", "--date", "9999-12-31T23:59:59-23:59"],
         "in the years 1900 to 2999"),
        (["enter", "flight", "--configuration", "on", "5", "--round", "20260512"], "1<=x<=1000000"),
        (["measure", "--rounds", "2000000"], "1<=x<=1000000"),
        (["report", "-o", "measure.lock"], "is the lock of a study"),
    ],
)  # fmt: skip
def test_odd_words_of_a_call_are_refused(ferocal: Ferocal, words: list[str], told: str) -> None:
    ferocal.write(STUDY_OF_ONE)
    (ferocal.directory / "measure.lock").touch()
    assert told in " ".join(ferocal.refusal(*words).split())
    assert not (ferocal.directory / "ledger.sqlite").exists()


@pytest.mark.parametrize(
    ("answer", "told"),
    [
        ('{"a": " 6_0 "}', "not a number"),
        ('{"a": "\u0663"}', "not a number"),
        ('{"a": 5, "a": 6}', '"a" occurs twice'),
        ('{"a": 1e300}', "outside the range of numbers"),
    ],
)
def test_odd_answers_of_a_program_are_refused(ferocal: Ferocal, answer: str, told: str) -> None:
    (ferocal.directory / "answer").write_text(answer)
    ferocal.write(
        STUDY_OF_ONE.replace("echo score 100", "cat answer").replace(
            '{ pattern = "score ([0-9]+)" }', '{ json = "/a" }'
        )
    )
    ferocal.quick("measure", "--rounds", "1", status=1)
    assert all(told in run["reason"] for run in ferocal.json("runs")["run_list"])


def test_a_new_study_or_a_combined_one_leaves_nothing_half_made(
    ferocal: Ferocal, tmp_path_factory: pytest.TempPathFactory
) -> None:
    ferocal.write(STUDY_OF_ONE)
    ferocal.quick("measure", "--rounds", "1")
    (ferocal.directory / "rows.csv").write_text("configuration,metric,value\noff,s,1\non,s,x\n")
    twice = '[{"configuration": "off", "value": 1, "value": 2}]'
    (ferocal.directory / "rows.json").write_text(twice)
    before = sorted(ferocal.directory.iterdir())
    for words in (["rows.csv"], ["rows.json"], ["rows.csv", "--factor", "configuration"]):
        ferocal.refusal("new", "made", "--from", *words)
        assert sorted(ferocal.directory.iterdir()) == before
    # What a killed one has left goes with the next.
    left = ferocal.directory / ".made-999999999-x"
    left.mkdir()
    (left / "ledger.sqlite").touch()
    other = tmp_path_factory.mktemp("copies") / "study"
    shutil.copytree(ferocal.directory, other)
    ferocal.quick("combine", ".", str(other), "-o", "made", "--yes")
    assert not left.exists()
    assert {path.name for path in (ferocal.directory / "made").iterdir()} >= {"study.toml"}
