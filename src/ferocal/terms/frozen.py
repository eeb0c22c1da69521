"""Frozen dataclasses that take a third of the time to make.

Every class of the standard library's compiles up to seven methods when its module is loaded, which
for some two hundred classes is a quarter of the time of a short command. Here only ``__init__`` is
compiled; what is the same for all is shared. That nothing is assigned to a frozen one is left to
the checker of types, for which these are the dataclasses of the standard library.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from operator import attrgetter
from typing import TYPE_CHECKING, Any, TypeVar

T = TypeVar("T")

if TYPE_CHECKING:
    from dataclasses import dataclass as dataclass
else:

    def dataclass(kind=None, /, *, frozen=False, eq=True, **options):
        """Make a dataclass, as that of the standard library does."""

        def make(kind):
            if not frozen or options.get("order"):
                return dataclasses.dataclass(kind, frozen=frozen, eq=eq, **options)
            made = dataclasses.dataclass(kind, repr=False, eq=False, **options)
            _share(made, {"__repr__": _repr} | (_equality(made) if eq else {}))
            return made

        return make if kind is None else make(kind)


def _share(kind: type[T], methods: dict[str, Callable[..., Any]]) -> None:
    """Give a class methods, but those that it defines itself."""
    for name, method in methods.items():
        if vars(kind).get(name) is None:  # who defines equality alone has no hash
            setattr(kind, name, method)


def _equality(kind: Any) -> dict[str, Callable[..., Any]]:
    """Equal are those of one class with equal fields, and they have one hash."""
    names = [field.name for field in dataclasses.fields(kind)]
    if len(names) > 1:
        content: Callable[[Any], Any] = attrgetter(*names)
    else:

        def content(value: Any) -> Any:
            return tuple(getattr(value, name) for name in names)

    def equal(self: object, other: object) -> Any:
        if other is self:
            return True
        if other.__class__ is not self.__class__:
            return NotImplemented
        return content(self) == content(other)

    def number(self: object) -> int:
        return hash(content(self))

    return {"__eq__": equal, "__hash__": number}


def _repr(self: Any) -> str:
    """The class with its fields, as the standard library shows it."""
    shown = ", ".join(f"{f.name}={getattr(self, f.name)!r}" for f in dataclasses.fields(self))
    return f"{type(self).__qualname__}({shown})"
