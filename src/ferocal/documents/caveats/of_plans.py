"""What is said of the plan and what became of it: visits, rounds, scales, criteria."""

from __future__ import annotations

from ferocal.analysis.inference.noise_floors import STALE_DAYS
from ferocal.documents.caveats.phrases import Values, Words, percentage, sized, unsigned
from ferocal.documents.changes import criteria_text
from ferocal.terms.numbers import significant
from ferocal.terms.wording import counted, listed

# In days, as times are.
_HOUR = 1 / 24


def _one_visit(values: Values) -> str:
    """What one visit shows, and what it does not."""
    lone, run_sd, floor = values["lone"], values["run_sd"], values["floor"]
    text = "one visit per side" if lone is None else f"only one visit to {lone}"
    if run_sd is not None:
        text += f"; runs vary by {unsigned(run_sd)} (SD) within a visit, visits by more"
    if floor is not None:
        source, age = floor
        return f"{text}; the interval uses a noise floor ({source}, {_age(age)})"
    if values["stated"]:
        return f"{text}; the interval uses the noise stated in the study file"
    return f"{text}; no interval, since the noise between visits is unknown"


def _age(days: float | None) -> str:
    if days is None:
        return "of unknown age"
    return "less than a day old" if days < 1 else f"{days:.0f} days old"


def _not_computed(values: Values) -> str:
    count = values["count"]
    what = "1 value" if count == 1 else f"{count} values"
    return f"{what} could not be computed: {values['reason']}"


def _unpaired(values: Values) -> str:
    lacks = "lacks" if values["rounds"] == 1 else "lack"
    return (
        f"{counted(values['rounds'], 'round')} {lacks} readings of {values['here']} or "
        f"{values['there']} and are not used"
    )


def _not_interleaved(values: Values) -> str:
    text = "measured at different times, so anything else that changed meanwhile is part of "
    text += f"this difference; {_apart(values['days_apart'])}"
    if values["move"] is None:
        return text
    return f"{text}; the baseline moved by {sized(values['move'])} from its first to its last visit"


def _apart(days: float | None) -> str:
    if days is None:
        return "their times are unknown"
    if not days:
        return "their visits overlap in time"
    if days < _HOUR:
        return f"{significant(24 * 60 * days, 2)} min apart"
    if days < 1:
        return f"{significant(24 * days, 2)} h apart"
    return f"{counted(round(days), 'day')} apart"


def _extended(values: Values) -> str:
    rounds, planned = values["rounds"], values["planned"]
    if values["looks"]:
        text = f"the study was extended to {rounds} rounds after the look at round {planned}"
        return f"{text}; verdicts are those of the looks"
    text = f"the study was extended from {planned} to {rounds} rounds after results were visible"
    return f"{text}, which inflates false positives"


def _as_stated(values: Values) -> str:
    noise, unit = values["noise"], values["unit"]
    text = percentage(noise).lstrip("+") if unit is None else f"{significant(noise, 3)} {unit}"
    return (
        f"the interval assumes a stated noise of {text} (SD between visits); these readings "
        "cannot confirm it"
    )


def _several_factors(values: Values) -> str:
    factors = values["factors"]
    all_of, any_of = ("both", "either") if len(factors) == 2 else ("all", "any one of them")
    return (
        f"{listed(factors)} {all_of} differ from the baseline; the change cannot be credited to "
        f"{any_of}"
    )


def _no_spread(values: Values) -> str:
    if values["resolution_known"]:
        return "every visit has the same value, so the interval is that of the resolution"
    return "every visit has the same value and the resolution is unknown: no interval"


WORDS = {
    "one-visit": Words(
        "one visit on a side",
        "add at least one visit per side, better five in rounds",
        _one_visit,
        look="ferocal runs {workload} {metric}",
    ),
    "few-rounds": Words(
        "fewer than 5 paired rounds",
        "measure at least 5",
        lambda values: f"only {counted(values['rounds'], 'paired round')}",
        look="ferocal plan",
    ),
    "not-computed": Words(
        "values of a derived metric that could not be computed",
        "take the missing readings, or correct the formula",
        _not_computed,
        look="ferocal runs {workload}",
    ),
    "unpaired-rounds": Words(
        "rounds in which one side is missing",
        "take the missing runs with `ferocal measure --retry`",
        _unpaired,
    ),
    "not-interleaved": Words(
        "no common rounds",
        "measure in interleaved rounds where a way back exists",
        _not_interleaved,
    ),
    "unknown-visits": Words(
        "it is unknown which runs share a visit",
        "state which readings belong to one visit, or measure in rounds",
        "visits are unknown, so every run counts as a visit and the interval may be too narrow",
    ),
    "extended": Words(
        "rounds were added after results were visible",
        "treat the verdict as provisional, or measure a new study with --decide",
        _extended,
        look="ferocal inspect",
    ),
    "stale-noise-floor": Words(
        f"the noise floor is older than {STALE_DAYS:.0f} days",
        "measure a new noise floor: a control arm of ten rounds on this bench",
        "the noise floor is {days} days old; the noise may have changed",
        look="ferocal noise-floor",
    ),
    "as-stated": Words(
        "the interval assumes a stated noise level",
        "visit one configuration three times to measure the noise",
        _as_stated,
        look="ferocal inspect",
    ),
    "bounds-left-out": Words(
        "readings that are bounds, beside numbers",
        "obtain the values themselves, or judge by the bounds alone",
        "{} readings are bounds (such as >3600) and left out of averages, which biases them",
    ),
    "criteria-changed": Words(
        "margin, role, unit or direction was changed after the first reading",
        "judge by the original criteria, or explain why they changed",
        lambda values: criteria_text(values["change"]),
        look="ferocal inspect",
    ),
    "several-factors": Words(
        "several factors differ from the baseline together",
        "see which factor carries the change, and which configuration would separate them",
        _several_factors,
        look="ferocal factors",
    ),
    "difference-scale": Words(
        "readings that may be zero or negative, and a percentage margin",
        "give the metric a margin in its unit to show equivalence",
        "readings may be zero or negative, so the change is a difference in {unit} and a "
        "percentage margin does not apply",
        look="ferocal table {workload} {metric}",
    ),
    "assumed-times": Words(
        "a trace without times or a stated interval",
        "name the column with the times, or state the `interval` of the source",
        "the trace has no times and no stated interval; one second is assumed",
        look="ferocal inspect",
    ),
    "no-spread": Words(
        "every visit has the same value",
        "check that the metric is really measured, and declare its `resolution`",
        _no_spread,
        look="ferocal runs {workload} {metric}",
    ),
}
