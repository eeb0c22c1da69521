"""What names, outputs and notes can do to a terminal: nothing but be read."""

from __future__ import annotations

import json
import unicodedata
from pathlib import Path

import pexpect
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings

# Sets the title of a window, clears the screen, turns what follows around, goes back, rings.
HOSTILE = "\x1b]0;x\x07\x1b[2J\u202e\u2066\x08\x0b\x7f\x9b3m"
STUDY = f"""
[study]
question = {json.dumps("Is it faster?" + HOSTILE)}
margin = "5 %"
rounds = 2
runs = 1
[bench.dome-node]
[bench.dome-node.facts]
screen = {json.dumps("wide" + HOSTILE)}
[factor.mode.level.off]
[factor.mode.level.on]
verify = [{{ shell = true, command = '''printf 'on%s' "$HOSTILE"''', contains = "on" }}]
[workload.flight]
shell = true
command = '''
[ "$FEROCAL_VISIT" != 2 ] || {{ printf 'oh%s' "$HOSTILE" >&2; exit 3; }}; echo score 1'''
version = '''printf '1%s' "$HOSTILE"'''
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = "score ([0-9.]+)" }}
[claim.faster]
says = {json.dumps("It is faster." + HOSTILE)}
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""
READING = (
    "inspect", "plan", "compare", "compare --detail", "runs", "table", "claims", "note", "rank",
    "reference", "chart", "factors",
)  # fmt: skip


def hidden(text: str) -> set[str]:
    """Signs that do something, or that nobody sees."""
    categories = ("Cc", "Cf", "Cs", "Zl", "Zp")
    return {sign for sign in text if unicodedata.category(sign) in categories} - {"\n", "\t"}


@pytest.fixture
def hostile(ferocal: Ferocal) -> Ferocal:
    ferocal.write(STUDY)
    return ferocal


def test_nothing_hidden_is_printed_or_put_into_the_page(hostile: Ferocal) -> None:
    done = hostile("measure", status=1, HOSTILE=HOSTILE)
    assert "oh" in done.stdout and "\\x1b" in done.stdout
    assert hidden(done.stdout + done.stderr) == set()
    hostile("note", f"flickers{HOSTILE}")
    poster = ("--metric", "flight score", "--value", "2", "--source", f"poster{HOSTILE}")
    hostile("reference", "add", "--device", f"Halden 5{HOSTILE}", *poster)
    for command in READING:
        status, out, error = hostile.attempt(*command.split())
        assert status == 0, error
        assert hidden(out + error) == set(), command
    for command in ("compare", "runs", "claims", "note", "reference"):
        text = hostile.quick(command, "--json")
        assert hidden(text) == set(), command
        json.loads(text)
    assert hostile.json("note")["notes"][0]["text"] == f"flickers{HOSTILE}"
    hostile("report")
    page = (hostile.directory / "report.html").read_text(encoding="utf-8")
    assert "flickers\\x1b" in page
    assert hidden(page) == set()
    refused = hostile.refusal("compare", "--metric", f"x{HOSTILE}")
    assert hidden(refused) == set()
    assert hidden(hostile("compare", f"--x{HOSTILE}", status=2).stderr) == set()


def test_a_bar_on_a_terminal_shows_them_too(hostile: Ferocal, tmp_path: Path) -> None:
    terminal = pexpect.spawn(
        PROGRAM, ["measure"], cwd=str(tmp_path), encoding="utf-8", dimensions=(30, 120),
        env={**surroundings(), "HOSTILE": HOSTILE},
    )  # fmt: skip
    terminal.expect(pexpect.EOF, timeout=PATIENCE)
    shown = str(terminal.before)
    assert "oh\\x1b]0;x" in shown
    for sign in ("\x1b]0;", "\x1b[2J", "\u202e", "\u2066", "\x07", "\x0b", "\x9b"):
        assert sign not in shown
