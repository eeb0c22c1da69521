"""One document, every medium: the same words in a terminal, on a page and in Markdown."""

from __future__ import annotations

import html
import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import Ferocal
from ferocal.documents.objects.index import OBJECTS

COMMANDS = (
    "compare", "compare --detail", "compare --between workload", "table", "factors", "rank",
    "claims", "reference", "frames", "soak", "runs", "plan", "plan --design separate", "inspect",
    "inspect --kept", "inspect --integrity", "note", "noise-floor", "series firmware",
    "compare --across benches",
)  # fmt: skip
# By study of the demo, commands for which it has nothing.
NOTHING = {
    ".": ("claims", "reference", "series firmware", "compare --across benches"),
    "firmware": ("reference", "series firmware", "compare --across benches", "frames", "soak"),
    "kiosk": ("claims", "frames", "compare --between workload", "plan --design separate"),
    "hosts": ("claims", "frames", "soak", "reference", "series firmware",
              "compare --across benches", "plan --design separate"),
}  # fmt: skip
# What a page shows of a chart, and a terminal leaves to a figure.
CALLS = [(study, command) for study, no in NOTHING.items() for command in COMMANDS
         if command not in no]  # fmt: skip


def words_of_page(text: str) -> Counter[str]:
    """The words that a reader of a page sees."""
    body = re.sub(r"<(style|title|footer|svg).*?</\1>", " ", text, flags=re.DOTALL)
    return words(html.unescape(re.sub(r"<[^>]*>", " ", body)))


def words(text: str) -> Counter[str]:
    """Words and numbers, without what only separates them and the marks of footnotes."""
    text = re.sub("[⁰¹²³⁴⁵⁶⁷⁸⁹]", " ", text)
    return Counter(re.findall(r"[\w.%±+−×]*\w[\w%]*", text.replace("\N{NO-BREAK SPACE}", " ")))


@pytest.mark.parametrize(("study", "command"), CALLS)
def test_all_media_say_the_same(
    demo: tuple[Ferocal, str], monkeypatch: pytest.MonkeyPatch, study: str, command: str
) -> None:
    ferocal = Ferocal(demo[0].directory / study)
    monkeypatch.setenv("COLUMNS", "1000")
    said = command.split()
    text = ferocal.quick(*said)
    page = words_of_page(ferocal.quick(*said, "--format", "html"))
    marked = words(re.sub(r"\\(.)", r"\1", ferocal.quick(*said, "--format", "markdown")))
    shown = words(text)
    # A screen has room for some caveats only, and says how to see the others.
    short = set(words("more ferocal compare detail --detail")) | {str(n) for n in range(10)}
    for medium in (page, marked):
        missing = {word: n for word, n in (shown - medium).items() if word not in short}
        assert missing == {}, missing
    document = json.loads(ferocal.quick(*said, "--json"))
    name = command if command in OBJECTS else "compare --between api"
    name = {"compare --detail": "compare", "soak": "frames"}.get(command, name)
    jsonschema.validate(document, OBJECTS[name].json_schema())


def test_a_file_has_the_format_of_its_name(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    ferocal = demo[0]
    begins = {"html": "<!DOCTYPE html>", "md": "# Do", "json": "{", "txt": "Do graphics"}
    for suffix, begin in begins.items():
        target = tmp_path / f"result.{suffix}"
        assert ferocal.quick("compare", "-o", str(target)) == f"wrote {target}\n"
        assert target.read_text(encoding="utf-8").startswith(begin)
    report = tmp_path / "report.md"
    ferocal.quick("report", "-o", str(report))
    assert "\n## How it was measured\n" in report.read_text(encoding="utf-8")
    other = tmp_path / "mine.md"
    other.write_text("my own notes")
    assert "not written by Ferocal" in ferocal.refusal("compare", "-o", str(other))
    assert "name the file" in ferocal.refusal("compare", "-o", str(tmp_path / "x.docx"))
    assert "exclude each other" in ferocal.refusal("compare", "--json", "--format", "html")
    assert "exclude each other" in ferocal.refusal("inspect", "--kept", "--integrity")


def test_markdown_takes_nothing_of_the_user_for_markup(ferocal: Ferocal) -> None:
    ferocal.write(
        '[study]\nquestion = "# Is *a* <b> | `c`?"\nmargin = "5 %"\n[factor.f.level.a]\n'
        '[factor.f.level.b]\n[workload.w]\n[workload.w.metric.m]\nunit = "a|b"\nbetter = "higher"\n'
    )
    for name in ("a", "b"):
        ferocal.quick("enter", "w", "10", "12", "--configuration", name)
    text = ferocal.quick("compare", "--format", "markdown")
    assert text.startswith("# \\# Is \\*a\\* \\<b\\> \\| \\`c\\`?\n")
    rows = [line for line in text.splitlines() if line.startswith("|")]
    assert len({len(re.findall(r"(?<!\\)\|", row)) for row in rows}) == 1


def test_every_output_has_a_schema(ferocal: Ferocal) -> None:
    for name in OBJECTS:
        schema = json.loads(ferocal.quick("schema", name))
        assert schema["type"] == "object" and schema["properties"]
    assert "no output is called" in ferocal.refusal("schema", "nothing")
    types: dict[str, set[str]] = {}
    for entry in OBJECTS.values():
        schema = entry.json_schema()
        for part in (schema, *schema.get("$defs", {}).values()):
            for name, value in part["properties"].items():
                types.setdefault(name, set()).add(type_of(value))
                assert value["description"], (part["title"], name)
    # One name has one type, wherever it stands; what may be null aside.
    assert {name: kinds for name, kinds in types.items() if len(kinds) > 1} == {}
    assert all(re.fullmatch("[a-z0-9_]+", name) for name in types)


def type_of(value: dict[str, Any]) -> str:
    """The type of a key, what may be null aside."""
    (kind,) = [part for part in value.get("anyOf", [value]) if part.get("type") != "null"]
    return "object" if "$ref" in kind else str(kind["type"])
