"""What caveats say: one entry for each kind."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.documents.caveats import of_plans, of_readings, of_sides
from ferocal.documents.caveats.phrases import Values, Words
from ferocal.terms.numbers import grouped

if TYPE_CHECKING:
    from ferocal.analysis.caveats.kinds import Caveat, CaveatKind

WORDS = {**of_plans.WORDS, **of_sides.WORDS, **of_readings.WORDS}


def words_of(kind: CaveatKind) -> Words:
    """What a kind of caveat says; its code and values, if it has no words yet."""
    plain = kind.code.replace("-", " ")
    return WORDS.get(kind.code) or Words(plain, "decide whether that matters here", _plain)


def _plain(values: Values) -> str:
    return ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in values.items())


def wording(caveat: Caveat) -> str:
    """What was seen, with "{}" in the place of the amount, if there is one."""
    seen = words_of(caveat.kind).seen
    if callable(seen):
        return seen(caveat.values)
    return seen if caveat.amount is not None else seen.format_map(caveat.values)


def seen_text(caveat: Caveat) -> str:
    """What was seen, with the side on which."""
    what = wording(caveat)
    if caveat.amount is not None:
        what = what.format(grouped(caveat.amount))
    return what if caveat.side is None else f"with {caveat.side}, {what}"


def caveat_text(caveat: Caveat) -> str:
    """What was seen and what to do, as a sentence."""
    seen = seen_text(caveat)
    return f"{seen[0].upper()}{seen[1:]}: {words_of(caveat.kind).advice}."
