"""Claims beside what readings say of them."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.analysis.data.series import factor_of, share_of
from ferocal.analysis.inference.claims import ClaimVerdict
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import (
    Block,
    Document,
    Items,
    Line,
    Lines,
    Place,
    caveats,
    next_steps,
    sentences,
)
from ferocal.documents.caveats.words import seen_text
from ferocal.documents.next_steps import measure_command
from ferocal.documents.numbers import decimals_for, p_text, signed
from ferocal.documents.remarks import remark_lines
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.answers.claims import ClaimFinding, ClaimsAnswer

# The verdict on an effect that looks like that on a claim.
_LIKE = {
    ClaimVerdict.SUPPORTED: Verdict.BETTER,
    ClaimVerdict.REFUTED: Verdict.WORSE,
    ClaimVerdict.UNDECIDED: Verdict.INCONCLUSIVE,
}
# What was not supported comes first: it is what a reader has to know.
_ORDER = (ClaimVerdict.REFUTED, ClaimVerdict.UNDECIDED, ClaimVerdict.SUPPORTED)
_MOST_CLAIMS = 7
_KEYS = ("at-most", "at-least", "within", "between", "metric", "configuration", "against", "says")


def claims_document(
    answer: ClaimsAnswer, *, detail: bool = False, problem: str | None = None
) -> Document:
    """How many claims hold, then every claim, the refuted ones first, and caveats."""
    ordered = [f for verdict in _ORDER for f in answer.of(verdict)]
    shown = ordered if detail else ordered[:_MOST_CLAIMS]
    items = tuple((_claim_head(f), tuple(_claim_parts(f, detail=detail))) for f in shown)
    blocks: list[Block] = [Lines((Line(headline(answer)),), "answer"), Items(items)]
    if len(shown) < len(ordered):
        blocks.append(sentences([f"{len(ordered) - len(shown)} more: ferocal claims --detail"]))
    blocks += caveats([*claim_remarks(answer, problem), *remark_lines(answer)])
    return Document(answer.question, (*blocks, next_steps(*_next(answer))))


def _claim_head(finding: ClaimFinding) -> Line:
    verdict = finding.judged.verdict
    return Line(f'{finding.name}  "{finding.claim.says}"', str(verdict), verdict=_LIKE[verdict])


def _claim_parts(finding: ClaimFinding, *, detail: bool) -> Iterator[Line]:
    """What a claim is on and what was found, as lines; the number leads to its runs."""
    series = finding.series
    where = (finding.bench, series.workload, series.metric, finding.claim.configuration)
    linked = ((found_text(finding), Place(*where)),)
    for text in claim_lines(finding, detail=detail):
        yield Line(text, linked=linked)


def headline(answer: ClaimsAnswer) -> str:
    """How many claims are refuted, undecided and supported."""
    parts = [f"{len(found)} {v}" for v in _ORDER if (found := answer.of(v))]
    text = f"{counted(len(answer.findings), 'claim')}: {listed(parts)}"
    if all(f.written_before for f in answer.findings):
        text += "; all were recorded before the first reading"
    return f"{text}."


def claim_lines(finding: ClaimFinding, *, detail: bool) -> Iterator[str]:
    """What a claim is on, what was found, what would decide it, and who says so."""
    claim, judged = finding.claim, finding.judged
    yield f"{subject(finding)}: {found_text(finding)}; claimed: {claimed_text(finding)}"
    if judged.verdict is ClaimVerdict.UNDECIDED:
        yield undecided_text(finding)
    about = [claim.source, claim.date.isoformat() if claim.date else ""]
    if any(about):
        yield f"source: {', '.join(filter(None, about))}"
    if detail:
        seen = finding.first_seen[:10] if finding.first_seen else "not yet"
        yield f"recorded {seen}; p {p_text(judged.p_adjusted)}, adjusted for all claims"


def subject(finding: ClaimFinding) -> str:
    """What a claim is on: metric, configuration, and with what that is compared."""
    claim, title = finding.claim, finding.series.title
    where = claim.configuration if finding.alone else f"{claim.configuration} on {finding.bench}"
    if finding.kind == "ratio":
        return f"{title} over {claim.ratio_to}, {where}"
    if finding.kind == "value":
        return f"{title}, {where}"
    return f"{title}, {where} against {finding.baseline}"


def found_text(finding: ClaimFinding) -> str:
    """What readings show, with the interval that decides."""
    judged = finding.judged
    if finding.unfit:
        return "not tested"
    if math.isnan(judged.mean) and math.isnan(judged.low):
        return "no reading bears on it"
    if math.isnan(judged.mean):
        above = math.isinf(judged.high)
        edge = judged.low if above else judged.high
        return f"{'above' if above else 'below'} {_with_unit(finding, _number(finding, edge, 2))}"
    if math.isnan(judged.low):
        return f"{_with_unit(finding, _number(finding, judged.mean, 2))}, without an interval"
    places = decimals_for(
        (as_people_read(finding, judged.high) - as_people_read(finding, judged.low)) / 2
    )
    numbers = (_number(finding, x, places) for x in (judged.mean, judged.low, judged.high))
    middle, lower, upper = numbers
    known = judged.estimate
    stated = ", as stated" if known is not None and known.method is Method.STATED else ""
    return f"{_with_unit(finding, middle)} ({lower} … {upper}{stated})"


def claimed_text(finding: ClaimFinding) -> str:
    """The bound; of run-to-run noise also how much that is."""
    bound, edge = finding.claim.bound, finding.judged.ends[1]
    if finding.claim.within != "noise":
        return bound
    if not math.isfinite(edge):
        return f"{bound} (unknown here)"
    return f"{bound}, ±{_with_unit(finding, significant(as_people_read(finding, edge), 2))}"


def as_people_read(finding: ClaimFinding, value: float) -> float:
    """A number on the scale of the analysis as people read it: per cent, a ratio, a value."""
    if finding.judged.scale != "ratio":
        return value
    return 100 * share_of(value) if finding.kind == "change" else factor_of(value)


def _number(finding: ClaimFinding, value: float, places: int) -> str:
    read = as_people_read(finding, value)
    return signed(read, places) if finding.kind == "change" else grouped(read, places)


def _with_unit(finding: ClaimFinding, number: str) -> str:
    ratio = finding.judged.scale == "ratio"
    units = {"change": "%" if ratio else finding.series.unit, "ratio": "times"}
    return f"{number} {units.get(finding.kind, finding.series.unit)}"


def undecided_text(finding: ClaimFinding) -> str:
    """What would decide a claim."""
    judged = finding.judged
    if finding.barred is not None:
        return f"not comparable: {seen_text(finding.barred)}"
    if judged.more_rounds is not None:
        return f"about {counted(judged.more_rounds, 'more round')} should settle it"
    if finding.claim.within == "noise" and not math.isfinite(judged.ends[1]):
        return "the noise between visits is unknown: measure with control = true, or visit thrice"
    if finding.unfit:
        return _unfit_text(finding)
    if judged.estimate is None:
        return "nothing that this bound applies to has been measured"
    if math.isnan(judged.low):
        return "it has no interval yet: visit each side again, better in five rounds"
    return "too close to the bound for 100 rounds to settle"


def _unfit_text(finding: ClaimFinding) -> str:
    claim, which = finding.claim, finding.series.title
    if finding.kind != "ratio" and not {limit.unit for limit in claim.limits} & {"%", "times"}:
        return f"{which} is compared as a ratio: state the bound in %"
    if finding.kind == "ratio":
        which = f"one of {which} and {claim.ratio_to}"
    return (
        f"its bound needs a ratio, but {which} may be zero or negative, or has a margin in a unit"
    )


def claim_remarks(answer: ClaimsAnswer, problem: str | None = None) -> Iterator[str]:
    """When claims were written, what they once were, and which were withdrawn."""
    late = [f.name for f in answer.findings if f.written_before is False]
    if late:
        verb = "was" if len(late) == 1 else "were"
        yield f"{listed(late)} {verb} stated or changed after the first reading"
    unknown = [f.name for f in answer.findings if f.written_before is None and f.first_seen]
    if unknown:
        text = f"unknown whether {listed(unknown)} {be(len(unknown))} older than the readings"
        yield f"{text}: some have no date, time or time zone (UTC assumed)"
    for finding in answer.findings:
        for date, was in finding.history:
            yield f"{finding.name} was changed after {date}; it said: {_difference(finding, was)}"
    for claim in answer.withdrawn:
        says = claim.content.get("says", "")
        yield f'{claim.name} ("{says}", {claim.at[:10]}) has been withdrawn'
    if problem is not None:
        yield f"the claims could not be recorded: {problem}"


def _difference(finding: ClaimFinding, was: object) -> str:
    """What a claim was that it is not any more."""
    assert isinstance(was, dict)
    now = finding.content
    changed = [f"{key} {was[key]}" for key in _KEYS if key in was and was[key] != now.get(key)]
    return listed(changed) if changed else "less"


def _next(answer: ClaimsAnswer) -> Iterator[tuple[str, str | None]]:
    undecided = answer.of(ClaimVerdict.UNDECIDED)
    near = [f for f in undecided if f.judged.more_rounds]
    if near:
        more = max(f.judged.more_rounds or 0 for f in near)
        command = None
        if answer.prospect.replicates == "rounds":
            command = f"ferocal measure --rounds {answer.prospect.last_round + more}"
        yield f"{counted(more, 'more round')} to settle {listed([f.name for f in near])}", command
    elif any(f.judged.estimate is None for f in undecided) and measure_command(answer.prospect):
        yield "take the readings", measure_command(answer.prospect)
    else:
        yield "the changes behind them", "ferocal compare"


def gate_lines(answer: ClaimsAnswer, gate: str) -> list[str]:
    """A line for every claim that breaks a gate; none where it is passed."""
    broken = answer.of(ClaimVerdict.REFUTED)
    if gate == "supported":
        broken = [f for f in answer.findings if f.judged.verdict is not ClaimVerdict.SUPPORTED]
    return [
        f"gate {gate}: {f.name} is {f.judged.verdict}: {subject(f)}: {found_text(f)}"
        for f in broken
    ]
