"""Asking an operator for readings: typed, or timed with a stopwatch in the terminal."""

from __future__ import annotations

import sys
import time

import click

from ferocal.intake.typed import TypedError, TypedReading, parse_typed
from ferocal.measure.progress import Answer, Question
from ferocal.terms.units import TIME

_HELP = (
    "  type the number, with a decimal point or comma, and a unit if it is another one;\n"
    "  70..80 for a display that moves between the two; ! behind it keeps an unlikely value;\n"
    "  - marks the run as failed; Ctrl-C ends, and keeps everything so far"
)
_KEYS = "  any key starts and stops; then Enter keeps the time, a takes it again, d discards it"


def ask_reading(question: Question) -> Answer | None:
    """Ask until there is an answer; None without a terminal to ask on."""
    if not sys.stdin.isatty():
        return None
    metric = question.metric
    click.echo(
        f"\n{question.configuration}: {question.workload}, run {question.number} of {question.runs}"
    )
    if question.instructions:
        click.echo(f"  {question.instructions}")
    try:
        if metric.read == "stopwatch":
            return _time(question)
        return _type(question)
    except (click.Abort, EOFError):
        # Ctrl-C at the question ends measuring as it does anywhere else.
        raise KeyboardInterrupt from None


def _type(question: Question) -> Answer:
    metric = question.metric
    label = f"{question.name}, {metric.unit} (? helps)"
    while True:
        text = click.prompt(label, type=str, prompt_suffix=": ").strip()
        if text == "?":
            click.echo(_HELP)
            continue
        if text == "-":
            return Answer(None, click.prompt("  why", type=str).strip())
        try:
            reading = parse_typed(
                text, metric.unit, plausible=metric.plausible, fellows=question.fellows
            )
        except TypedError as error:
            click.echo(f"  {error}")
            continue
        return Answer(reading)


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
            return Answer(None, click.prompt("  why", type=str).strip())


def _decide(question: Question, value: float) -> str:
    """What to do with a time: "keep", "again" or "discard"."""
    try:
        parse_typed(
            f"{value:.4f}",
            question.metric.unit,
            plausible=question.metric.plausible,
            fellows=question.fellows,
        )
    except TypedError as error:
        click.echo(f"  is that right? {str(error).partition(';')[0]}")
    while True:
        click.echo("  Enter keeps, a again, d discards", nl=False)
        key = _wait_for_key()
        click.echo("")
        answer = {"\r": "keep", "\n": "keep", "a": "again", "d": "discard"}.get(key)
        if answer is not None:
            return answer


def _wait_for_key() -> str:
    return click.getchar()
