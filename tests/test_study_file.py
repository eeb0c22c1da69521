"""The study file: what it may say, and how mistakes are told."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import pytest

from conftest import Ferocal
from ferocal.errors import StudyFileError
from ferocal.study.load import load_study

GOOD = """
[study]
question = "Which is smoother?"
margin = "2 %"
[factor.driver.level.r61]
environment = { DRIVER = "r61" }
[factor.driver.level.r64]
prefix = "launch --driver 'r 64'"
[factor.api.level.opengl]
[factor.api.level.vulkan]
environment = { API = "vulkan" }
[workload.flight]
command = "fly --fast"
[workload.flight.metric.fps]
unit = "fps"
better = "higher"
source = { json = "/fps" }
"""

MISTAKES = [
    ('command = "fly --fast"', 'command = "fly\\u0000"', ["workload.flight", "NUL"]),
    ('{ API = "vulkan" }', '{ "A=B" = "x" }', ["not a variable name", "line "]),
    ('{ API = "vulkan" }', '{ API = "a\\u0000b" }', ["environment.API", "NUL"]),
    (
        'source = { json = "/fps" }',
        'source = { json = "/fps", pattern = "(.*)" }',
        ["source.pattern: cannot be combined with the other keys here"],
    ),
    ('source = { json = "/fps" }', 'source = "wal-time"', ["'wal-time' is not 'wall-time'"]),
    (
        "[factor.driver.level.r61]",
        '[factor.driver.level.r61]\nverify = [{ running = "programm", equals = "x" }]',
        ["verify.0.running", "'program', 'architecture', 'libraries', 'files' or 'root'"],
    ),
    (
        "[factor.driver.level.r61]",
        '[factor.driver.level.r61]\nswitch = [{ comand = "x" }, "y"]',
        ["switch.0.command: is missing", 'switch.0.comand: unknown key; did you mean "command"?'],
    ),
    ('margin = "2 %"', 'margn = "2 %"', ["study.margn", 'did you mean "margin"', "line 4"]),
    ('margin = "2 %"', "margin = 2", ["study.margin", '"2 %"', "line 4"]),
    ('margin = "2 %"', 'margin = "2 s"', ["study.margin", "%"]),
    ('margin = "2 %"', 'margin = "-2 %"', ["study.margin", "above 0 %"]),
    ('margin = "2 %"', 'margin = "nan %"', ["study.margin", "not a number with a unit"]),
    ('margin = "2 %"', "", ["study.margin: is missing"]),
    (
        'margin = "2 %"',
        'margin = "2 %"\nrounds = 0',
        ["study.rounds", "must be at least 1; 0 is not"],
    ),
    ('margin = "2 %"', 'margin = "2 %"\nruns = "many"', ["study.runs", "many"]),
    ('margin = "2 %"', 'margin = "2 %', ["line 4", "not valid TOML"]),
    ('better = "higher"', 'better = "more"', ["workload.flight.metric.fps.better", "'higher'"]),
    ('source = { json = "/fps" }', 'source = { jsn = "/fps" }', ["source", 'did you mean "json"']),
    ('source = { json = "/fps" }', 'source = { json = "fps" }', ['write "/fps"']),
    ('source = { json = "/fps" }', 'source = { pattern = "[0-9]+" }', ["exactly one group"]),
    ('source = { json = "/fps" }', 'source = { pattern = "(" }', ["not a regular expression"]),
    ('source = { json = "/fps" }', 'source = "wall-time"', ["wall-time is read in s, ms"]),
    (
        'command = "fly --fast"',
        'command = "fly \'fast"',
        ["workload.flight", "a quote is not closed"],
    ),
    ('command = "fly --fast"', "command = []", ["workload.flight", "cannot have a `source`"]),
    ('command = "fly --fast"', 'command = "fly"\ntimeout = "5 parsecs"', ["timeout", "parsecs"]),
    ('API = "vulkan"', 'DRIVER = "r64"', ["contradicts driver=r61", "environment.DRIVER"]),
    ("[factor.api.level.vulkan]", "[factor.api.level.'a b']", ["not a name"]),
]

BASELINES = [
    ('baseline = { driver = "r65", api = "opengl" }', ["baseline.driver", 'did you mean "r64"']),
    (
        'baseline = { driver = "r61" }',
        ["configuration.baseline", 'needs a level of the factor "api"'],
    ),
    ('baseline = { drivr = "r61", api = "opengl" }', ['did you mean "driver"']),
    ('design = "listed"', ["configuration.named.NAME"]),
    ('design = "half"', ["configuration.design", "'full', 'one-factor' or 'listed'"]),
]


def mistakes_in(directory: Path, text: str) -> str:
    (directory / "study.toml").write_text(text, encoding="utf-8")
    with pytest.raises(StudyFileError) as caught:
        load_study(directory)
    return str(caught.value)


@pytest.mark.parametrize(("good", "bad", "message"), MISTAKES)
def test_a_mistake_is_told_with_key_and_what_would_be_right(
    tmp_path: Path, good: str, bad: str, message: list[str]
) -> None:
    assert good in GOOD
    error = mistakes_in(tmp_path, GOOD.replace(good, bad))
    assert all(text in error for text in ["study.toml", *message]), error


@pytest.mark.parametrize(("line", "message"), BASELINES)
def test_a_wrong_combination_is_told(tmp_path: Path, line: str, message: list[str]) -> None:
    error = mistakes_in(tmp_path, f"{GOOD}\n[configuration]\n{line}\n")
    assert all(text in error for text in message), error


def test_all_mistakes_are_told_at_once(ferocal: Ferocal) -> None:
    ferocal.write(
        GOOD.replace('"2 %"', '"2"').replace("fps]", "fps]\nunti = 1").replace("better", "bettr")
    )
    error = ferocal.refusal("inspect")
    assert "4 mistakes" in error
    assert all(key in error for key in ("study.margin", "fps.unti", "fps.bettr", "fps.better"))


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "study: is missing"),
        (b"\xff\xfe[study]", "not UTF-8"),
        (b"# x\n" * 1_100_000, "at most 4\u202f194\u202f304"),
    ],
)
def test_files_that_are_no_study_are_refused(
    ferocal: Ferocal, content: bytes, message: str
) -> None:
    (ferocal.directory / "study.toml").write_bytes(content)
    assert message in ferocal.refusal("measure")
    assert [path.name for path in ferocal.directory.iterdir()] == ["study.toml"]


def test_a_missing_study_says_how_to_make_one(ferocal: Ferocal) -> None:
    assert "ferocal new DIR" in ferocal.refusal("compare")


@pytest.mark.parametrize(
    ("design", "names"),
    [
        ("", ["r61+opengl", "r61+vulkan", "r64+opengl", "r64+vulkan"]),
        ('design = "one-factor"', ["r61+opengl", "r61+vulkan", "r64+opengl"]),
        (
            'baseline = {driver="r64", api="vulkan"}',
            ["r64+vulkan", "r61+opengl", "r61+vulkan", "r64+opengl"],
        ),
        (
            'design = "listed"\nbaseline = "new"\n[configuration.named.old]\ndriver = "r61"\n'
            'api = "opengl"\n[configuration.named.new]\ndriver = "r64"\napi = "vulkan"',
            ["new", "old"],
        ),
    ],
)
def test_designs_compose_levels_in_factor_order(
    tmp_path: Path, design: str, names: list[str]
) -> None:
    (tmp_path / "study.toml").write_text(f"{GOOD}\n[configuration]\n{design}\n")
    study = load_study(tmp_path)
    assert [c.name for c in study.configurations] == names
    assert study.baseline == names[0]
    composed = next(
        c
        for c in study.configurations
        if c.levels == {"driver": "r64", "api": "vulkan"} or "r64" in c.name
    )
    assert composed.prefix == ("launch", "--driver", "r 64")


def test_equal_level_names_are_told_apart(tmp_path: Path) -> None:
    text = (
        GOOD.replace("r61]", "on]")
        .replace("r64]", "off]")
        .replace("opengl]", "on]")
        .replace("vulkan]", "off]")
    )
    (tmp_path / "study.toml").write_text(text)
    assert load_study(tmp_path).baseline == "driver=on+api=on"


def test_inspect_shows_the_study_as_understood(ferocal: Ferocal) -> None:
    ferocal.write(GOOD + "[bench.node-7]\nfacts = { projector = 'L40 x2' }\n")
    seen = ferocal.json("inspect")
    (bench,) = seen["benches"]
    assert bench["name"] == "node-7"
    known = [*bench["facts"], *seen["machine"]]
    facts = {fact["name"]: (fact["fact"], fact["kind"]) for fact in known}
    assert facts["projector"] == ("L40 x2", "declared")
    assert facts["threads"][1] == "resource"
    assert [len(order) for order in seen["order"]] == [4] * 6
    assert seen["runs"] == 4 * 6 * 2
    text = ferocal("inspect").stdout
    assert all(
        word in text for word in ("node-7", "r61+vulkan", "fps, fps, higher is better", "/fps")
    )
    assert max(map(len, text.splitlines())) <= 100


def test_the_schema_knows_every_table(ferocal: Ferocal) -> None:
    schema = json.loads(ferocal.quick("schema", "study"))
    assert set(tomllib.loads(GOOD)) <= set(schema["properties"])
    assert schema["additionalProperties"] is False
