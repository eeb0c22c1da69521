"""What was changed since measuring began: criteria, the study as a whole, definitions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.answers.criteria import CriteriaChange, StudyChange
    from ferocal.answers.definitions import DefinitionChange

# More metrics than this are counted in a sentence instead of named.
_MOST_NAMED = 3
_NOUNS = {"better": "better direction"}
_OF_STUDY = {
    "rounds": "number of rounds",
    "runs": "number of runs per visit",
}


def criteria_text(change: CriteriaChange) -> str:
    """By what metrics are judged otherwise, as a clause."""
    since = "" if change.since is None else f" (in use since {change.since})"
    names = [" ".join(place) for place in change.places]
    of = listed(names) if len(names) <= _MOST_NAMED else f"{len(names)} metrics"
    noun = _NOUNS.get(change.aspect, change.aspect)
    text = f"{noun} of {of} changed from {change.before} to {change.now} since measuring began"
    return text + since


def study_text(change: StudyChange) -> str:
    """What of the study as a whole is otherwise, as a clause."""
    before, now = (
        f'"{value}"' if change.aspect == "question" else value or "the first configuration"
        for value in (change.before, change.now)
    )
    what = _OF_STUDY.get(change.aspect, change.aspect)
    return f"the {what} changed from {before} to {now} since measuring began"


def definition_text(change: DefinitionChange) -> str:
    """What was defined otherwise when it was measured, as a clause."""
    if change.aspect == "levels":
        was = ", ".join(change.was)
        return f"the levels of {change.of} have changed since {change.since} (was: {was})"
    if change.aspect == "metrics":
        was = ", ".join(change.was)
        return f"{change.of} had {was} on {change.since}, now missing from the study file"
    aspect = f"`{change.aspect}`" if change.workload is None else f"the {change.aspect}"
    of = f" of {change.of}" if change.of else ""
    return f"{aspect}{of} has changed since {change.since}"
