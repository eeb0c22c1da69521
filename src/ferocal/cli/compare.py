"""``ferocal compare``: effects and verdicts."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import (
    example,
    json_option,
    make_console,
    print_json,
    say,
    selection_options,
    study_option,
)

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.comparison import Comparison
    from ferocal.answers.selection import Selection


@click.command("compare")
@study_option
@json_option
@click.option("--against", metavar="NAME", help="Compare with this configuration instead.")
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option(
    "--sort",
    type=click.Choice(["file", "size", "name"]),
    default="file",
    show_default=True,
    help="Order of the rows: of the study file, by size of effect, or by name.",
)
@click.option(
    "--only",
    multiple=True,
    type=click.Choice(["better", "worse", "equal", "open"]),
    help="Only metrics of which something is so; may be repeated.",
)
@click.option(
    "--between",
    metavar="FACTOR|workload|size|bench|study",
    help="Whether the changes differ between levels of a factor, workloads, sizes, benches, or "
    "between this study and another, DIR.",
)
@click.option(
    "--across",
    type=click.Choice(["benches"]),
    help="Benches against each other, configuration by configuration.",
)
@click.argument(
    "other", metavar="[DIR]", required=False, type=click.Path(path_type=Path, file_okay=False)
)
@click.option("--detail", is_flag=True, help="Every effect and every caveat in full.")
@click.option(
    "--times", is_flag=True, help='In full, with a column "times as fast", above 1 is better.'
)
@click.option(
    "--gate",
    type=click.Choice(["worse", "not-equivalent"]),
    help="Exit with 3 if a primary metric is so (any metric, if none is primary).",
)
@example("ferocal compare --against r64+opengl --gate worse")
def command(
    directory: Path,
    as_json: bool,
    against: str | None,
    configurations: tuple[str, ...],
    workloads: tuple[str, ...],
    metrics: tuple[str, ...],
    benches: tuple[str, ...],
    roles: tuple[str, ...],
    groups: tuple[str, ...],
    sort: str,
    only: tuple[str, ...],
    between: str | None,
    across: str | None,
    other: Path | None,
    detail: bool,
    times: bool,
    gate: str | None,
) -> None:
    """Say which configuration changes the scores, and by how much.

    First the answer, then the overview: metrics in rows, configurations in columns, each
    with the change of the measured value, half the width of its interval and a sign for
    the verdict: better, worse, equal (inside the margin) or open. Metrics that are details
    are shown where they get clearly worse, with --detail, or asked for by name.

    Limits to some configurations, workloads, metrics, roles, groups or benches may be
    repeated. They change what is shown and what the gate looks at, not how it is judged. A
    gate needs evidence: it fails where nothing can be compared, and where the control arm
    differs.
    """
    import ferocal
    from ferocal.answers.selection import Selection
    from ferocal.render.comparison import show_comparison

    selection = Selection(configurations, workloads, metrics, benches, roles, groups)
    if (other is not None) != (between == "study"):
        raise click.UsageError("--between study goes with the directory of another study")
    if across is not None:
        if gate or only or times or between or against:
            raise click.UsageError(
                "--gate, --only, --times, --between and --against do not go with --across"
            )
        _show_across(directory, selection, as_json=as_json)
        return
    if between is not None:
        if gate or only or times:
            raise click.UsageError("--gate, --only and --times do not go with --between")
        _show_between(directory, between, other, against, selection, as_json=as_json)
        return
    comparison = ferocal.open(directory).compare(against=against, selection=selection)
    comparison = _sorted(comparison, sort)
    if as_json:
        from ferocal.render.documents import COMPARISON

        document = COMPARISON.make(comparison)
        if only:
            document["effects"] = [e for e in document["effects"] if e["mark"] in only]
        print_json(document)
    else:
        show_comparison(make_console(), comparison, times=times, only=only, detail=detail)
    if gate is not None:
        _check_gate(comparison, gate)


def _show_across(directory: Path, selection: Selection, *, as_json: bool) -> None:
    import ferocal

    answer = ferocal.open(directory).across(selection)
    if as_json:
        from ferocal.render.across_documents import ACROSS

        print_json(ACROSS.make(answer))
    else:
        from ferocal.render.across import show_across

        show_across(make_console(), answer)


def _show_between(
    directory: Path,
    kind: str,
    other: Path | None,
    against: str | None,
    selection: Selection,
    *,
    as_json: bool,
) -> None:
    import ferocal
    from ferocal.answers.between import compare_between

    opened = ferocal.open(directory)
    selection = selection.resolve(opened.study)
    second = None
    if other is not None:
        there = ferocal.open(other)
        second = (there.study, there.evidence())
    answer = compare_between(
        opened.study, opened.evidence(), kind, other=second, against=against, selection=selection
    )
    if as_json:
        from ferocal.render.between_documents import BETWEEN

        print_json(BETWEEN.make(answer))
    else:
        from ferocal.render.between import show_between

        show_between(make_console(), answer)


def _sorted(comparison: Comparison, sort: str) -> Comparison:
    """The rows in another order; shares of change come before amounts, which do not compare."""
    if sort == "file":
        return comparison
    largest: dict[Series, float] = {}
    for e in comparison.effects:
        size = abs(e.shift.mean) if e.scale == "ratio" else -1.0
        largest[e.series] = max(size, largest.get(e.series, -1.0))

    def key(series: Series) -> tuple[float, str, str]:
        size = largest.get(series, -1.0) if sort == "size" else 0.0
        return -size, *((series.workload, series.metric) if sort == "name" else ("", ""))

    series = sorted(comparison.series, key=key)
    place = {s: n for n, s in enumerate(series)}
    effects = sorted(comparison.effects, key=lambda e: place[e.series])
    return replace(comparison, series=tuple(series), effects=tuple(effects))


def _check_gate(comparison: Comparison, gate: str) -> None:
    from ferocal.render.comparison import gate_lines

    failures = gate_lines(comparison, gate)
    for line in (*(f"warning: {change.text}" for change in comparison.criteria_changes), *failures):
        say(line, err=True)
    if failures:
        sys.exit(3)
