"""A study as Ferocal understands it, its ledger, and the overhead of measuring."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ferocal.documents.blocks import (
    Block,
    Document,
    Items,
    Line,
    Table,
    caveats,
    make_table,
    next_steps,
    sentences,
)
from ferocal.documents.noise import look_lines
from ferocal.documents.numbers import margin_text
from ferocal.documents.tables import direction
from ferocal.terms.numbers import grouped
from ferocal.terms.wording import counted, listed

if TYPE_CHECKING:
    from ferocal.answers.inspect import Inspection
    from ferocal.bench.overhead import Overhead
    from ferocal.ledger.reading.integrity import Integrity
    from ferocal.ledger.reading.kept import Holdings
    from ferocal.study.metrics import Metric

_MOST_NAMED = 5
_SHOWN = 12
_MOST_WORKLOADS = 20


def _reached(inspection: Inspection, bench: str) -> str:
    host = inspection.hosts.get(bench)
    return "" if host is None else f" at {host}, whose facts are read when it is measured"


def inspection_document(inspection: Inspection) -> Document:
    """What is varied, what is run, and on what."""
    lines = [
        f"bench {name}{_reached(inspection, name)}: "
        + (", ".join(f"{fact.name} {fact.value}" for fact in declared) or "no declared facts")
        for name, declared in inspection.benches.items()
    ]
    facts = [f"{fact.name} {fact.value}" for fact in inspection.machine]
    here = ", ".join(facts) or (
        "only records; its facts describe no bench"
        if inspection.hosts
        else "only records what operators read; its facts describe no bench"
    )
    lines.append(f"this machine: {here}")
    lines += [
        f"noise of {look.bench} on {look.at[:10]}: {next(look_lines(look.figures))}"
        for look in inspection.looks
    ]
    return Document(
        inspection.question,
        (
            sentences(_answer(inspection)),
            _levels(inspection),
            _workloads(inspection),
            sentences(lines),
            next_steps(("the order of the visits, and what they can detect", "ferocal plan")),
        ),
    )


def _levels(inspection: Inspection) -> Table:
    rows = []
    for number, view in enumerate(inspection.levels):
        first = not number or inspection.levels[number - 1].factor != view.factor
        brings = "\n".join(view.brings) or "–"
        factor = view.factor if first else ""
        rows.append([factor, view.level, brings, "\n".join(view.checks) or "none"])
    return make_table(("factor", "level", "set by", "verified by"), rows)


def _answer(inspection: Inspection) -> Iterator[str]:
    """How many configurations, and what is done with each of them."""
    names = [c.name for c in inspection.configurations]
    others = [name for name in names if name != inspection.baseline]
    shown = listed(others) if 0 < len(others) <= _MOST_NAMED else f"{len(others)} others"
    margin = margin_text(inspection.margin)
    yield f"{inspection.baseline} (baseline) against {shown}, margin {margin}"
    workloads = counted(len(inspection.workloads), "workload")
    warmups = f" and {counted(inspection.warmups, 'warm-up')}" if inspection.warmups else ""
    visits = sum(map(len, inspection.rounds))
    yield (
        f'{workloads}, {counted(visits, "visit")} by schedule "{inspection.schedule}": '
        f"{counted(inspection.runs, 'run')}{warmups}"
    )
    if inspection.impossible:
        yield f"impossible, and skipped: {', '.join(inspection.impossible)}"


def _workloads(inspection: Inspection) -> Table:
    """What is run and read, in groups."""
    groups = list(dict.fromkeys(w.section for w in inspection.workloads.values()))
    ordered = sorted(inspection.workloads.items(), key=lambda item: groups.index(item[1].section))
    rows: list[list[str]] = []
    group = ""
    for name, workload in ordered[:_MOST_WORKLOADS]:
        if workload.section != group:
            group = workload.section
            rows.append([f"— {group} —" if group else "", "", "", "", ""])
        for number, (metric_name, metric) in enumerate(workload.metric.items()):
            series = f"{metric_name}, {metric.unit}, {direction(metric.better)}"
            warmups = "" if number else str(workload.warmups)
            place = "" if number else name
            rows.append([place, series, _origin(metric), metric.role, warmups])
    more = len(ordered) - _MOST_WORKLOADS
    caption = f"{counted(more, 'more workload')}: --json lists them" if more > 0 else ""
    heads = ("workload", "metric", "read from", "role", "warm-ups")
    return make_table(heads, rows, right=("warm-ups",), caption=caption)


def _origin(metric: Metric) -> str:
    """Where a metric is read from, in words."""
    source = metric.model_dump(by_alias=True, exclude_none=True).get("source")
    if metric.formula is not None:
        return f"computed: {metric.formula}"
    if source is None:
        return f"operator, {metric.read}" if metric.trace_kind is None else "loaded"
    return source if isinstance(source, str) else " ".join(map(str, next(iter(source.items()))))


def overhead_document(overhead: Overhead) -> Document:
    """What measuring adds."""
    rows = [["wall time", f"{1000 * overhead.wall:.2f} ms"]]
    if overhead.cpu is not None:
        rows.append(["CPU time", f"{1000 * overhead.cpu:.2f} ms"])
    if overhead.peak_memory is not None:
        rows.append(["peak memory", f"{overhead.peak_memory / 2**20:.1f} MiB"])
    text = (
        f"an empty program, median of {overhead.runs} runs; a measurement adds at most this, and "
    )
    return Document(
        "",
        (
            sentences([f"{text}every session records it"]),
            make_table(("overhead", "reading"), rows, right=("reading",)),
        ),
    )


def kept_document(held: Holdings) -> Document:
    """What there is of each kind, what to look at first, and what to do."""
    rows = [[k.name, grouped(k.count), grouped(k.bytes), k.about] for k in held.kinds]
    right = ("how many", "bytes")
    minds = []
    if held.open_to_others:
        minds.append(
            Line("other users of this machine can read it", command=f"chmod 600 {held.path}")
        )
    return Document(
        "",
        (
            sentences([f"{held.path} holds, in {grouped(held.bytes)} bytes:"]),
            make_table(("kept", *right, "what may be in it"), rows, right=right),
            *caveats(minds),
            next_steps(
                ("share results without standard error and serial numbers", "ferocal report"),
                (
                    "to prevent values from being stored: `secrets` and `private` in study.toml",
                    None,
                ),
            ),
        ),
    )


def integrity_document(found: Integrity) -> Document:
    """Whether all is as it was written, what is not, and what to do."""
    counts = listed([counted(n, name) for name, n in found.counts.items()])
    answer = f"intact: {counts}, all as written"
    if found.broken:
        answer = f"damaged: {counted(len(found.broken), 'place')}"
    blocks: list[Block] = [sentences([answer, str(found.identity)])]
    if found.broken:
        broken = [*found.broken[:_SHOWN]]
        rest = len(found.broken) - len(broken)
        broken += [f"{rest} more: ferocal inspect --integrity --json"] if rest else []
        blocks.append(Items(tuple((Line(text), ()) for text in broken)))
    minds = [f"{text}; it is excluded, and used nowhere" for text in found.excluded[:_SHOWN]]
    minds += found.losses[-_SHOWN:]
    if found.sealed_at is not None:
        minds.append(f"rows recorded before {found.sealed_at[:10]} were sealed then, as they were")
    blocks += caveats(minds)
    if found.broken:
        blocks.append(
            next_steps(
                (
                    "restore the ledger from a copy, or set the damaged rows aside",
                    "ferocal repair",
                )
            )
        )
    return Document("", tuple(blocks))
