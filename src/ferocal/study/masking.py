"""What a study keeps private: words of commands and values of variables, never stored or shown."""

from __future__ import annotations

import html
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from ferocal.study.base import LEAST_PRIVATE, Command
from ferocal.study.model import StudyFile

# It stands for what is private; a word that no syntax minds.
MASKED = "MASKED"


@dataclass(frozen=True)
class Mask:
    """Replaces private texts, the longest first.

    ``unset`` names secrets that have no value anywhere, ``short`` those whose value is so short
    that it would be found by chance.
    """

    texts: tuple[str, ...] = ()
    unset: tuple[str, ...] = ()
    short: tuple[str, ...] = ()

    def text(self, text: str) -> str:
        """A text without anything private."""
        for private in self.texts:
            text = text.replace(private, MASKED)
        return text

    def data(self, content: bytes) -> bytes:
        """An output without anything private."""
        for private in self.texts:
            content = content.replace(private.encode(), MASKED.encode())
        return content

    def source(self, text: str) -> str:
        """A text in TOML, JSON or HTML, where private texts may be spelled otherwise."""
        spelled = {
            spelling
            for private in self.texts
            for spelling in (private, json.dumps(private)[1:-1], html.escape(private))
        }
        for spelling in sorted(spelled, key=len, reverse=True):
            text = text.replace(spelling, MASKED)
        return text

    def value(self, value: Any) -> Any:
        """A value of JSON in which all texts are masked, but for names of keys."""
        if not self.texts:
            return value
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, Mapping):
            return {key: self.value(item) for key, item in value.items()}
        if isinstance(value, (list, tuple)):
            return [self.value(item) for item in value]
        return value


NOTHING_PRIVATE = Mask()


def make_mask(file: StudyFile, environment: Mapping[str, str]) -> Mask:
    """The mask of a study; ``environment`` is that in which its commands are run."""
    names = set(file.study.secrets)
    texts: set[str] = set()
    known: dict[str, set[str]] = {name: set() for name in names}
    for table in _tables(file):
        if isinstance(table, Command):
            texts.update(table.private)
        for name, value in getattr(table, "environment", {}).items():
            if name in names:
                known[name].add(value)
    for name in names & environment.keys():
        known[name].add(environment[name])
    for values in known.values():
        texts.update(value for value in values if len(value) >= LEAST_PRIVATE)
    return Mask(
        tuple(sorted(texts, key=lambda text: (-len(text), text))),
        unset=tuple(sorted(name for name, values in known.items() if not values)),
        short=tuple(
            sorted(n for n, values in known.items() if any(len(v) < LEAST_PRIVATE for v in values))
        ),
    )


def _tables(value: Any) -> Iterator[BaseModel]:
    """All tables within a value of a study file."""
    if isinstance(value, BaseModel):
        yield value
        for name in type(value).model_fields:
            yield from _tables(getattr(value, name))
    elif isinstance(value, Mapping):
        for item in value.values():
            yield from _tables(item)
    elif isinstance(value, (list, tuple)):
        for item in value:
            yield from _tables(item)
