"""What a ledger holds, as text and as a JSON object."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.render.console import show_beside
from ferocal.render.objects import Key, Schema
from ferocal.render.tables import plain_table
from ferocal.terms.numbers import grouped

if TYPE_CHECKING:
    from ferocal.ledger.reading.kept import Holdings


def show_holdings(console: Console, held: Holdings) -> None:
    """Print what there is of each kind, what to look at first, and what to do."""
    console.print(f"{held.path} holds, in {grouped(held.bytes)} bytes:")
    table = plain_table(
        "kept", "how many", "bytes", "what may be in it", right=["how many", "bytes"]
    )
    for kind in held.kinds:
        table.add_row(kind.name, grouped(kind.count), grouped(kind.bytes), kind.about)
    console.print(table)
    if held.open_to_others:
        show_beside(
            console, "mind", [f"other users of this machine can read it: chmod 600 {held.path}"]
        )
    text = (
        "to pass on results alone: ferocal report, which leaves out standard error and serial "
        "numbers; to keep values from being kept: secrets and private in the study file"
    )
    show_beside(console, "next", [text])


KEPT = Schema(
    "`ferocal inspect --kept --json`",
    (
        Key("path", "string", "the ledger", lambda held: str(held.path)),
        Key("bytes", "integer", "how large its file is"),
        Key("open_to_others", "boolean", "whether other users can read it"),
        Key("kinds", "array", "what there is: `name`, `count`, `bytes`, `about`",
            lambda held: [vars(kind) for kind in held.kinds]),
    ),
)  # fmt: skip
