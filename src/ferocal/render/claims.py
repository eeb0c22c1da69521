"""Claims beside what readings say of them, as text."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Console

from ferocal.analysis.data.series import factor_of, share_of
from ferocal.analysis.inference.claims import ClaimVerdict
from ferocal.render.console import Text, fold_with, room, show_beside
from ferocal.render.next_steps import measure_command
from ferocal.render.numbers import decimals_for, p_text, signed
from ferocal.render.remarks import remark_lines
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.wording import be, counted, listed

if TYPE_CHECKING:
    from ferocal.answers.claims import ClaimFinding, ClaimsAnswer

_STYLES = {
    ClaimVerdict.SUPPORTED: "bold blue",
    ClaimVerdict.REFUTED: "bold dark_orange",
    ClaimVerdict.UNDECIDED: "italic",
}
# What was not supported comes first: it is what a reader has to know.
_ORDER = (ClaimVerdict.REFUTED, ClaimVerdict.UNDECIDED, ClaimVerdict.SUPPORTED)
_MOST_CLAIMS = 7
_KEYS = ("at-most", "at-least", "within", "between", "metric", "configuration", "against", "says")


def show_claims(
    console: Console, answer: ClaimsAnswer, *, detail: bool = False, problem: str | None = None
) -> None:
    """Print how many claims hold, then every claim, the refuted ones first, and what to mind."""
    console.print(answer.question, style="bold", end="\n\n")
    show_beside(console, "", [headline(answer)], margin=0)
    ordered = [f for verdict in _ORDER for f in answer.of(verdict)]
    shown = ordered if detail else ordered[:_MOST_CLAIMS]
    for finding in shown:
        verdict = finding.judged.verdict
        head = Text.assemble((f"{verdict:<10} ", _STYLES[verdict]), (finding.name, "bold"))
        console.print()
        console.print(head.append(f'  "{finding.claim.says}"'))
        for line in claim_lines(finding, detail=detail):
            show_beside(console, "", [line], margin=11)
    console.print()
    if len(shown) < len(ordered):
        console.print(f"{len(ordered) - len(shown)} more: ferocal claims --detail\n")
    minds = [*claim_remarks(answer, problem)]
    minds += [line for pair in remark_lines(answer) for line in fold_with(*pair, room(console))]
    if minds:
        show_beside(console, "mind", minds)
    steps = [line for step in _next(answer) for line in fold_with(*step, room(console))]
    show_beside(console, "next", steps)


def headline(answer: ClaimsAnswer) -> str:
    """How many claims are refuted, undecided and supported."""
    parts = [f"{len(found)} {v}" for v in _ORDER if (found := answer.of(v))]
    text = f"Of {counted(len(answer.findings), 'claim')}, {listed(parts)}"
    if all(f.written_before for f in answer.findings):
        text += "; all were kept before the first reading"
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
        yield f"kept since {seen}; p {p_text(judged.p_adjusted)}, adjusted for all claims"


def subject(finding: ClaimFinding) -> str:
    """What a claim is on: metric, configuration, and with what that is compared."""
    claim, title = finding.claim, finding.series.title
    if finding.kind == "ratio":
        return f"{title} over {claim.ratio_to}, {claim.configuration}"
    if finding.kind == "value":
        return f"{title}, {claim.configuration}"
    return f"{title}, {claim.configuration} against {finding.baseline}"


def found_text(finding: ClaimFinding) -> str:
    """What readings show, with the interval that decides."""
    judged = finding.judged
    if math.isnan(judged.mean) and math.isnan(judged.low):
        return "nothing was read that could tell"
    if math.isnan(judged.mean):
        above = math.isinf(judged.high)
        edge = judged.low if above else judged.high
        return f"{'above' if above else 'below'} {_with_unit(finding, _number(finding, edge, 2))}"
    if math.isnan(judged.low):
        return f"{_with_unit(finding, _number(finding, judged.mean, 2))}, without an interval"
    places = decimals_for((_read(finding, judged.high) - _read(finding, judged.low)) / 2)
    numbers = (_number(finding, x, places) for x in (judged.mean, judged.low, judged.high))
    middle, low, high = numbers
    return f"{_with_unit(finding, middle)} ({low} … {high})"


def claimed_text(finding: ClaimFinding) -> str:
    """The bound; of run-to-run noise also how much that is."""
    bound, edge = finding.claim.bound, finding.judged.ends[1]
    if finding.claim.within != "noise":
        return bound
    if not math.isfinite(edge):
        return f"{bound}, which is not known here"
    return f"{bound}, ±{_with_unit(finding, significant(_read(finding, edge), 2))}"


def _read(finding: ClaimFinding, value: float) -> float:
    """A number on the scale of the analysis as people read it: per cent, a ratio, a value."""
    if finding.judged.scale != "ratio":
        return value
    return 100 * share_of(value) if finding.kind == "change" else factor_of(value)


def _number(finding: ClaimFinding, value: float, places: int) -> str:
    read = _read(finding, value)
    return signed(read, places) if finding.kind == "change" else grouped(read, places)


def _with_unit(finding: ClaimFinding, number: str) -> str:
    ratio = finding.judged.scale == "ratio"
    units = {"change": "%" if ratio else finding.series.unit, "ratio": "times"}
    return f"{number} {units.get(finding.kind, finding.series.unit)}"


def undecided_text(finding: ClaimFinding) -> str:
    """What would decide a claim."""
    judged = finding.judged
    if finding.barred is not None:
        return f"not comparable, for {finding.barred}"
    if judged.more_rounds is not None:
        return f"about {counted(judged.more_rounds, 'more round')} would decide it"
    if finding.claim.within == "noise" and not math.isfinite(judged.ends[1]):
        return "how much visits vary is not known: measure with control = true, or three visits"
    if judged.estimate is None:
        return "nothing was measured that its bound fits"
    if math.isnan(judged.low):
        return "a second visit to each side, better five rounds, would give it an interval"
    return "what was read is too near to the bound for 100 rounds to tell"


def claim_remarks(answer: ClaimsAnswer, problem: str | None = None) -> Iterator[str]:
    """When claims were written, what they once were, and which were withdrawn."""
    late = [f.name for f in answer.findings if f.written_before is False]
    if late:
        verb = "was" if len(late) == 1 else "were"
        yield f"{listed(late)} {verb} written or changed after the first reading"
    unknown = [f.name for f in answer.findings if f.written_before is None and f.first_seen]
    if unknown:
        text = f"whether {listed(unknown)} {be(len(unknown))} older than the readings is not known"
        yield f"{text}: some have no date, no time of day, or no time zone (UTC is assumed)"
    for finding in answer.findings:
        for date, was in finding.history:
            yield f"{finding.name} was another on {date}: {_difference(finding, was)}"
    for claim in answer.withdrawn:
        says = claim.content.get("says", "")
        yield f'{claim.name} ("{says}") was claimed on {claim.at[:10]}, and is no more'
    if problem is not None:
        yield f"the claims could not be kept: {problem}"


def _difference(finding: ClaimFinding, was: object) -> str:
    """What a claim was that it is not any more."""
    assert isinstance(was, dict)
    now = finding.content
    changed = [f"{key} {was[key]}" for key in _KEYS if key in was and was[key] != now.get(key)]
    return listed(changed) if changed else "less was said"


def _next(answer: ClaimsAnswer) -> Iterator[tuple[str, str | None]]:
    undecided = answer.of(ClaimVerdict.UNDECIDED)
    near = [f for f in undecided if f.judged.more_rounds]
    if near:
        more = max(f.judged.more_rounds or 0 for f in near)
        command = None
        if answer.prospect.replicates == "rounds":
            command = f"ferocal measure --rounds {answer.prospect.last_round + more}"
        yield f"{counted(more, 'more round')} to decide {listed([f.name for f in near])}", command
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
