"""Whether a ledger is as it was written."""

from __future__ import annotations

from ferocal.ledger.integrity.check import describe, find_broken, is_excluded
from ferocal.ledger.integrity.memory import losses_seen
from ferocal.ledger.integrity.seals import SEALED_AT, chain_of, ledger_id
from ferocal.ledger.store import Ledger
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import counted


@dataclass(frozen=True)
class Identity:
    """What tells a ledger from others and from what it was: its id, and how many entries it has.

    An entry is a row with all that belongs to it, each time that it was written.
    """

    id: str
    entries: int

    def __str__(self) -> str:
        return f"ledger {self.id[:8]}, {counted(self.entries, 'entry', 'entries')}"


def read_identity(ledger: Ledger) -> Identity:
    """Which ledger it is, and how many entries it has."""
    with ledger.driver() as driver:
        return Identity(ledger_id(driver), chain_of(driver).length)


@dataclass(frozen=True)
class Integrity:
    """What the check of a ledger has found.

    ``counts`` are rows by what they are. ``broken`` are what is damaged, in words, ``excluded`` the
    damaged runs that are not to be used in any case. ``sealed_at`` is when rows of an earlier
    version were sealed as they were, None where all were sealed as they were written.
    ``losses`` are what was found to be gone, whenever it was looked at on this machine.
    """

    counts: dict[str, int]
    broken: tuple[str, ...]
    excluded: tuple[str, ...]
    sealed_at: str | None
    identity: Identity
    losses: tuple[str, ...]


_COUNTED = ("session", "visit", "run", "reading", "trace", "output")


def read_integrity(ledger: Ledger) -> Integrity:
    """Check a ledger as a whole.

    Raises
    ------
    LedgerError
        When it is so damaged that its tables cannot be read.
    """
    with ledger.driver() as driver:
        found = [(is_excluded(driver, b), describe(driver, b)) for b in find_broken(driver)]
        counts = {
            table: driver.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
            for table in _COUNTED
        }
    rows = ledger.rows("SELECT value FROM about WHERE key = ?", [SEALED_AT])
    return Integrity(
        counts,
        broken=tuple(text for excluded, text in found if not excluded),
        excluded=tuple(text for excluded, text in found if excluded),
        sealed_at=rows[0][0] if rows else None,
        identity=read_identity(ledger),
        losses=tuple(losses_seen(ledger.path)),
    )
