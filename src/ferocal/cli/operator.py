"""Asking an operator for readings: typed, or timed with a stopwatch in the terminal."""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from pathlib import Path

import click

from ferocal.cli.common import say
from ferocal.intake.typed import TypedError, TypedMark, TypedReading, parse_mark, parse_typed
from ferocal.measure.progress import Answer, Question
from ferocal.terms.signs import visible
from ferocal.terms.units import TIME

_HELP = (
    "  type the number, with a decimal point or comma, and a unit if it differs;\n"
    "  70..80 for a moving display, 75 (70..80) if it settles on 75, 330..340 of 5 for repeats,\n"
    "  3:25 for minutes and seconds, >38000 or <20 for a bound, 31 (warm) with a note;\n"
    "  append ! to keep an implausible value;\n"
    "  - for a missing value, with a reason (- no sound), or: not active;\n"
    "  b goes back to the previous value; Ctrl-C ends, and keeps everything so far"
)
_KEYS = "  any key starts and stops; then Enter keeps the time, a takes it again, d discards it"


def ask_reading(question: Question) -> Answer | None:
    """Ask until there is an answer; None without a terminal to ask on."""
    if not sys.stdin.isatty():
        return None
    metric = question.metric
    say(
        f"\n{question.configuration}: {question.workload}, run {question.number} of {question.runs}"
    )
    if question.instructions:
        say(f"  {question.instructions}")
    try:
        if question.file:
            return _name_file(question)
        if metric.read == "stopwatch":
            return _time(question)
        return _type(question)
    except (click.Abort, EOFError):
        # Ctrl-C at the question ends measuring as it does anywhere else.
        raise KeyboardInterrupt from None


def _type(question: Question) -> Answer:
    metric = question.metric
    label = visible(f"{question.name}, {metric.unit} (? for help)")
    while True:
        text = click.prompt(label, type=str, prompt_suffix=": ").strip()
        if text == "?":
            click.echo(_HELP)
            continue
        answer = _other_answer(text)
        if answer is not None:
            return answer
        try:
            reading = parse_typed(
                text, metric.unit, plausible=metric.plausible, fellows=question.fellows
            )
        except TypedError as error:
            say(f"  {error}")
            continue
        return Answer(reading)


def _other_answer(text: str) -> Answer | None:
    """What was typed instead of a reading: the way back, or that there is nothing to read."""
    if text.lower() == "b":
        return Answer(back=True)
    mark = parse_mark(text)
    if mark is None:
        return None
    if mark.mark == "absent" and not mark.reason:
        mark = replace(mark, reason=click.prompt("  why", type=str).strip())
    return Answer(mark=mark)


def _name_file(question: Question) -> Answer:
    """Ask for the file of a trace."""
    while True:
        text = click.prompt(f"{question.name}, file of this run", type=str).strip()
        answer = _other_answer(text)
        if answer is not None:
            return answer
        if text:
            return Answer(file=Path(text))


def _time(question: Question) -> Answer:
    """Take a time by key press."""
    unit = question.metric.unit
    click.echo(_KEYS)
    while True:
        click.echo(f"{question.name}, stopwatch: ready", nl=False)
        _wait_for_key()
        start = time.perf_counter()
        click.echo(" … running", nl=False)
        _wait_for_key()
        value = (time.perf_counter() - start) / TIME[unit]
        click.echo(f" … {value:.2f} {unit}")
        key = _decide(question, value)
        if key == "keep":
            return Answer(TypedReading(value))
        if key == "discard":
            return Answer(mark=TypedMark("absent", click.prompt("  why", type=str).strip()))
        if key == "back":
            return Answer(back=True)


def _decide(question: Question, value: float) -> str:
    """What to do with a time: "keep", "again", "discard", or "back" to the value before."""
    try:
        parse_typed(
            f"{value:.4f}",
            question.metric.unit,
            plausible=question.metric.plausible,
            fellows=question.fellows,
        )
    except TypedError as error:
        click.echo(f"  {str(error).partition(';')[0]}; Enter keeps it anyway")
    while True:
        click.echo("  Enter keeps, a again, d discards, b goes back", nl=False)
        key = _wait_for_key()
        click.echo("")
        answer = {"\r": "keep", "\n": "keep", "a": "again", "d": "discard", "b": "back"}.get(key)
        if answer is not None:
            return answer


def _wait_for_key() -> str:
    return click.getchar()
