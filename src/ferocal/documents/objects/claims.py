"""What ``ferocal claims --json`` prints."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from ferocal.analysis.data.series import factor_of, share_of
from ferocal.documents.claims import undecided_text
from ferocal.documents.objects.results import CHANGES, LEFT_OUT
from ferocal.documents.objects.schema import Key, Schema, attributes


def _as_shown(name: str) -> Callable[[Any], Any]:
    """A number of a claim: a change as a share, a ratio, or a value in the unit."""

    def value(finding: Any) -> Any:
        number = getattr(finding.judged, name)
        if not math.isfinite(number):
            return None
        if finding.judged.scale != "ratio":
            return number
        return share_of(number) if finding.kind == "change" else factor_of(number)

    return value


def _of_claim(name: str) -> Callable[[Any], Any]:
    return lambda finding: getattr(finding.claim, name) or None


_CLAIM = Schema(
    "A claim",
    (
        *attributes((("name", "string", "its name in the study file"),)),
        Key("says", "string", "what it says", _of_claim("says")),
        Key("verdict", "string", "`supported`, `refuted` or `undecided`",
            lambda f: f.judged.verdict.value),
        Key("kind", "string", "what the bound is on: `change`, `value` or `ratio`"),
        Key("workload", "string?", "what was run; null: an index over all",
            lambda f: f.series.workload or None),
        Key("metric", "string", "what was read", lambda f: f.series.metric),
        Key("ratio_to", "string?", "the metric below the line of a ratio", _of_claim("ratio_to")),
        *attributes((("bench", "string", "where"),)),
        Key("configuration", "string", "under which configuration", _of_claim("configuration")),
        Key("baseline", "string?", "with what a change compares it",
            lambda f: f.baseline if f.kind == "change" else None),
        Key("bound", "string", "the bound in words", lambda f: f.claim.bound),
        Key("change", "number?", "what was found: a change as a share (in the unit where shares do "
            "not apply), a ratio, or a value in the unit", _as_shown("mean")),
        Key("low", "number?", "lower end: the one-sided 95 % bound of a one-sided claim, else that "
            "of the 95 % interval", _as_shown("low")),
        Key("high", "number?", "upper end of the same", _as_shown("high")),
        Key("p_adjusted", "number?", "p-value of the verdict, after Holm's adjustment among all "
            "claims", lambda f: f.judged.p_adjusted),
        Key("more_rounds", "integer?", "further rounds that would decide it",
            lambda f: f.judged.more_rounds),
        Key("decide", "string?", "what would decide an undecided one",
            lambda f: undecided_text(f) if f.judged.verdict == "undecided" else None),
        Key("source", "string?", "who says so", _of_claim("source")),
        Key("date", "string?", "when that was said, ISO 8601",
            lambda f: f.claim.date.isoformat() if f.claim.date else None),
        Key("written_before", "boolean?", "whether it was kept before the first reading; null: "
            "not known"),
        Key("first_seen", "string?", "when it was kept as it is, ISO 8601"),
        Key("history", "array", "`date` at which it was otherwise, and the `claim` as it was",
            lambda f: [{"date": date, "claim": dict(was)} for date, was in f.history]),
    ),
)  # fmt: skip
_WITHDRAWN = Schema(
    "A claim that was withdrawn",
    (
        *attributes(
            (
                ("name", "string", "its name"),
                ("recorded_at=at", "string", "when it was recorded, ISO 8601"),
            )
        ),
        Key("claim", "object", "what it was", lambda c: dict(c.content)),
    ),
)
CLAIMS = Schema(
    "`ferocal claims --json`",
    (
        *attributes((("question", "string", "the question of the study"),)),
        Key("claims", "array", "the claims, in the order of the study file",
            lambda a: a.findings, of=_CLAIM),
        Key("withdrawn", "array", "claims that are no longer in the study file", of=_WITHDRAWN),
        *attributes((("frozen", "boolean", "whether all are kept in the ledger"),)),
        CHANGES,
        *LEFT_OUT,
    ),
)  # fmt: skip
