"""The face of the program: help, start-up, the demo, the documents."""

from __future__ import annotations

import json
import math
import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Ferocal
from ferocal.analysis.caveats.table import CAVEATS
from ferocal.cli.main import SECTIONS
from ferocal.cli.main import ferocal as group

ROOT = Path(__file__).parent.parent
COMMANDS = [(name, summary) for section in SECTIONS.values() for name, summary in section.items()]
HEAVY = ("numpy", "scipy", "pandas", "matplotlib", "sqlalchemy")


@pytest.mark.parametrize("arguments", [["--help"], *[[name, "--help"] for name, _ in COMMANDS]])
def test_help_imports_nothing_heavy(arguments: list[str]) -> None:
    code = (
        "import sys, contextlib\nfrom ferocal.__main__ import main\n"
        f"sys.argv = ['ferocal', *{arguments!r}]\n"
        "with contextlib.suppress(SystemExit): main()\n"
        f"print('HEAVY', [m for m in {HEAVY!r} if m in sys.modules])"
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
    places = [output.index(f"\n  {name} ") for name, _ in COMMANDS]
    assert places == sorted(places)


def test_an_unknown_command_is_a_usage_error(ferocal: Ferocal) -> None:
    assert "comprae" in ferocal("comprae", status=2).stderr


def test_the_demo_finds_what_is_true(demo: tuple[Ferocal, str]) -> None:
    ferocal, output = demo
    truth = output.split("what is true is known")[1]
    rows = re.findall(r"(yes|no)\s*$", truth, flags=re.MULTILINE)
    assert len(rows) == 12
    assert rows.count("yes") >= 11
    verdicts = {
        (e["workload"], e["configuration"]): e["verdict"]
        for e in ferocal.json("compare")["effects"]
        if e["primary"]
    }
    assert verdicts["dome-flight", "r64+vulkan"] == "better"
    assert verdicts["show-export", "r61+vulkan"] == "better"
    assert verdicts["show-export", "r64+opengl"] == "equivalent"
    assert verdicts["catalogue-query", "r64+opengl"] == "worse"
    assert verdicts["cold-start", "r64+vulkan"] == "better"
    assert output.count("prevented: ") == 1
    assert "The bench ignored a switch" in output
    assert (
        "left as it is"
        in Ferocal(ferocal.directory.parent)("demo", make_other(ferocal), status=2).stderr
    )


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
    change = {(e["workload"], e["configuration"]): e["change"] for e in everything if e["primary"]}
    for effect in other["effects"]:
        if effect["configuration"] == "r61+opengl" and effect["primary"]:
            back = change[effect["workload"], "r64+vulkan"]
            assert (1 + effect["change"]) * (1 + back) == pytest.approx(1)
    chosen = ferocal.json("compare", "--workload", "show-export", "--configuration", "r61+vulkan")
    assert chosen["effects"] == [
        e for e in everything
        if e["workload"] == "show-export" and e["configuration"] == "r61+vulkan"
    ]  # fmt: skip
    by_size = ferocal.json("compare", "--sort", "size")["effects"]
    sizes = [abs(math.log1p(e["change"])) for e in by_size if e["scale"] == "ratio"]
    assert sizes == sorted(sizes, reverse=True)
    error = ferocal("compare", "--metric", "framerate", status=2).stderr
    assert 'did you mean "frame-rate"' in error
    text = ferocal("compare", "--times", "--workload", "show-export").stdout
    factor = 1 / (1 + change["show-export", "r61+vulkan"])
    assert f"{factor:.2f}" in text


def test_gates_hold_or_exit_with_3(demo: tuple[Ferocal, str]) -> None:
    ferocal = demo[0]
    error = ferocal("compare", "--gate", "worse", status=3).stderr
    assert "gate worse: r64+opengl on catalogue-query throughput is worse" in error
    ferocal("compare", "--gate", "worse", "--workload", "dome-flight")
    ferocal("compare", "--gate", "not-equivalent", "--workload", "dome-flight", status=3)
    only = ("--workload", "catalogue-query", "--configuration", "r61+vulkan")
    ferocal("compare", "--gate", "not-equivalent", *only)


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


def test_the_report_is_one_file_that_needs_no_other(demo: tuple[Ferocal, str]) -> None:
    page = (demo[0].directory / "report.html").read_text(encoding="utf-8")
    assert "Yes: 3 of 3 configurations change a score" in page
    assert not re.findall(r'(?:src|href)="(?!#)', page)
    assert page.count("<svg") == 1
    for part in ("L40 x2", "mirrored pairs", "several-factors", "61.4", "300 runs", "dome-node"):
        assert part in page, part
    demo[0]("report", "-o", "again.html")
    assert (demo[0].directory / "again.html").read_text(encoding="utf-8") == page
    assert "cannot be written" in demo[0]("report", "-o", "/proc/x.html", status=1).stderr


def test_the_example_of_this_machine(ferocal: Ferocal) -> None:
    example = ROOT / "examples" / "this-machine"
    subprocess.run(["cp", "-r", f"{example}/.", str(ferocal.directory)], check=True)
    text = (ferocal.directory / "study.toml").read_text()
    text = text.replace("runs = 3", "runs = 1").replace("warmups = 1", "warmups = 0")
    ferocal.write(text)
    ferocal("measure", "--rounds", "1")
    changes = {
        (e["workload"], e["configuration"]): e["change"] for e in ferocal.json("compare")["effects"]
    }
    assert changes["large-blocks", "keep+rollback"] > 0.5
    assert changes["append-log", "default+write-ahead"] > 0.5
    # One round on a busy machine says little of what does not change, but it is not this much.
    sizes = {
        w: abs(math.log1p(change)) for (w, name), change in changes.items() if "keep+r" in name
    }
    assert sizes["small-objects"] < sizes["large-blocks"]
    # A C library that ignores the settings fails the check.
    ferocal.write(text.replace("MALLOC_", "IGNORED_"))
    error = ferocal("measure", "--rounds", "2", status=1).stderr
    assert 'allocator=keep is not active: expected equals "kept", seen "handed back"' in error


def test_the_documents_name_every_key_and_caveat(demo: tuple[Ferocal, str]) -> None:
    manual = (ROOT / "docs" / "json.md").read_text(encoding="utf-8")
    result = demo[0].json("compare")
    keys = [*result, *result["effects"][0]]
    keys += demo[0].json("runs")["runs"][0]
    keys += demo[0].json("table")["cells"][0]
    plan = demo[0].json("plan")
    keys += [*plan, *plan["cost"], *plan["outlook"][0], *plan["outlook"][0]["components"]]
    keys += demo[0].json("inspect")
    keys += CAVEATS
    assert [key for key in keys if f"`{key}`" not in manual] == []


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
