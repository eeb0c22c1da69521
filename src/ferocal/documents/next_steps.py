"""What to do next, of what can be done here, with what it costs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.effects import counting_effects
from ferocal.analysis.inference.power import MOST_ROUNDS
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.numbers import duration
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import counted

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.compare import Comparison, Prospect

# At most so many steps are proposed.
_MOST_STEPS = 2


@dataclass(frozen=True)
class _Further:
    """So many more rounds or visits a side decide so many of what is open."""

    more: int
    decided: int
    open: int

    @property
    def which(self) -> str:
        if self.decided == self.open == 1:
            return "it"
        if self.decided == self.open:
            return f"the {self.open} inconclusive comparisons"
        return f"{self.decided} of {self.open} inconclusive comparisons"


NextStep = tuple[str, str | None]


def next_steps(comparison: Comparison) -> list[NextStep]:
    """What a sensible colleague would propose after a comparison, at most two steps."""
    return list(_steps(comparison))[:_MOST_STEPS]


def _steps(comparison: Comparison) -> Iterator[NextStep]:
    if comparison.alarm:
        text = "find out what changes between two visits to the same configuration"
        yield text, "ferocal compare --detail --configuration control"
        return
    bench = comparison.benches[0]
    prospect = comparison.prospects[bench]
    missing = [name for where, name in comparison.unmeasured if where == bench]
    command = measure_command(prospect)
    if missing and command is not None:
        which = missing[0] if len(missing) == 1 else counted(len(missing), "configuration")
        yield f"some runs of {which} are missing", command
    compared = [e for e in comparison.effects if not e.control]
    yield from _for_seen_once(prospect, compared)
    yield from _for_open(comparison, prospect, counting_effects(compared))
    undecided = (Verdict.SEEN_ONCE, Verdict.INCONCLUSIVE)
    if not all(e.verdict in undecided for e in compared):
        yield "write the report", "ferocal report"


def measure_command(prospect: Prospect) -> str | None:
    """The command that takes runs of the plan, None where there is none to take."""
    if prospect.kinds and "measure" not in prospect.kinds:
        return None
    if prospect.lost:
        return "ferocal measure --retry"
    return "ferocal measure" if prospect.open else None


def _for_seen_once(prospect: Prospect, effects: Sequence[Effect]) -> Iterator[NextStep]:
    if not any(e.verdict is Verdict.SEEN_ONCE for e in effects):
        return
    use = "use the noise measured in an earlier study"
    if prospect.replicates != "none":
        yield "visit one configuration three times to measure the noise between visits", None
        use = f"or {use}"
    yield use, "ferocal noise-floor DIR"


def _for_open(
    comparison: Comparison, prospect: Prospect, effects: Sequence[Effect]
) -> Iterator[NextStep]:
    pending = [e for e in effects if e.verdict is Verdict.INCONCLUSIVE]
    if not pending:
        return
    looks = [e.open_until for e in pending if e.open_until is not None]
    if looks:
        when = _until(comparison, prospect, min(looks))
        yield f"measure until the look after round {min(looks)}{when}", "ferocal measure --decide"
        return
    further = _further(pending)
    if further is not None:
        which = "the inconclusive comparison" if len(pending) == 1 else further.which
        if prospect.replicates == "none":
            text = f"{_amount(prospect, further)} would have settled {which}; plan the next change"
            yield text, "ferocal plan"
            return
        text = f"{_amount(prospect, further)} should settle {which}"
        yield text, _command(comparison, prospect, further)
    elif any(e.out_of_reach for e in pending):
        text = "the inconclusive comparisons are out of reach: lengthen the workloads, or accept a "
        yield f"{text}wider margin", None


def _command(comparison: Comparison, prospect: Prospect, further: _Further) -> str | None:
    """The command that brings more rounds or visits."""
    if prospect.replicates == "rounds":
        return f"ferocal measure --rounds {prospect.last_round + further.more}"
    if "load" in prospect.kinds:
        return "ferocal load FILE"
    return "ferocal enter" if "enter" in prospect.kinds else None


def what_decides(comparison: Comparison, effects: Sequence[Effect]) -> str:
    """What would decide effects that are open, and how long that takes."""
    prospect = comparison.prospects[comparison.benches[0]]
    looks = [e.open_until for e in effects if e.open_until is not None]
    if looks:
        when = _until(comparison, prospect, min(looks))
        return f"The next look is after round {min(looks)}{when}."
    further = _further(effects)
    if further is None:
        if any(e.out_of_reach for e in effects):
            return f"More than {MOST_ROUNDS} rounds would be needed to settle this."
        return "How many more readings would settle this is unknown."
    amount = _amount(prospect, further)
    return f"{amount[0].upper()}{amount[1:]} should settle {further.which}."


def _amount(prospect: Prospect, further: _Further) -> str:
    """So many rounds and their time, or visits."""
    if prospect.replicates != "rounds":
        return f"about {counted(further.more, 'more visit')} to each side"
    return f"about {counted(further.more, 'more round')}{_time(prospect, further.more)}"


def _until(comparison: Comparison, prospect: Prospect, look: int) -> str:
    """How long it takes to measure up to a look."""
    return _time(prospect, look - max((e.rounds for e in comparison.effects), default=0))


def _time(prospect: Prospect, rounds: int) -> str:
    seconds = prospect.round_seconds
    return "" if seconds is None or rounds < 1 else f" ({duration(rounds * seconds)})"


def _further(effects: Sequence[Effect]) -> _Further | None:
    """What decides most for its cost: the number that decides all in reach, or half of it.

    The last comparisons often need many times what the others need: then what decides half of
    those in reach is proposed.
    """
    needs = sorted(
        e.more_rounds or e.more_visits or 0
        for e in effects
        if e.more_rounds is not None or e.more_visits is not None
    )
    if not needs:
        return None
    half = needs[(len(needs) - 1) // 2]
    more = needs[-1] if needs[-1] <= 3 * half else half
    return _Further(more, sum(n <= more for n in needs), len(effects))
