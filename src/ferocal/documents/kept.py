"""What a ledger holds, as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.documents.blocks import Document, Line, caveats, make_table, next_steps, sentences
from ferocal.terms.numbers import grouped

if TYPE_CHECKING:
    from ferocal.ledger.reading.kept import Holdings


def kept_document(held: Holdings) -> Document:
    """What there is of each kind, what to look at first, and what to do."""
    rows = [[k.name, grouped(k.count), grouped(k.bytes), k.about] for k in held.kinds]
    right = ("how many", "bytes")
    minds = []
    if held.open_to_others:
        minds.append(
            Line("other users of this machine can read it", command=f"chmod 600 {held.path}")
        )
    return Document(
        "",
        (
            sentences([f"{held.path} holds, in {grouped(held.bytes)} bytes:"]),
            make_table(("kept", *right, "what may be in it"), rows, right=right),
            *caveats(minds),
            next_steps(
                ("share results without standard error and serial numbers", "ferocal report"),
                (
                    "to prevent values from being stored: `secrets` and `private` in study.toml",
                    None,
                ),
            ),
        ),
    )
