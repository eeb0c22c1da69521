"""What a study keeps private: words of commands and values of variables, never stored or shown."""

from __future__ import annotations

import functools
import html
import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import BaseModel

from ferocal.study.base import LEAST_PRIVATE, Command
from ferocal.study.model import StudyFile
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import CUT

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

    @functools.cached_property
    def spelled(self) -> tuple[str, ...]:
        """All spellings of what is private: as it is, quoted, in JSON and in HTML."""
        spellings = {
            spelling
            for private in self.texts
            for spelling in (
                private, repr(private)[1:-1], json.dumps(private)[1:-1],
                json.dumps(private, ensure_ascii=False)[1:-1], html.escape(private),
            )
        }  # fmt: skip
        return tuple(sorted(spellings, key=lambda text: (-len(text), text)))

    @functools.cached_property
    def _pattern(self) -> re.Pattern[str]:
        """What is private, and the beginnings of it that are left where a text was cut."""
        return re.compile("|".join(map(_whole_or_cut, self.spelled)) or r"(?!)")

    def text(self, text: str) -> str:
        """A text without anything private, in TOML, JSON and HTML too, and where it was cut."""
        return self._pattern.sub(MASKED, text) if self.texts else text

    def data(self, content: bytes) -> bytes:
        """An output without anything private."""
        for private in self.spelled if self.texts else ():
            content = content.replace(private.encode("utf-8", "surrogateescape"), MASKED.encode())
        return content

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


# The longest beginning of a private text that is recognised where a text was cut.
_LONGEST_CUT = 80


def _whole_or_cut(private: str) -> str:
    """A pattern of a private text, or of its beginning before the sign that something was cut."""
    end = ""
    for sign in reversed(private[LEAST_PRIVATE:_LONGEST_CUT]):
        end = f"(?:{re.escape(sign)}{end})?"
    return f"{re.escape(private)}|{re.escape(private[:LEAST_PRIVATE])}{end}(?={CUT})"


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
