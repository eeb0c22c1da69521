"""What a plan can answer, and what it cannot, in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from ferocal.documents.factor_lines import confounded_text
from ferocal.plan.advice import LIKELY
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.plan.advice import Advice

_ONE_VISIT = (
    "one visit per configuration gives no interval and no verdict, unless the noise is known from "
    "an earlier study (`ferocal noise-floor`) or stated as `noise`"
)
_INTERVALS = {
    "rounds": "with an interval (linear drift cancels)",
    "visits": "with an interval between visits (drift remains in it)",
    "floor": "with an interval only if a noise floor is known",
}


def _confounded(values: Mapping[str, Any]) -> str:
    remedy = "nothing possible would"
    if values["separate"] is not None:
        remedy = f"{values['separate']} would: ferocal plan --design separate"
    return f"{confounded_text(values['effects'])}; {remedy}"


def _equivalence(values: Mapping[str, Any]) -> str:
    text = f"no change, if there is none, with {100 * LIKELY:.0f} % power or more, for "
    return f"{text}{values['enough']} of {counted(values['count'], values['role'] + ' metric')}"


_TEXTS: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "changes": lambda v: (
        f"how much each metric changes from {v['baseline']}, {_INTERVALS[v['interval']]}"
    ),
    "factors": lambda v: f"which factor carries a change: {', '.join(v['factors'])}",
    "control": lambda v: "whether the bench agrees with itself (control arm)",
    "return": lambda v: "whether the baseline drifted by the end",
    "equivalence": _equivalence,
    "one-visit": lambda v: (
        f"{_ONE_VISIT}; or set visits = 3 or more with a renew step" if v["renew"] else _ONE_VISIT
    ),
    "few-rounds": lambda v: (
        f"only {v['rounds']} rounds, so intervals will be wide; use {v['wanted']}"
    ),
    "not-interleaved": lambda v: (
        "configurations are not interleaved, so drift is part of every change; use rounds where a "
        "way back exists"
    ),
    "shared-error": lambda v: (
        f"{v['comparisons']} comparisons share the error rate, which costs power: give the "
        'deciding metric role = "primary", or add rounds'
    ),
    "unproven": lambda v: f"no check verifies {', '.join(v['levels'])}; add verify",
    "confounded": _confounded,
}


def advice_text(advice: Advice) -> str:
    """What a plan can answer, or cannot, as a clause."""
    return _TEXTS[advice.code](advice.values)
