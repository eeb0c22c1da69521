"""What a plan cannot tell apart, and the fewest configurations that would tell it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from ferocal.analysis.factors.confounding import find_confounding, separating_set
from ferocal.analysis.factors.design import FactorDesign, Levels, Term, make_design
from ferocal.errors import UsageError
from ferocal.study.configurations import CONTROL, is_possible, name_of
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.wording import listed

# A switch without a stated duration counts as much as any other switch.
_UNKNOWN_SECONDS = 60.0


@dataclass(frozen=True)
class ProposedConfiguration:
    """A configuration that is to be measured; ``new`` where the study does not have it yet."""

    name: str
    levels: Levels
    new: bool


@dataclass(frozen=True)
class Separation:
    """The fewest configurations that tell all factors apart, the baseline first.

    ``effects`` counts what they separate; ``unneeded`` are configurations of the study that add
    nothing to that. ``inseparable`` are effects that nothing possible separates. ``switches`` are
    those of a round, ``seconds`` what they take, None where no duration is stated.
    """

    question: str
    factors: tuple[str, ...]
    interactions: tuple[tuple[str, str], ...]
    configurations: tuple[ProposedConfiguration, ...]
    effects: int
    unneeded: tuple[str, ...]
    inseparable: tuple[str, ...]
    switches: int
    seconds: float | None


def planned_design(study: Study) -> FactorDesign:
    """The design of a study as it is planned, all of it in common rounds."""
    rows = [c.levels for c in study.configurations]
    return make_design(rows, study.configuration(study.baseline).levels, [0] * len(rows))


def confounded_factors(study: Study) -> set[str]:
    """The factors of which some effect cannot be told apart from others."""
    design = planned_design(study)
    fits = design.estimable(design.main_terms)
    terms = zip(design.main_terms, fits, strict=True)
    return {factor for term, fit in terms if not fit for factor in term.factors}


def planned_confounding(study: Study) -> Iterator[tuple[tuple[Term, ...], str | None]]:
    """What the planned configurations cannot tell apart, each with one that would."""
    design = planned_design(study)
    grid = {f: tuple(study.file.factor[f].level) for f in design.factors}
    for found in find_confounding(design, _allowed(study), grid, _cost_of(study)):
        name = None
        if found.separate is not None:
            name = name_of(study.design, study.file, dict(found.separate))
        yield found.terms, name


def separate(study: Study, interactions: Sequence[tuple[str, str]] = ()) -> Separation:
    """The fewest configurations that separate all main effects, and the interactions named.

    They are the study's own where these do, and among others those that cost least to switch to.

    Raises
    ------
    UsageError
        When an interaction names what is no factor, or the same one twice.
    """
    factors = list(study.file.factor)
    pairs = tuple(_pair(pair, factors) for pair in interactions)
    grid = {f: _from_baseline(study, f) for f in factors if len(study.file.factor[f].level) > 1}
    baseline = study.configuration(study.baseline).levels
    cost_of = _cost_of(study)
    own = [c for c in study.configurations if c.name != CONTROL]
    present = sorted((c.levels for c in own), key=cost_of)
    chosen, inseparable = separating_set(grid, baseline, present, pairs, _allowed(study), cost_of)
    proposed = tuple(
        ProposedConfiguration(
            name_of(study.design, study.file, dict(levels)), levels, levels not in present
        )
        for levels in _in_order(study, chosen)
    )
    switches = _switches(study, proposed)
    return Separation(
        question=study.head.question,
        factors=tuple(grid),
        interactions=pairs,
        configurations=proposed,
        effects=len(chosen) - 1,
        unneeded=tuple(c.name for c in own if c.levels not in chosen),
        inseparable=tuple(term.text for term in inseparable),
        switches=len(switches),
        seconds=None if None in switches else sum(filter(None, switches)),
    )


def _in_order(study: Study, chosen: Sequence[Levels]) -> list[Levels]:
    """From the baseline on always to the one that is nearest in switching."""
    left, ordered = list(chosen[1:]), [chosen[0]]
    while left:
        here = ordered[-1]
        nearest = min(left, key=lambda levels: _seconds_between(study, here, levels))
        left.remove(nearest)
        ordered.append(nearest)
    return ordered


def _from_baseline(study: Study, factor: str) -> tuple[str, ...]:
    """The levels of a factor, that of the baseline first."""
    base = study.configuration(study.baseline).levels[factor]
    return tuple(sorted(study.file.factor[factor].level, key=lambda level: level != base))


def _pair(pair: tuple[str, str], factors: list[str]) -> tuple[str, str]:
    for name in pair:
        if name not in factors:
            raise UsageError(f'no factor "{name}" in this study; {closest(name, factors)}')
    if pair[0] == pair[1]:
        raise UsageError(f"an interaction is of two factors, not of {listed(list(pair))}")
    first, second = sorted(pair, key=factors.index)
    return first, second


def _allowed(study: Study) -> Callable[[Levels], bool]:
    return lambda levels: is_possible(study.file, dict(levels))


def _cost_of(study: Study) -> Callable[[Levels], float]:
    """What it takes to switch from the baseline to a combination (s)."""
    baseline = study.configuration(study.baseline).levels

    return lambda levels: _seconds_between(study, baseline, levels)


def _seconds_between(study: Study, start: Levels, end: Levels) -> float:
    """What it takes to switch from one combination to another; of equals the fewer changes."""
    changed = [(f, v) for f, v in end.items() if v != start[f]]
    return sum(_seconds(study, f, v) for f, v in changed) + 1e-6 * len(changed)


def _seconds(study: Study, factor: str, name: str) -> float:
    """How long switching to a level takes; a minute unless stated; nothing without a switch."""
    level = study.level(factor, name)
    if not level.switch and not level.hold:
        return 0.0
    return _UNKNOWN_SECONDS if level.takes is None else level.takes


def _switches(study: Study, proposed: Sequence[ProposedConfiguration]) -> list[float | None]:
    """The duration of every switch of a round in this order, and back; None where unstated."""
    found: list[float | None] = []
    levels = [p.levels for p in proposed]
    for before, after in zip(levels, [*levels[1:], levels[0]], strict=True):
        for factor, name in after.items():
            level = study.level(factor, name)
            if before[factor] != name and (level.switch or level.hold):
                found.append(level.takes)
    return found
