"""What ``ferocal claims --json`` prints."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ferocal.analysis.data.series import factor_of, share_of
from ferocal.documents.claims import undecided_text
from ferocal.documents.objects.base import Object, Text, key, or_none
from ferocal.documents.objects.shared import (
    CRITERIA_CHANGED,
    DOUBTS,
    EXCLUDED,
    LEFT_OUT,
    RemarkObject,
)

if TYPE_CHECKING:
    from ferocal.answers.claims import ClaimFinding


def _as_shown(name: str) -> Callable[[ClaimFinding], float | None]:
    """A number of a claim: a change as a share, a ratio, or a value in the unit."""

    def value(finding: ClaimFinding) -> float | None:
        number = float(getattr(finding.judged, name))
        if not math.isfinite(number):
            return None
        if finding.judged.scale != "ratio":
            return number
        return share_of(number) if finding.kind == "change" else factor_of(number)

    return value


def _baseline(finding: ClaimFinding) -> str | None:
    return finding.baseline if finding.kind == "change" else None


def _decide(finding: ClaimFinding) -> str | None:
    return undecided_text(finding) if finding.judged.verdict == "undecided" else None


def _date(finding: ClaimFinding) -> str | None:
    return finding.claim.date.isoformat() if finding.claim.date else None


class PastClaim(Object):
    """A claim as it was."""

    date: str = key("until when it was so", lambda past: past[0])
    claim: dict[str, Any] = key("the claim", lambda past: past[1])


class ClaimObject(Object):
    """A claim."""

    name: str = key("its name in the study file")
    says: Text = key("what it says", "claim.says")
    verdict: str = key("`supported`, `refuted` or `undecided`", "judged.verdict")
    kind: str = key("what the bound is on: `change`, `value` or `ratio`")
    workload: Text = key("what was run; null: an index over all", "series.workload")
    metric: str = key("what was read", "series.metric")
    ratio_to: Text = key("the metric below the line of a ratio", "claim.ratio_to")
    bench: str = key("where")
    configuration: Text = key("under which configuration", "claim.configuration")
    baseline: str | None = key("with what a change compares it", _baseline)
    bound: str = key("the bound in words", "claim.bound")
    change: float | None = key(
        "what was found: a change as a share (in the unit where shares do not apply), a ratio, or "
        "a value in the unit",
        _as_shown("mean"),
    )
    low: float | None = key(
        "lower end: the one-sided 95 % bound of a one-sided claim, else that of the 95 % interval",
        _as_shown("low"),
    )
    high: float | None = key("upper end of the same", _as_shown("high"))
    method: str | None = key("where the interval is from", or_none("judged.estimate.method"))
    p_adjusted: float | None = key(
        "p-value of the verdict, after Holm's adjustment among all claims", "judged.p_adjusted"
    )
    more_rounds: int | None = key("further rounds that would decide it", "judged.more_rounds")
    decide: str | None = key("what would decide an undecided one", _decide)
    source: Text = key("who says so", "claim.source")
    date: str | None = key("when that was said, ISO 8601", _date)
    written_before: bool | None = key(
        "whether it was kept before the first reading; null: not known"
    )
    first_seen: str | None = key("when it was kept as it is, ISO 8601")
    history: list[PastClaim] = key("what it was before")


class WithdrawnClaim(Object):
    """A claim that was withdrawn."""

    name: str = key("its name")
    recorded_at: str = key("when it was recorded, ISO 8601", "at")
    claim: dict[str, Any] = key("what it was", "content")


class ClaimsObject(Object):
    """`ferocal claims --json`."""

    question: str = key("the question of the study")
    claims: list[ClaimObject] = key("the claims, in the order of the study file", "findings")
    withdrawn: list[WithdrawnClaim] = key("claims that are no longer in the study file")
    frozen: bool = key("whether all are kept in the ledger")
    criteria_changed: list[str] = CRITERIA_CHANGED
    caveats: list[RemarkObject] = DOUBTS
    excluded: int = EXCLUDED
    left_out: int = LEFT_OUT
