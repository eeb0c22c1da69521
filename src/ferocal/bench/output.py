"""What a run reports in its output, as JSON."""

from __future__ import annotations

from typing import Any

from jsonpointer import JsonPointer, JsonPointerException, resolve_pointer

from ferocal.bench.execution import READ_LIMIT, Completed
from ferocal.terms.json_objects import Twofold, parse
from ferocal.terms.numbers import grouped


class OutputError(ValueError):
    """An output that does not have what is looked for."""


def parse_output(completed: Completed) -> Any:
    """The output of a run as JSON: all of it, or its last line.

    Raises
    ------
    OutputError
        When neither is JSON, or there is too much of it.
    """
    if completed.stdout_size > READ_LIMIT:
        raise OutputError(
            f"the output has {grouped(completed.stdout_size)} bytes; JSON is read up to "
            f"{grouped(READ_LIMIT)}"
        )
    text = completed.text.strip()
    if not text:
        raise OutputError("the output is empty, not JSON")
    # Programs often log first and print their result last.
    problem: object = None
    for part in (text, text.splitlines()[-1]):
        try:
            return parse(part)
        except RecursionError:
            problem = "it is nested too deep"
        except ValueError as error:  # also for whole numbers of thousands of digits
            problem = error
    raise OutputError(f"neither the output nor its last line is JSON: {problem}")


def find_in_json(document: Any, pointer: str) -> Any:
    """What is at a JSON Pointer (RFC 6901) of a document.

    Raises
    ------
    OutputError
        When nothing is there.
    """
    try:
        found, node = resolve_pointer(document, pointer), document
        path = JsonPointer(pointer)
        for part in path.parts:
            if isinstance(node, Twofold) and part in node.twice:
                break
            node = path.walk(node, part)
        else:
            return found
    except (JsonPointerException, ValueError):
        raise OutputError(f'nothing at "{pointer}" in the output') from None
    raise OutputError(f'"{part}" occurs twice in one object of the output')
