"""Readings taken from what a run did and what it wrote."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import Any

from ferocal.bench.execution import Completed
from ferocal.bench.output import OutputError, find_in_json, parse_output
from ferocal.ledger.records import Value
from ferocal.measure.traces import Written, extract_traces
from ferocal.study.metrics import Metric
from ferocal.study.sources import SOURCES, JsonSource, PatternSource, compile_pattern
from ferocal.terms.bounds import BEYOND, BEYOND_SAMPLES, MOST_SAMPLES, beyond
from ferocal.terms.numbers import plain_number
from ferocal.terms.wording import shortened
from ferocal.traces.capture import Trace, TraceError

# So many places that match are counted.
_MOST_COUNTED = 1000


class ExtractionError(ValueError):
    """A run that ended well but did not yield the number that was asked of it."""


def extract_values(
    name: str,
    metrics: dict[str, Metric],
    completed: Completed,
    written: Written,
) -> tuple[list[Value], list[Trace]]:
    """The values of all metrics of workload ``name``, and the traces among them.

    ``written`` are the files that the run wrote.

    Raises
    ------
    ExtractionError
        When a metric is not to be found, or is not a finite number.
    """
    document: list[Any] = []  # the output parsed as JSON, once, when it is asked for
    values, traces = [], []
    for metric_name, metric in metrics.items():
        try:
            if metric.kind != "value":
                computed, captured = extract_traces(name, metric_name, metric, completed, written)
                values += computed
                traces += captured
                continue
            value, bound = _extract(metric, completed, document)
            samples = _count(metric, completed, document)
        except (ExtractionError, OutputError, TraceError) as error:
            raise ExtractionError(f"{metric_name}: {error}") from None
        values.append(Value(name, metric_name, metric.unit, value, samples, bound=bound))
    return values, traces


def _extract(metric: Metric, completed: Completed, document: list[Any]) -> tuple[float, str | None]:
    """A value, and "<" where it is only known to be below that."""
    source = metric.source
    if isinstance(source, (JsonSource, PatternSource)):
        return _from_output(source, completed, document), None
    assert isinstance(source, str)
    amount = {
        "wall-time": completed.wall,
        "cpu-time": completed.cpu,
        "peak-memory": completed.peak_memory,
    }[source]
    if amount is None:
        raise ExtractionError(f"this system does not report the {source} of a process")
    hidden = source == "peak-memory" and amount <= completed.memory_floor
    size = SOURCES[source].units[metric.unit]
    return (completed.memory_floor if hidden else amount) / size, "<" if hidden else None


def _count(metric: Metric, completed: Completed, document: list[Any]) -> int | None:
    """How many single values the reading summarises, as the workload says."""
    if metric.samples is None:
        return None
    count = _from_output(metric.samples, completed, document)
    if not 1 <= count <= MOST_SAMPLES or count != int(count):
        raise ExtractionError(f"samples: {count:g} {BEYOND_SAMPLES}")
    return int(count)


def _from_output(
    source: JsonSource | PatternSource, completed: Completed, document: list[Any]
) -> float:
    if isinstance(source, PatternSource):
        return _from_pattern(source.pattern, completed)
    if not document:
        document.append(parse_output(completed))
    return _from_json(source.json_pointer, document[0])


def _from_json(pointer: str, document: Any) -> float:
    found = find_in_json(document, pointer)
    if isinstance(found, bool) or not isinstance(found, (int, float, str)):
        raise ExtractionError(f'at "{pointer}" is {_kind_of(found)}, not a number')
    return _finite(found, f'at "{pointer}"')


def _kind_of(found: Any) -> str:
    if isinstance(found, (dict, list)):
        return "an object" if isinstance(found, dict) else "a list"
    return json.dumps(found)


def _from_pattern(pattern: str, completed: Completed) -> float:
    try:
        found = find_matches(completed, pattern, most=_MOST_COUNTED)
    except SearchError as error:
        raise ExtractionError(str(error)) from None
    if not found:
        raise ExtractionError(f"nothing in the output matches {pattern!r}")
    if len(found) > 1:
        count = f"{len(found)} or more" if len(found) == _MOST_COUNTED else str(len(found))
        raise ExtractionError(f"{count} places in the output match {pattern!r}, not one")
    return _finite(found[0], f"what {pattern!r} found")


def _finite(value: float | str, where: str) -> float:
    try:
        number = plain_number(value) if isinstance(value, str) else float(value)
    except (ValueError, OverflowError):
        raise ExtractionError(f"{where} is {shortened(repr(value))}, not a number") from None
    if not math.isfinite(number):
        raise ExtractionError(f"{where} is {number}, not a finite number")
    if beyond(number):
        raise ExtractionError(f"{where}: {number:g} {BEYOND}")
    return number


# Characters read at a time, the longest match in an output that is too long for one piece,
# and how much is kept of what lies before the place where the search continues.
_PIECE = 2**22
_LONGEST = 2**16
_BEFORE = 2**16


class SearchError(ValueError):
    """An output in which a pattern cannot be looked for."""


def find_matches(completed: Completed, pattern: str, *, most: int) -> list[str]:
    """What the only group of a pattern matches in an output, at most so many times.

    Raises
    ------
    SearchError
        When a match in a long output is itself longer than 65,536 characters, or the output
        cannot be read.
    """
    expression = compile_pattern(pattern)
    if not completed.is_cut:
        matches = expression.finditer(completed.text)
    elif completed.whole is None:
        raise SearchError("the middle of the output was not kept, so it may be there: print less")
    else:
        matches = _search_file(completed.whole, expression)
    try:
        return [match.group(1) or "" for match in islice(matches, most)]
    except OSError as error:
        raise SearchError(f"the output cannot be read: {error.strerror}") from None


def _search_file(path: Path, expression: re.Pattern[str]) -> Iterator[re.Match[str]]:
    """The matches in a file, the same as if it were searched in one piece."""
    text, start, last = "", 0, False
    with path.open(encoding="utf-8", errors="replace", newline="") as file:
        while not last:
            piece = file.read(_PIECE)
            text, last = text + piece, not piece
            # What begins later may continue in the next piece.
            safe = len(text) + 1 if last else max(start, len(text) - _LONGEST)
            for match in expression.finditer(text, start):
                if match.start() >= safe:
                    break
                if match.end() == len(text) and not last:
                    raise SearchError(f"what {expression.pattern!r} matches has no end in sight")
                yield match
                start = match.end()
            start = max(start, min(safe, len(text)))
            # What lies before still matters to ^ and \b, and to what looks behind.
            cut = max(0, start - _BEFORE)
            text, start = text[cut:], start - cut
