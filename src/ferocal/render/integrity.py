"""Whether a ledger is as it was written, as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.console import show_beside
from ferocal.render.objects import Key, Schema
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.ledger.reading.integrity import Integrity

_SHOWN = 12


def show_integrity(console: Console, found: Integrity) -> None:
    """Print whether all is as it was written, what is not, and what to do."""
    counts = listed([counted(n, name) for name, n in found.counts.items()])
    if not found.broken:
        show_beside(console, "", [f"whole: {counts}, all as they were written"], margin=0)
    else:
        show_beside(console, "", [f"damaged: {counted(len(found.broken), 'place')}"], margin=0)
    show_beside(console, "", [str(found.identity)], margin=0)
    for text in found.broken[:_SHOWN]:
        show_beside(console, "", [f"  {text}"], margin=0)
    if len(found.broken) > _SHOWN:
        show_beside(console, "", [f"  and {len(found.broken) - _SHOWN} more: --json"], margin=0)
    for text in found.excluded[:_SHOWN]:
        show_beside(console, "mind", [f"{text}; it is excluded, and used nowhere"])
    for text in found.losses[-_SHOWN:]:
        show_beside(console, "mind", [text])
    if found.sealed_at is not None:
        text = f"what was recorded before {found.sealed_at[:10]} was sealed then, as it was"
        show_beside(console, "mind", [text])
    if found.broken:
        text = "bring the ledger back from a copy, or set aside what is damaged: `ferocal repair`"
        show_beside(console, "next", [text])


INTEGRITY = Schema(
    "`ferocal inspect --integrity --json`",
    (
        Key("whole", "boolean", "whether all is as it was written, but for excluded runs",
            lambda found: not found.broken),
        Key("counts", "object", "how many rows there are, by what they are"),
        Key("broken", "array", "what is damaged, in words, at most a hundred things"),
        Key("excluded", "array", "damaged runs that are excluded"),
        Key("sealed_at", "string?",
            "when rows of an earlier version were sealed as they were, null where all were sealed "
            "as they were written"),
        Key("ledger", "string", "what tells this ledger from others; copies have the same",
            lambda found: found.identity.id),
        Key("entries", "integer", "how many entries it has: they only become more",
            lambda found: found.identity.entries),
        Key("losses", "array", "what was found to be gone, whenever it was looked at here"),
    ),
)  # fmt: skip
