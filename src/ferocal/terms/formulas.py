"""Formulas of derived metrics, as trees; nothing of them is text any more."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from ferocal.terms.frozen import dataclass

Operator = Literal["+", "-", "*", "/"]
Gathering = Literal["median", "geomean"]


@dataclass(frozen=True)
class Number:
    """A constant, in base units."""

    value: float


@dataclass(frozen=True)
class Reading:
    """A metric of a workload; times ``factor`` it is in base units."""

    workload: str
    metric: str
    factor: float


@dataclass(frozen=True)
class Declared:
    """A quantity that levels or benches declare; times ``factor`` it is in base units."""

    name: str
    factor: float


@dataclass(frozen=True)
class Operation:
    """Two terms and what is done with them."""

    operator: Operator
    left: Term
    right: Term


@dataclass(frozen=True)
class Gathered:
    """The median or the geometric mean of several terms."""

    how: Gathering
    terms: tuple[Term, ...]


Term = Number | Reading | Declared | Operation | Gathered


@dataclass(frozen=True)
class Formula:
    """What a derived metric is computed from; the result is divided by ``factor``.

    ``across`` says that workloads of one visit are joined, so that there is one value per visit.
    """

    text: str
    term: Term
    factor: float
    across: bool

    @property
    def readings(self) -> tuple[Reading, ...]:
        """The metrics that it is made of, each once."""
        found = (term for term in walk(self.term) if isinstance(term, Reading))
        return tuple(dict.fromkeys(found))


def walk(term: Term) -> Iterator[Term]:
    """A term and all that it is made of."""
    yield term
    if isinstance(term, Operation):
        yield from walk(term.left)
        yield from walk(term.right)
    elif isinstance(term, Gathered):
        for part in term.terms:
            yield from walk(part)
