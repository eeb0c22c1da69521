"""What was seen of ledgers: which contents were whole, and how many entries they had.

A content is known by the digest of the whole file as a transaction sees it, so that each is checked
once only: a bit that changes later makes it another content. That takes a small part of the time of
a check. How many entries a ledger had tells later that some are gone.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from contextlib import suppress
from dataclasses import asdict, replace
from pathlib import Path

from platformdirs import user_cache_path

from ferocal._version import __version__
from ferocal.ledger.connecting import contents
from ferocal.ledger.integrity.seals import chain_of, chain_until, ledger_id
from ferocal.terms.files import replace_file
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.terms.times import now
from ferocal.terms.wording import counted

# What this process has seen whole, by path and digest.
_seen: set[tuple[Path, str]] = set()
_MOST_LOSSES = 20


@dataclass(frozen=True)
class _Sight:
    """A ledger as it was when it was last seen here, and what of it was gone by then."""

    digest: str
    id: str
    entries: int
    head: str
    at: str
    losses: list[str]


def digest_of(driver: sqlite3.Connection, path: Path) -> str:
    """The digest of a ledger as the open transaction sees it, with its write-ahead log if any."""
    digest = hashlib.blake2b()
    for part in contents(driver, path):
        digest.update(part)
    # Another version of Ferocal may find more.
    return f"{__version__} {digest.hexdigest()}"


def is_known(path: Path, digest: str) -> bool:
    """Whether this content was found whole before, by whatever process."""
    if (path.resolve(), digest) in _seen:
        return True
    sight = _sight(path)
    return sight is not None and sight.digest == digest


def remember(path: Path, driver: sqlite3.Connection, digest: str) -> str | None:
    """Keep that a content was found whole; what of the ledger is gone since the last time."""
    _seen.add((path.resolve(), digest))
    before, chain = _sight(path), chain_of(driver)
    loss = None
    own = ledger_id(driver)
    if before is not None and before.id == own:
        then = chain_until(driver, before.entries)
        if (then.length, then.head.hex()) != (before.entries, before.head):
            loss = (
                f"{counted(before.entries, 'entry was', 'entries were')} seen here on "
                f"{before.at[:10]}, and not all are among its {grouped(chain.length)} now: "
                "something was deleted, or it was brought back from a copy"
            )
    losses = [*(before.losses if before is not None else ()), *([loss] if loss else ())]
    sight = _Sight(
        digest=digest, id=own, entries=chain.length, head=chain.head.hex(), at=now(),
        losses=losses[-_MOST_LOSSES:],
    )  # fmt: skip
    _keep(path, sight)
    return loss


def _keep(path: Path, sight: _Sight) -> None:
    # Without a place to remember it is checked again the next time.
    with suppress(OSError):
        place = _place(path)
        place.parent.mkdir(parents=True, exist_ok=True)
        replace_file(place, json.dumps(asdict(sight)))


def note_entries(path: Path, driver: sqlite3.Connection, *, is_whole: bool = False) -> None:
    """Keep how many entries a ledger has after something was written to it.

    Where it ``is_whole``, nothing but what was rightly written has changed since its last check, it
    is known as it is now; otherwise it is checked when it is read again.
    """
    before, chain = _sight(path), chain_of(driver)
    if before is not None and before.id == ledger_id(driver):
        for known in [known for known in _seen if known[0] == path.resolve()]:
            _seen.remove(known)
        digest = digest_of(driver, path) if is_whole else ""
        sight = replace(
            before, digest=digest, entries=chain.length, head=chain.head.hex(), at=now()
        )
        _keep(path, sight)


def losses_seen(path: Path) -> list[str]:
    """What was found to be gone from a ledger, whenever it was looked at on this machine."""
    sight = _sight(path)
    return sight.losses if sight is not None else []


def _sight(path: Path) -> _Sight | None:
    # Whatever others may have left there.
    with suppress(OSError, ValueError, TypeError, KeyError):
        kept = json.loads(_place(path).read_bytes())
        names = (str(kept[name]) for name in ("digest", "id", "head", "at"))
        digest, own, head, at = names
        return _Sight(digest, own, int(kept["entries"]), head, at, [*map(str, kept["losses"])])
    return None


def _place(path: Path) -> Path:
    name = hashlib.sha256(str(path.resolve()).encode("utf-8", "surrogateescape")).hexdigest()
    return user_cache_path("ferocal") / "whole" / name
