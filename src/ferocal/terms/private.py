"""What must not be published: facts that identify a machine, and what programs wrote."""

from __future__ import annotations

import re

_IDENTIFYING = re.compile(
    r"serial|\bs/?n\b|imei|uuid|asset|mac[- _]?addr|machine[- _]?id", re.IGNORECASE
)
# What Ferocal says of a command that failed; the end of its standard error comes after that.
_FAILURE = re.compile(
    r"(ended with exit status -?\d+|at its time limit after \S+ s|wrote more than [^:]* bytes): .*",
    re.DOTALL,
)


def is_identifying(fact: str) -> bool:
    """Whether a fact of this name tells one machine from all others of its kind."""
    return _IDENTIFYING.search(fact) is not None


def without_errors(reason: str) -> str:
    """The reason of a failure without what the program wrote to standard error."""
    return _FAILURE.sub(r"\1", reason)
