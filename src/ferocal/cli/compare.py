"""``ferocal compare``: effects and verdicts."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ferocal.cli.common import example, say
from ferocal.cli.publishing import (
    TABLES,
    Publication,
    effects_command,
    object_named,
    selection_options,
)

if TYPE_CHECKING:
    from ferocal.analysis.data.series import Series
    from ferocal.answers.compare import Comparison
    from ferocal.answers.selection import Selection

# A verdict by its name, or by its mark in grids.
_VERDICTS = (
    "better", "worse", "equivalent", "equal", "inconclusive", "open", "seen once", "not judged",
    "not comparable",
)  # fmt: skip
# By option, those that it excludes.
_EXCLUDED = {
    "across": ("gate", "only", "as_factor", "between", "against"),
    "between": ("gate", "only", "as_factor"),
}


@click.command("compare")
@effects_command
@click.option(
    "--against",
    metavar="NAME",
    help='Use this configuration as the baseline; "previous": the newest release against the one '
    "before.",
)
@selection_options("metric", "workload", "configuration", "bench", "role", "group")
@click.option(
    "--sort",
    type=click.Choice(["file", "size", "name"]),
    default="file",
    show_default=True,
    help="Order of the rows: of the study file, by size of change, or by name.",
)
@click.option(
    "--only",
    multiple=True,
    type=click.Choice(_VERDICTS),
    metavar="VERDICT",
    help="Only metrics with this verdict under some configuration; may be repeated.",
)
@click.option(
    "--between",
    metavar="FACTOR|workload|size|bench|study",
    help="Do changes differ between levels, workloads, sizes, benches, or from study DIR?",
)
@click.option(
    "--across", type=click.Choice(["benches"]), help="Compare benches, for each configuration."
)
@click.argument(
    "other", metavar="[DIR]", required=False, type=click.Path(path_type=Path, file_okay=False)
)
@click.option("--detail", is_flag=True, help="Every effect and every caveat in full.")
@click.option(
    "--as-factor",
    is_flag=True,
    help="How many times as fast, above 1 is better, instead of changes.",
)
@click.option(
    "--gate",
    type=click.Choice(["worse", "not-equivalent"]),
    help="Exit with 3 if a primary metric (any, if none is primary) is so.",
)
@example("ferocal compare --against r64+opengl --gate worse")
def command(
    publish: Publication,
    directory: Path,
    against: str | None,
    selection: Selection,
    sort: str,
    only: tuple[str, ...],
    between: str | None,
    across: str | None,
    other: Path | None,
    detail: bool,
    as_factor: bool,
    gate: str | None,
) -> None:
    """Show which configuration changes the scores, and by how much.

    First the answer, then the overview: metrics in rows, configurations in columns, each with
    its change, half the width of its interval and a sign for the verdict: better, worse,
    equivalent (inside the margin) or inconclusive. Metrics of the role detail appear where they
    get clearly worse, with --detail, or when asked for by name.

    Options that limit the metrics or configurations change what is shown and what the gate looks
    at, not how it is judged; repeated, any of the names may match. --gate worse fails on metrics
    that are worse; --gate not-equivalent fails on all that are not shown to be equivalent. Either
    fails where nothing can be compared, and where the control arm differs.
    """
    import ferocal
    from ferocal.documents.compare import comparison_document

    if (other is not None) != (between == "study"):
        raise click.UsageError("--between study needs the directory of another study")
    _check_options(locals())
    if publish.format in TABLES and (across is not None or between is not None):
        raise click.UsageError(f"--format {publish.format} has the effects of a comparison only")
    if across is not None:
        _publish_across(publish, directory, selection)
        return
    if between is not None:
        _publish_between(publish, directory, between, other, against, selection)
        return
    comparison = ferocal.open(directory).compare(against=against, selection=selection)
    comparison = _sorted(comparison, sort)
    publish(
        lambda: comparison_document(comparison, as_factor=as_factor, only=only, detail=detail),
        lambda found: object_named("compare.ComparisonObject").make(found).only(only),
        comparison,
    )
    if gate is not None:
        _check_gate(comparison, gate)


def _check_options(given: dict[str, object]) -> None:
    """Refuse options that exclude each other."""
    for option, others in _EXCLUDED.items():
        wrong = [f"--{name.replace('_', '-')}" for name in others if given[name]]
        if given[option] and wrong:
            raise click.UsageError(f"--{option} excludes {', '.join(wrong)}")


def _publish_across(publish: Publication, directory: Path, selection: Selection) -> None:
    import ferocal
    from ferocal.documents.across import across_document

    answer = ferocal.open(directory).across(selection)
    publish(lambda: across_document(answer), "compare.AcrossObject", answer)


def _publish_between(
    publish: Publication,
    directory: Path,
    kind: str,
    other: Path | None,
    against: str | None,
    selection: Selection,
) -> None:
    import ferocal
    from ferocal.answers.between import compare_between
    from ferocal.documents.between import between_document

    opened = ferocal.open(directory)
    selection = selection.resolve(opened.study)
    second = None
    if other is not None:
        there = ferocal.open(other)
        second = (there.study, there.evidence())
    answer = compare_between(
        opened.study, opened.evidence(), kind, other=second, against=against, selection=selection
    )
    publish(lambda: between_document(answer), "compare.BetweenObject", answer)


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
    from ferocal.documents.changes import criteria_text
    from ferocal.documents.compare import gate_lines

    failures = gate_lines(comparison, gate)
    warnings = [f"warning: {criteria_text(change)}" for change in comparison.criteria_changes]
    for line in (*warnings, *failures):
        say(line, err=True)
    if failures:
        sys.exit(3)
