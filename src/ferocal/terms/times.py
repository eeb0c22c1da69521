"""Times as ISO 8601 text, with what is unknown of them.

A time without a stated zone is taken as UTC, and has the offset "-00:00", which says just
that (RFC 3339, 4.3). A date without a time of day is its midnight.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

_ZONE = re.compile(r"([Zz]|[+-]\d\d(:?\d\d)?)$")
# What a time without a zone may be off by: zones reach from UTC-12 to UTC+14.
_EARLIEST, _LATEST = timedelta(hours=-14), timedelta(hours=12)
_UNKNOWN_ZONE = "-00:00"


def now() -> str:
    """The present time, in UTC."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def lacks_zone(text: str) -> bool:
    """Whether a date or time states no zone."""
    clock = re.split("[T ]", text.strip(), maxsplit=1)[1:]
    return not clock or _ZONE.search(clock[0]) is None or text.endswith(_UNKNOWN_ZONE)


def in_utc(moment: datetime, *, zone_known: bool) -> str:
    """A moment as text in UTC; one without zone is taken as that."""
    aware = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
    text = aware.isoformat(timespec="milliseconds")
    return text if zone_known else text.removesuffix("+00:00") + _UNKNOWN_ZONE


def zone_is_assumed(text: str) -> bool:
    """Whether the zone of a kept time is only assumed."""
    return text.endswith(_UNKNOWN_ZONE)


def same_moment(text: str) -> str:
    """A kept time without whether its zone was stated, to compare times."""
    return text.removesuffix(_UNKNOWN_ZONE) + "+00:00" if zone_is_assumed(text) else text


def is_date(text: str) -> bool:
    """Whether a kept time is a date without a time of day."""
    return "T00:00:00.000" in text or "T00:00:00+" in text


def span_of(text: str) -> tuple[datetime, datetime]:
    """The earliest and the latest moment that a kept time can be."""
    moment = datetime.fromisoformat(text)
    first = last = moment
    if is_date(text):
        last += timedelta(days=1)
    if zone_is_assumed(text) or last > first:
        first, last = first + _EARLIEST, last + _LATEST
    return first, last
