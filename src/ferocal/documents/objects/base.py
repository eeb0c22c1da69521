"""JSON objects with types: what makes an object also publishes its JSON Schema."""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Annotated, Any, ClassVar, NamedTuple, Self

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator
from pydantic.json_schema import GenerateJsonSchema

from ferocal.terms.frozen import dataclass

# Text that is null where it is empty.
Text = Annotated[str | None, BeforeValidator(lambda text: text or None)]


@dataclass(frozen=True)
class _Source:
    """How the value of a field is got from a result; None for the attribute of its name."""

    get: Callable[[Any], object] | str | None

    def getter(self, name: str) -> Callable[[Any], object]:
        """A function of the result."""
        return self.get if callable(self.get) else operator.attrgetter(self.get or name)


def key(
    meaning: str,
    source: Callable[[Any], object] | str | None = None,
    *,
    unit: str | None = None,
) -> Any:
    """A field of an object: what it means, in which unit, and where it is from.

    The source is a function of the result or the path of an attribute, such as "series.unit"; by
    default the attribute has the name of the field.
    """
    field = Field(description=meaning, json_schema_extra={"unit": unit} if unit else None)
    field.metadata.append(_Source(source))
    return field


class _Untitled(GenerateJsonSchema):
    """JSON Schema in which fields have no title, which would only repeat their name."""

    def field_title_should_be_set(self, schema: Any) -> bool:
        return False


class Object(BaseModel):
    """A JSON object that is made from a result; ``make`` refuses values of another type."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    _sources: ClassVar[dict[str, Callable[[Any], object]]]

    @classmethod
    def __pydantic_init_subclass__(cls, **_: object) -> None:
        """Collect the sources of the fields."""
        cls._sources = {
            name: source.getter(name)
            for name, field in cls.model_fields.items()
            for source in field.metadata
            if isinstance(source, _Source)
        }

    @model_validator(mode="before")
    @classmethod
    def _read(cls, result: object) -> dict[str, object]:
        return {name: get(result) for name, get in cls._sources.items()}

    @classmethod
    def make(cls, result: object) -> Self:
        """The object of a result."""
        return cls.model_validate(result)

    @classmethod
    def json_schema(cls) -> dict[str, Any]:
        """The JSON Schema (draft 2020-12) of the object."""
        schema = cls.model_json_schema(schema_generator=_Untitled)
        return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


class Placed(NamedTuple):
    """Something that is known of a bench, or of another place."""

    bench: str
    item: Any


def of_item(get: Callable[[Any], object]) -> Callable[[Placed], object]:
    """What a function says of the item that is placed."""
    return lambda placed: get(placed.item)


def or_none(path: str) -> Callable[[Any], object]:
    """The attribute at the end of a path, None where an attribute on the way is None."""
    first, *rest = path.split(".")

    def get(result: object) -> object:
        value = getattr(result, first)
        for name in rest:
            value = None if value is None else getattr(value, name)
        return value

    return get
