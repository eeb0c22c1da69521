"""Whether readings are judged as it was asked when measuring began."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ferocal.answers.definitions import parse_study
from ferocal.ledger.reading.sessions import SessionCriteria, Snapshot
from ferocal.study.criteria import JUDGING, judging
from ferocal.study.derived import MetricKey
from ferocal.study.load import Study
from ferocal.study.model import StudyFile
from ferocal.terms.frozen import dataclass


@dataclass(frozen=True)
class CriteriaChange:
    """One thing by which metrics are judged otherwise than when measuring began.

    ``places`` are workload and metric, ``aspect`` is one of `JUDGING`. ``since`` is the date of
    the first session that was measured with ``now``, None if there was none yet.
    """

    places: tuple[MetricKey, ...]
    aspect: str
    before: Any
    now: Any
    since: str | None


@dataclass(frozen=True)
class StudyChange:
    """Something of the study as a whole that is not what it was when measuring began.

    ``aspect`` is what was changed; a baseline may be "", which is the first configuration.
    """

    aspect: str
    before: str
    now: str


def find_study_changes(study: Study, snapshots: Sequence[Snapshot]) -> tuple[StudyChange, ...]:
    """How question, baseline, number of rounds and design differ from when measuring began."""
    now = (study.text, study.kept_text)
    files = (study.file if s.text in now else parse_study(s.text) for s in snapshots)
    first = next((file for file in files if file is not None), None)
    if first is None:
        return ()
    pairs = zip(_whole_study(first), _whole_study(study.file), strict=True)
    return tuple(
        StudyChange(aspect, before, now) for (aspect, before), (_, now) in pairs if before != now
    )


def _whole_study(file: StudyFile) -> list[tuple[str, str]]:
    """What a study asks as a whole, by aspect."""
    chosen, head = file.configuration, file.study
    baseline = chosen.baseline
    if isinstance(baseline, dict):
        baseline = "+".join(baseline.values())
    return [
        ("question", head.question),
        ("baseline", baseline or ""),
        ("schedule", head.schedule),
        ("rounds", str(head.rounds)),
        ("runs", str(head.runs)),
        ("design", chosen.design),
    ]


def find_criteria_changes(
    study: Study, sessions: Sequence[SessionCriteria]
) -> tuple[CriteriaChange, ...]:
    """What judges a metric now and did not when measuring of it began.

    Sessions of earlier versions have not kept their criteria; nothing is said of them.
    """
    history: dict[MetricKey, list[tuple[str, Mapping[str, Any]]]] = {}
    for session in sessions:
        for kept in session.criteria["metrics"]:
            place = (kept["workload"], kept["metric"])
            history.setdefault(place, []).append((session.started_at, kept))
    groups: dict[tuple[Any, ...], list[MetricKey]] = {}
    for workload, name, metric in study.metrics():
        kept_before = history.get((workload, name))
        if kept_before is None:
            continue
        present = judging(study, metric)
        for aspect in JUDGING:
            now = present[aspect]
            before = _kept(kept_before[0][1], aspect, now)
            if before is not None and before != now:
                key = (aspect, before, now, _since(kept_before, aspect, now))
                groups.setdefault(key, []).append((workload, name))
    return tuple(CriteriaChange(tuple(places), *key) for key, places in groups.items())


def _kept(judged_by: Mapping[str, Any], aspect: str, now: Any) -> Any:
    """One thing by which a session has judged; None if it kept none.

    Early sessions kept whether a metric was primary: of those that were not, a role of ``now``
    that does not decide says the same.
    """
    if aspect != "role" or judged_by.get("primary") is None:
        return judged_by.get(aspect)
    if judged_by["primary"]:
        return "primary"
    return "secondary" if now == "primary" else now


def _since(history: Sequence[tuple[str, Mapping[str, Any]]], aspect: str, now: Any) -> str | None:
    """The date of the first session from which on all have been measured with ``now``."""
    since = None
    for started_at, kept in reversed(history):
        if _kept(kept, aspect, now) != now:
            break
        since = started_at[:10]
    return since


def changes_by_place(changes: Sequence[CriteriaChange]) -> dict[MetricKey, list[CriteriaChange]]:
    """The changes of every workload and metric."""
    found: dict[MetricKey, list[CriteriaChange]] = {}
    for change in changes:
        for place in change.places:
            found.setdefault(place, []).append(change)
    return found
