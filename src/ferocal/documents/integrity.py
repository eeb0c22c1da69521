"""Whether a ledger is as it was written, as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.documents.blocks import Block, Document, Items, Line, caveats, next_steps, sentences
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.ledger.reading.integrity import Integrity

_SHOWN = 12


def integrity_document(found: Integrity) -> Document:
    """Whether all is as it was written, what is not, and what to do."""
    counts = listed([counted(n, name) for name, n in found.counts.items()])
    answer = f"intact: {counts}, all as written"
    if found.broken:
        answer = f"damaged: {counted(len(found.broken), 'place')}"
    blocks: list[Block] = [sentences([answer, str(found.identity)])]
    if found.broken:
        broken = [*found.broken[:_SHOWN]]
        rest = len(found.broken) - len(broken)
        broken += [f"{rest} more: ferocal inspect --integrity --json"] if rest else []
        blocks.append(Items(tuple((Line(text), ()) for text in broken)))
    minds = [f"{text}; it is excluded, and used nowhere" for text in found.excluded[:_SHOWN]]
    minds += found.losses[-_SHOWN:]
    if found.sealed_at is not None:
        minds.append(f"rows recorded before {found.sealed_at[:10]} were sealed then, as they were")
    blocks += caveats(minds)
    if found.broken:
        blocks.append(
            next_steps(
                (
                    "bring the ledger back from a copy, or set the damaged rows aside",
                    "ferocal repair",
                )
            )
        )
    return Document("", tuple(blocks))
