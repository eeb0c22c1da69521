"""JSON as others write it, in which a name may stand twice in one object."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Any


class Twofold(dict[str, Any]):
    """An object in which names stand twice; it has the last of their values."""

    def __init__(self, pairs: Sequence[tuple[str, Any]]) -> None:
        super().__init__(pairs)
        names = [name for name, _ in pairs]
        self.twice = {name for name in names if names.count(name) > 1}


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    return found if len(found) == len(pairs) else Twofold(pairs)


def _strict_object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = _object(pairs)
    if isinstance(found, Twofold):
        raise ValueError(f'"{min(found.twice)}" occurs twice in one object')
    return found


def _loads(text: str, hook: Callable[[list[tuple[str, Any]]], Any]) -> Any:
    try:
        return json.loads(text, object_pairs_hook=hook)
    except json.JSONDecodeError as error:
        line = f"line {error.lineno}, " if "\n" in text.strip() else ""
        raise ValueError(f"see {line}column {error.colno}") from None
    except ValueError as error:
        # What the limit of Python says; errors of our own begin with the name in quotes.
        if str(error).startswith("Exceeds the limit"):
            raise ValueError("a whole number has thousands of digits") from None
        raise


def parse_strictly(text: str) -> Any:
    """A document in which no name stands twice in one object; errors as of `parse`."""
    return _loads(text, _strict_object)


def parse(text: str) -> Any:
    """A document whose objects are `Twofold` where a name stands twice.

    Raises
    ------
    ValueError
        When it is not JSON, also for whole numbers of thousands of digits.
    RecursionError
        When it is nested too deep.
    """
    return _loads(text, _object)
