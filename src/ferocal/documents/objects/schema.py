"""JSON objects, declared key by key: what makes an object also says what its keys mean."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Key:
    """A key of an object: the type of its value, what it means, and how it is got.

    Types are those of JSON, "string", "number", "integer", "boolean", "array" and "object"; one
    with a "?" may be null. Unless ``get`` is given, the value is the attribute of that name. The
    elements of an array of objects have a schema of their own, ``of``, as an object can.
    """

    name: str
    type: str
    meaning: str
    get: Callable[[Any], Any] | None = None
    of: Schema | None = None

    def json_schema(self) -> dict[str, Any]:
        """The JSON Schema of the value."""
        types = [self.type.rstrip("?"), *(["null"] if self.type.endswith("?") else [])]
        found: dict[str, Any] = {"type": types[0] if len(types) == 1 else types}
        if self.of is not None:
            of = self.of._object()
            found = {**found, "items": of} if types[0] == "array" else {**of, **found}
        return {**found, "description": self.meaning}

    def value(self, item: Any) -> Any:
        """The value of the key for a result."""
        found = getattr(item, self.name) if self.get is None else self.get(item)
        if self.of is None:
            return found
        if self.type == "array":
            return [self.of.make(element) for element in found]
        return None if found is None else self.of.make(found)


@dataclass(frozen=True)
class Schema:
    """The keys of an object, in their order, and what the object is called."""

    title: str
    keys: tuple[Key, ...]

    def make(self, item: Any) -> dict[str, Any]:
        """The object of a result."""
        return {key.name: key.value(item) for key in self.keys}

    def json_schema(self) -> dict[str, Any]:
        """The JSON Schema (draft 2020-12) of the object."""
        return {"$schema": "https://json-schema.org/draft/2020-12/schema", **self._object()}

    def _object(self) -> dict[str, Any]:
        return {
            "title": self.title.strip("`"),
            "type": "object",
            "properties": {key.name: key.json_schema() for key in self.keys},
            "required": [key.name for key in self.keys],
            "additionalProperties": False,
        }


def attributes(names: Iterable[tuple[str, str, str]]) -> tuple[Key, ...]:
    """Keys that are attributes, from their name, type and meaning.

    "key=attribute" gives an attribute another name.
    """
    return tuple(
        Key(key, kind, meaning, operator.attrgetter(attribute or key))
        for (key, _, attribute), kind, meaning in (
            (name.partition("="), kind, meaning) for name, kind, meaning in names
        )
    )
