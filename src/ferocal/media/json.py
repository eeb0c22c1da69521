"""JSON text: numbers never rounded, what is unknown is null."""

from __future__ import annotations

import json
import math
from typing import Any

from ferocal.terms.signs import spelled


def dumps(document: Any) -> str:
    """JSON text of a document in which NaN and infinities become null.

    Characters that are invisible, or change how others look, are escaped in its strings.
    """
    # Lists of objects may be long: one line each, which the fast encoder writes.
    if isinstance(document, dict) and any(_is_table(value) for value in document.values()):
        parts = [f"  {json.dumps(key)}: {_part(value)}" for key, value in document.items()]
        return spelled("{\n" + ",\n".join(parts) + "\n}")
    return spelled(json.dumps(_nulls(document), indent=2, ensure_ascii=False, allow_nan=False))


def _line(value: Any) -> str:
    try:
        return json.dumps(value, ensure_ascii=False, allow_nan=False)
    except ValueError:  # a number that JSON does not have
        return json.dumps(_nulls(value), ensure_ascii=False, allow_nan=False)


def _is_table(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(v, dict) for v in value)


def _part(value: Any) -> str:
    if _is_table(value):
        return "[\n    " + ",\n    ".join(map(_line, value)) + "\n  ]"
    return _line(value)


def _nulls(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: _nulls(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_nulls(item) for item in value]
    return value
