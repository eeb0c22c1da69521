"""Bounds of what Ferocal takes in: one set, for whatever enters and for whatever the ledger holds.

They are far beyond what is measured, and near enough that fourth powers, of which the variance of
a variance is made, and ratios of ratios are still numbers.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Any

# A number is 0, or its size is between these.
SMALLEST, LARGEST = 1e-50, 1e50
# Nobody measures more rounds: what is more is a time or a size by mistake.
MOST_ROUNDS = 1_000_000
# Of so many values a reading is one, at most.
MOST_SAMPLES = 10**12
# What is counted otherwise: runs, positions, captures, processors, bytes.
MOST_COUNTED = 2**53
FIRST_YEAR, LAST_YEAR = 1900, 2999
BEYOND = "is outside the range of numbers here (0, or 1e-50 to 1e50)"
BEYOND_SAMPLES = "is not a number of samples (1 to 1e12)"
BEYOND_YEARS = f"is outside the years {FIRST_YEAR} to {LAST_YEAR}"
# A time of day with its zone; sqlite and Python agree on what is written like that.
_TIME = re.compile(
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?(?:Z|[+-]\d\d:\d\d)?)?", re.ASCII
)
# The median duration of frames that are shown lies between these (ms).
SHORTEST_MEDIAN, LONGEST_MEDIAN = 0.2, 500.0


def beyond(values: Any) -> Any:
    """Whether numbers are beyond the bounds, infinite ones too; NaN is not. Shape as given."""
    import numpy as np  # not for every command

    with np.errstate(invalid="ignore"):
        size = np.abs(values)
        return (size > LARGEST) | ((size < SMALLEST) & (size > 0))


def is_time(text: str) -> bool:
    """Whether a text is a date or a time as ISO 8601 has it, in a possible year."""
    try:
        # In UTC it may be another year than where it was.
        year = datetime.fromisoformat(text).astimezone(UTC).year
        return bool(_TIME.fullmatch(text)) and FIRST_YEAR <= year <= LAST_YEAR
    except (ValueError, OverflowError):
        return False
