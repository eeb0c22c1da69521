"""A series of releases: where it changed, where it stands now, what to measure next."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.blocks import (
    Base,
    Block,
    Chart,
    Document,
    Grid,
    GridCell,
    Heading,
    Line,
    Lines,
    Place,
    Table,
    caveats,
    make_table,
    next_steps,
)
from ferocal.documents.grids import STATED_NOTE, arrange, change_cell, meanings
from ferocal.documents.numbers import (
    PlainChange,
    change_and_half,
    change_text,
    change_with_half,
    decimals_for,
    margin_text,
    percent,
)
from ferocal.documents.remarks import remark_lines
from ferocal.documents.seeking import next_command, next_text
from ferocal.documents.sessions import session_sentences
from ferocal.terms.numbers import grouped, significant
from ferocal.terms.roles import DECIDING
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.analysis.inference.effects import Estimate
    from ferocal.analysis.series.newest import Newest
    from ferocal.analysis.series.shifts import SeriesShift
    from ferocal.answers.release_line import Release
    from ferocal.answers.series import ReleaseValue, SeriesAnswer

# Below this probability the other kind of change is named too.
_SURE = 0.95
_MOST_NAMED = 6
_MOST_REMARKS = 3


def series_document(answer: SeriesAnswer, *, detail: bool = False) -> Document:
    """The steps of every bench, where the latest release stands, and caveats."""
    benches = list(dict.fromkeys(v.bench for v in answer.values))
    blocks: list[Block] = []
    for bench in benches:
        if len(benches) > 1:
            blocks.append(Heading(f"bench {bench}"))
        measured = sorted({v.release for v in answer.values if v.bench == bench})
        if len(measured) < 2:
            only = release_text(answer.releases[measured[0]])
            blocks.append(Lines((Line(f"Nothing to compare yet: only {only} was measured."),)))
            continue
        linked = tuple(
            (" ".join(change_and_half(step)), place_of(step))
            for step in answer.steps
            if step.bench == bench
        )
        lines = [Line(text, head, linked=linked) for head, text in step_lines(answer, bench)]
        blocks.append(Lines((*lines, *map(Line, notes_of(answer, bench))), "answer"))
        blocks += _latest(answer, bench)
        if detail:
            blocks += _all_values(answer, bench)
    blocks.append(Chart("series", answer, f"every release of {answer.factor}"))
    blocks += caveats([*remarks_of(answer), *remark_lines(answer)])
    return Document(answer.question, (*blocks, next_steps(*_next(answer))))


def shown_series(answer: SeriesAnswer) -> list[Series]:
    """The metrics that are shown unless others are asked for: those that decide."""
    own = list(dict.fromkeys(value.series for value in answer.values))
    deciding = [series for series in own if series.role in DECIDING]
    return own if answer.asked or not deciding else deciding


def step_lines(answer: SeriesAnswer, bench: str) -> Iterator[tuple[str, str]]:
    """Where something changed and what, in the order of the releases; then what did not."""
    shown = shown_series(answer)
    steps = [s for s in answer.steps if s.bench == bench and s.series in shown]
    places: dict[tuple[int, int, str], list[SeriesShift]] = {}
    for step in sorted(steps, key=lambda s: (s.first, s.last, shown.index(s.series))):
        places.setdefault((step.last, step.first, step.kind), []).append(step)
    for (last, first, kind), found in places.items():
        if len(found) > _MOST_NAMED:
            parts = list(_together(found, len(_own_series(answer, bench))))
        else:
            shorter = _known_workloads(found)
            parts = [step_text(step, answer, shorter[step]) for step in found]
        yield place_text(answer, last, first, kind), ", ".join(parts)
    changed = {step.series for step in steps}
    unsearched = {series for b, series in answer.unsearched if b == bench}
    own = _own_series(answer, bench)
    quiet = [s.title for s in own if s not in changed | unsearched]
    if quiet:
        rest = len(quiet) - _MOST_NAMED
        more = f", {rest} more" if rest > 0 else ""
        yield "", f"no step or creep detected: {', '.join(quiet[:_MOST_NAMED])}{more}"


def _own_series(answer: SeriesAnswer, bench: str) -> list[Series]:
    """The metrics that are shown of a bench, in their order."""
    shown = shown_series(answer)
    own = dict.fromkeys(v.series for v in answer.values if v.bench == bench)
    return [series for series in own if series in shown]


def _together(steps: Sequence[SeriesShift], metrics: int) -> Iterator[str]:
    """What many metrics do at one place, such as "43 of 50 metrics worse, by 3.1 to 5.0 %"."""
    for verdict in Verdict:
        alike = [step for step in steps if step.verdict is verdict]
        sizes = sorted(abs(step.change) for step in alike if step.scale == "ratio")
        of = f" of {metrics} metrics" if verdict is steps[0].verdict else ""
        if alike:
            ends = dict.fromkeys(significant(100 * sizes[n], 2) for n in (0, -1) if sizes)
            by = f", by {' to '.join(ends)} %" if len(sizes) == len(alike) else ""
            yield f"{len(alike)}{of} {verdict}{by}"


def notes_of(answer: SeriesAnswer, bench: str) -> Iterator[str]:
    """What is opposite for short and long sessions, and what the study file notes of releases."""
    shown = shown_series(answer)
    steps = [s for s in answer.steps if s.bench == bench]
    yield from session_sentences((answer.releases[s.first].name, s) for s in steps)
    firsts = {s.first for s in answer.steps if s.bench == bench and s.series in shown}
    texts = [f"{r.name}: {r.note}" for n, r in enumerate(answer.releases) if r.note and n in firsts]
    if texts:
        yield f"Noted of {listed(texts)}."


def place_text(answer: SeriesAnswer, last: int, first: int, kind: str) -> str:
    """Where something changed, such as "fw-1.05 → fw-1.06 (2025-09-09)"."""
    releases = answer.releases
    begin, end = releases[last].name, release_text(releases[first])
    return f"{begin} ⇢ {end}" if kind == "creep" else f"{begin} → {end}"


def _known_workloads(steps: Sequence[SeriesShift]) -> dict[SeriesShift, str]:
    """What each metric is called after those before it: a workload is not named twice."""
    names, before = {}, ""
    for step in steps:
        again = step.series.workload == before and step.series.label
        names[step] = (step.series.label or "") if again else step.series.title
        before = step.series.workload
    return names


def step_text(step: SeriesShift, answer: SeriesAnswer, title: str) -> str:
    """A metric with its change, such as "kiosk-page −5.0 ±0.6 % (worse)"."""
    size = " ".join(change_and_half(step))
    word = "creep of " if step.kind == "creep" else ""
    text = f"{title} {word}{size} ({step.verdict})"
    return text + undone_text(step, answer)


def undone_text(step: SeriesShift, answer: SeriesAnswer) -> str:
    """How much of a step the next one undoes, such as ", partly undone in r7 by +2.0 ±0.4 %"."""
    back = step.undone
    if back is None:
        return ""
    where = answer.releases[back.release].name
    if back.extent == "whole":
        return f", undone in {where}"
    size = " ".join(change_and_half(back.by))
    if back.extent == "part":
        return f", partly undone in {where} by {size}"
    return f", undone in {where} by {size}, wholly or in part"


def release_text(release: Release) -> str:
    """A release with its date, where it has one."""
    return release.name if release.date is None else f"{release.name} ({release.date})"


def span_text(names: Sequence[str]) -> str:
    """Names in a row, the middle ones left out."""
    return listed(list(names)) if len(names) <= 2 else f"{names[0]} to {names[-1]}"


def _latest(answer: SeriesAnswer, bench: str) -> Iterator[Grid]:
    """The latest release of every metric: its value, and against three others."""
    shown = shown_series(answer)
    last: dict[Series, ReleaseValue] = {}
    for value in answer.values:
        if value.bench == bench and value.series in shown:
            last[value.series] = value
    if not last:
        return
    newest = max(v.release for v in last.values())
    heads = {"before": "the one before", "first": "the first", "best": "the best of all"}

    def cells(series: Series) -> tuple[GridCell, dict[str, GridCell]]:
        value = last[series]
        mark = "" if value.release == newest else f" ({answer.releases[value.release].name})"
        row = {head: comparison_cell(value, kind, answer) for kind, head in heads.items()}
        return GridCell(value_text(value) + mark, place=place_of(value)), row

    found = [
        e
        for v in last.values()
        for e in (v.against_before, v.against_first, v.against_best)
        if e is not None
    ]
    yield Grid(
        tuple(arrange(list(last), cells)),
        dict.fromkeys(heads.values(), ()),
        Base(answer.releases[newest].name, "against"),
        meanings((e.verdict for e in found), margin_text(answer.margin)),
        f"{100 * answer.confidence:.4g} % intervals",
    )


def comparison_cell(value: ReleaseValue, kind: str, answer: SeriesAnswer) -> GridCell:
    """A release against the one before, the first or the best."""
    estimate: Estimate | None = getattr(value, f"against_{kind}")
    if estimate is None:
        best = kind == "best" and value.best_release == value.release
        return GridCell("it is the best" if best else "–")
    notes: tuple[str, ...] = ()
    if kind == "best" and value.best_release is not None:
        notes = (f"best: {answer.releases[value.best_release].name}",)
    if estimate.method is Method.STATED:
        notes += (STATED_NOTE,)
    return change_cell(as_change(value, estimate), notes, place_of(value), estimate.method)


def place_of(value: ReleaseValue | SeriesShift) -> Place:
    """What the value of a release, or a step, is about."""
    series = value.series
    return Place(value.bench, series.workload, series.metric)


def as_change(value: ReleaseValue, estimate: Estimate) -> PlainChange:
    """An estimate as a change of the metric of a value."""
    e = estimate
    return PlainChange(value.series, e.scale, e.change, e.low, e.high, e.verdict, e.bound, e.read)


def value_text(value: ReleaseValue) -> str:
    """A value with as many digits as its interval supports."""
    half = (value.high - value.low) / 2
    if not math.isfinite(half):
        return significant(value.value, 4)
    return grouped(value.value, decimals_for(half))


def _all_values(answer: SeriesAnswer, bench: str) -> Iterator[Table]:
    """Every release of every metric, as tables."""
    by_series: dict[Series, list[ReleaseValue]] = {}
    for value in answer.values:
        if value.bench == bench:
            by_series.setdefault(value.series, []).append(value)
    numbers = ("value", "± 95 %", "before", "first", "best", "visits")
    for series, values in by_series.items():
        read = {value.release: value for value in values}
        rows: list[Sequence[str | GridCell]] = [
            [release_text(release), *_release_cells(read.get(place))]
            for place, release in enumerate(answer.releases)
        ]
        title = f"{series.title}, {series.unit}"
        yield make_table(("release", *numbers), rows, right=numbers, title=title)


def _release_cells(found: ReleaseValue | None) -> list[GridCell]:
    """The value of a release, and against the one before, the first and the best."""
    if found is None:
        return [GridCell("not measured"), *[GridCell()] * 5]
    half = (found.high - found.low) / 2
    known = found.comparisons
    return [
        GridCell(value_text(found), place=place_of(found)),
        GridCell(f"±{significant(half, 2)}" if math.isfinite(half) else "–"),
        *(
            GridCell("–")
            if e is None
            else GridCell(change_text(as_change(found, e)), verdict=e.verdict)
            for e in known
        ),
        GridCell(str(found.visits)),
    ]


def remarks_of(answer: SeriesAnswer) -> Iterator[str]:
    """Caveats: gaps, uncertain kinds and places, on what intervals rest."""
    missing = answer.unmeasured()
    if missing:
        text = f"{counted(len(missing), 'release')} not measured: {_runs_of(missing, answer)}"
        yield text
    yield from _uncertain(answer)
    if answer.unsearched and len({v.release for v in answer.values}) > 1:
        names = list(dict.fromkeys(series.title for _, series in answer.unsearched))
        yield (
            f"too few releases measured to detect steps in {listed(names[:_MOST_NAMED])}: five are "
            "needed, or common rounds"
        )
    if answer.from_releases:
        yield (
            "each release was visited once, so intervals use the scatter between releases (no "
            "noise floor is known)"
        )
    if answer.restless:
        names = list(dict.fromkeys(series.title for _, series in answer.restless))
        yield (
            f"releases vary much more than their visits do in {_some(names)}: by its visits every "
            "release is a change (or days differ), and only what stands out is a step here"
        )
    if answer.alike:
        names = list(dict.fromkeys(series.title for _, series in answer.alike))
        yield (
            f"neighbouring releases resemble each other in {_some(names)}: a slow wander may look "
            "like a step or creep, so sizes have wider intervals"
        )
    if answer.at:
        yield f"with {listed([f'{f} {level}' for f, level in answer.at.items()])}"


def _uncertain(answer: SeriesAnswer) -> Iterator[str]:
    """Steps of which the kind, the place or the gap is not sure."""
    shown = shown_series(answer)
    several = len({v.bench for v in answer.values}) > 1
    kinds, places = [], []
    for step in answer.steps:
        if step.series not in shown:
            continue
        title = f"{step.series.title} on {step.bench}" if several else step.series.title
        if step.certainty < _SURE:
            other = "creep" if step.kind == "step" else "step"
            kinds.append(f"{title} {percent(1 - step.certainty)} {other}")
        if step.kind == "step" and (step.earliest, step.latest) != (step.last, step.first):
            ends = [answer.releases[n].name for n in (step.earliest, step.latest)]
            places.append(f"{title} between {ends[0]} and {ends[1]}")
    if kinds:
        yield f"step or creep is uncertain: {_some(kinds)} (beforehand 2.5 to 1 for a step)"
    if places:
        yield f"95 % interval of the step: {_some(places)}"


def _some(texts: Sequence[str]) -> str:
    rest = len(texts) - _MOST_REMARKS
    shown = list(texts[:_MOST_REMARKS])
    return ", ".join([*shown, f"{rest} more"]) if rest > 0 else listed(shown)


def _runs_of(missing: Sequence[str], answer: SeriesAnswer) -> str:
    """Unmeasured releases, those in a row as a range."""
    groups: list[list[str]] = []
    names = [release.name for release in answer.releases]
    for name in missing:
        if groups and names.index(name) == names.index(groups[-1][-1]) + 1:
            groups[-1].append(name)
        else:
            groups.append([name])
    return ", ".join(span_text(group) for group in groups)


def _next(answer: SeriesAnswer) -> Iterator[tuple[str, str | None]]:
    several = len({v.bench for v in answer.values}) > 1
    if answer.next_visit is not None:
        found = answer.next_visit
        yield next_text(found, several), next_command(answer, found)
    yield "draw it", f"ferocal series {answer.factor} -o {answer.factor}.svg"


def gate_lines(answer: SeriesAnswer, gate: str) -> tuple[list[str], list[str]]:
    """A line for every metric that breaks the gate, and for what it could not judge."""
    shown = shown_series(answer)
    several = len({v.bench for v in answer.values}) > 1
    failures, open_ones = [], []
    for newest in answer.newest:
        if newest.series not in shown:
            continue
        where = f" on bench {newest.bench}" if several else ""
        name = f"{newest.series.title}{where}"
        if math.isnan(newest.low):
            open_ones.append(name)
        elif newest.verdict is Verdict.WORSE:
            failures.append(f"gate {gate}: {newest_text(answer, newest)} in {name}")
    warnings = []
    if open_ones:
        text = f"the noise of {_some(open_ones)} is unknown yet, so nothing was judged"
        warnings.append(f"gate {gate}: {text}: measure five releases, or visits in common rounds")
    return failures, warnings


def newest_text(answer: SeriesAnswer, newest: Newest) -> str:
    """The newest release against the level before it, such as "r60 is worse, +4 % against r41"."""
    names = [answer.releases[n].name for n in (newest.first, newest.last)]
    level = names[0] if names[0] == names[1] else f"the mean of {names[0]} to {names[1]}"
    change = change_with_half(newest)
    return f"{answer.releases[newest.release].name} is {newest.verdict}, {change} against {level}"
