"""Rows that are only ever added: notes, references, noise floors, claims, looks at a bench."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import TYPE_CHECKING, Any, NamedTuple

from ferocal.ledger.reading.sql import parsed
from ferocal.ledger.records import NoiseFloorRecord, Note, Reference
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from _typeshed import DataclassInstance


@dataclass(frozen=True)
class FrozenClaim:
    """A claim as the study file had it; ``before_readings`` says that nothing was read by then."""

    name: str
    at: str
    digest: str
    content: Mapping[str, Any]
    before_readings: bool


class BenchLook(NamedTuple):
    """What a look at the noise of a bench has shown, and when."""

    bench: str
    at: str
    figures: Mapping[str, Any]


def _read(ledger: Ledger, table: str, kind: type[DataclassInstance], *order: str) -> list[Any]:
    """All rows of a table whose columns are the fields of a record."""
    names = ", ".join(field.name for field in fields(kind))
    return ledger.rows(f"SELECT {names} FROM {table} ORDER BY {', '.join((*order, 'id'))}")


def read_notes(ledger: Ledger) -> list[tuple[str, Note]]:
    """All notes in the order in which they were made, each with the time of that."""
    times = ledger.rows("SELECT at FROM note ORDER BY id")
    notes = [Note(*row) for row in _read(ledger, "note", Note)]
    return [(at, note) for (at,), note in zip(times, notes, strict=True)]


def read_noise_floors(ledger: Ledger) -> list[NoiseFloorRecord]:
    """All noise floors that were imported, in that order."""
    return [NoiseFloorRecord(*row) for row in _read(ledger, "noise_floor", NoiseFloorRecord)]


def read_references(ledger: Ledger) -> list[Reference]:
    """All references; of several for one device, metric and source the latest."""
    latest: dict[tuple[str, ...], Reference] = {}
    for row in _read(ledger, "reference", Reference):
        found = Reference(*row)
        latest[found.device, found.workload, found.metric, found.source] = found
    return list(latest.values())


def read_claims(ledger: Ledger) -> tuple[FrozenClaim, ...]:
    """All claims that were ever seen, each change of one anew, in the order of time."""
    rows = _read(ledger, "claim", FrozenClaim, "at")
    return tuple(
        FrozenClaim(name, at, digest, parsed(content), bool(before))
        for name, at, digest, content, before in rows
    )


def read_looks_at_benches(ledger: Ledger) -> list[BenchLook]:
    """The latest look at every bench."""
    rows = ledger.rows("SELECT bench, at, figures FROM bench_look ORDER BY at, id")
    return list({row[0]: BenchLook(row[0], row[1], parsed(row[2])) for row in rows}.values())
