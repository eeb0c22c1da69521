"""Caveats in the order of their weight, those that say the same in one sentence."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.caveats.table import CAVEATS
from ferocal.documents.caveats.words import seen_text, wording, words_of
from ferocal.documents.wording import side_text
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.caveats.kinds import Caveat, CaveatKind
    from ferocal.analysis.inference.effects import Effect

LevelsByName = Mapping[str, Mapping[str, str]]
_MOST_NAMED = 2


@dataclass(frozen=True)
class Remark:
    """Caveats of one kind as one sentence, the command that looks closer, and whose they are."""

    code: str
    weight: str
    text: str
    look: str
    effects: tuple[Effect, ...]


@dataclass(frozen=True)
class CaveatGroup:
    """All caveats of one kind: what to do, and what was seen where."""

    code: str
    weight: str
    advice: str
    seen: tuple[tuple[str, str], ...]


def make_remarks(effects: Sequence[Effect], levels: LevelsByName) -> list[Remark]:
    """The caveats of effects, a sentence for each kind, the gravest kinds first."""
    remarks = []
    for kind, places in _by_kind(effects).items():
        affected = [e for members in places.values() for e in members]
        text = _sentence(kind, list(places), effects, levels)
        look = _look(kind, affected)
        remarks.append(Remark(kind.code, kind.weight, text, look, tuple(affected)))
    return sorted(remarks, key=lambda remark: CAVEATS[remark.code].order)


def group_caveats(effects: Sequence[Effect], levels: LevelsByName) -> list[CaveatGroup]:
    """Each kind once, and below it each distinct caveat once, with where it applies."""
    groups = [
        CaveatGroup(
            kind.code,
            kind.weight,
            words_of(kind).advice,
            tuple(
                (
                    _place(c, affected, effects, levels) or "all",
                    seen_text(c) + (f"; accepted: {c.accepted}" if c.accepted else ""),
                )
                for c, affected in places.items()
            ),
        )
        for kind, places in _by_kind(effects).items()
    ]
    return sorted(groups, key=lambda group: CAVEATS[group.code].order)


def _place(
    caveat: Caveat, affected: Sequence[Effect], effects: Sequence[Effect], levels: LevelsByName
) -> str:
    """Where a single caveat applies, without the side that it names itself."""
    sides = [] if caveat.side is not None else _sides(affected, effects, set(), levels)
    return " ".join([*_metrics(affected, effects), *sides])


def _by_kind(effects: Sequence[Effect]) -> dict[CaveatKind, dict[Caveat, list[Effect]]]:
    """The caveats of each kind with their effects; those that read the same are one."""
    found: dict[CaveatKind, dict[Caveat, list[Effect]]] = {}
    alike: dict[tuple[object, ...], Caveat] = {}
    for effect in effects:
        for c in effect.caveats:
            shown = alike.setdefault((c.code, wording(c), c.side, c.amount, c.accepted), c)
            found.setdefault(c.kind, {}).setdefault(shown, []).append(effect)
    return found


def _sentence(
    kind: CaveatKind, caveats: Sequence[Caveat], effects: Sequence[Effect], levels: LevelsByName
) -> str:
    """What was seen of a kind and where, naming each thing once."""
    affected = [e for e in effects if any(c.kind is kind for c in e.caveats)]
    sides = {c.side for c in caveats if c.side is not None}
    wordings = dict.fromkeys(map(wording, caveats))
    what = _range(caveats) if len(wordings) == 1 else _several(kind, list(wordings))
    first = affected[0].series
    # What names the metrics itself needs them not before it.
    named = first.title in what or f"{first.workload} {first.metric}" in what
    metrics = [] if named else list(_metrics(affected, effects))
    reasons = dict.fromkeys(c.accepted for c in caveats if c.accepted)
    if reasons:
        what += f"; accepted: {'; '.join(reasons)}"
    place = " ".join([*metrics, *_sides(affected, effects, sides, levels)])
    return f"{place}: {what}" if place else what


def _range(caveats: Sequence[Caveat]) -> str:
    """What caveats of one wording say, from the lowest amount to the highest."""
    amounts = [c.amount for c in caveats if c.amount is not None]
    if not amounts:
        return wording(caveats[0])
    ends = list(dict.fromkeys(grouped(end) for end in (min(amounts), max(amounts))))
    return wording(caveats[0]).format(" to ".join(ends))


def _several(kind: CaveatKind, wordings: Sequence[str]) -> str:
    if len(wordings) == _MOST_NAMED:
        return "; ".join(wordings)
    return f"{words_of(kind).meaning} ({len(wordings)} cases)"


def _sides(
    affected: Sequence[Effect], effects: Sequence[Effect], sides: set[str], levels: LevelsByName
) -> Iterator[str]:
    """With which configurations a caveat was seen, nothing for all of them.

    These are its ``sides``, else the configurations of the effects that it bears on.
    """
    names, everyone = sides, {e.configuration for e in effects} | {next(iter(levels))}
    if not sides:
        names, everyone = ({e.configuration for e in of} for of in (affected, effects))
    if names != everyone and names <= set(levels):
        yield f"with {side_text(names, levels)}"


def _metrics(affected: Sequence[Effect], effects: Sequence[Effect]) -> Iterator[str]:
    """The metrics of effects in as few words as name them, none if they are all."""
    series = list(dict.fromkeys(e.series for e in affected))
    if set(series) == {e.series for e in effects} and len(series) > 1:
        return
    workloads = list(dict.fromkeys(s.workload for s in series))
    whole = {e.series for e in effects if e.series.workload in workloads} == set(series)
    if len(series) <= _MOST_NAMED:
        yield listed([s.title for s in series])
    elif len(workloads) <= _MOST_NAMED:
        metrics = "" if whole else f" ({counted(len(series), 'metric')})"
        yield f"{listed(workloads)}{metrics}"
    else:
        yield f"{counted(len(series), 'metric')} of {len(workloads)} workloads"


def _look(kind: CaveatKind, affected: Sequence[Effect]) -> str:
    """The command that looks closer at the effects a caveat bears on."""
    found = {
        "workload": dict.fromkeys(e.series.workload for e in affected),
        "metric": dict.fromkeys(e.series.metric.partition("/")[0] for e in affected),
        "configuration": dict.fromkeys(e.configuration for e in affected),
    }
    options = {
        key: f"--{key} {next(iter(names))}" if len(names) == 1 else ""
        for key, names in found.items()
    }
    return " ".join(words_of(kind).look.format(**options).split())
