"""The order in time of what was recorded, whatever the clock of the machine did meanwhile."""

from __future__ import annotations

from collections.abc import Iterable

# Compared with each other.
TimePlace = tuple[str, int]
# The time of what has none.
NOWHERE: TimePlace = ("", 0)


def places_in_time(rows: Iterable[tuple[int, str, bool]]) -> dict[int, TimePlace]:
    """What rows are ordered by, from their keys (ascending), times, and whether they are live.

    Those that were recorded as they happened follow each other by their keys, even if the clock
    was set back meanwhile; others have their stated time.
    """
    places: dict[int, TimePlace] = {}
    latest = ""
    for key, time, live in rows:
        if live:
            latest = max(latest, time)
            places[key] = (latest, key)
        else:
            places[key] = (time, 0)
    return places
