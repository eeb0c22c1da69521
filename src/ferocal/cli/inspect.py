"""``ferocal inspect``: the study, its ledger and this bench, looked at."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

from ferocal.cli.common import example
from ferocal.cli.publishing import Publication, reading_command

_FACES = ("overhead", "noise", "integrity", "kept")


@click.command("inspect")
@reading_command
@click.option("--overhead", is_flag=True, help="Measure the overhead of Ferocal itself.")
@click.option(
    "--noise",
    type=click.FloatRange(min=1, max=3600),
    is_flag=False,
    flag_value=60.0,
    metavar="[SECONDS]",
    help="Measure which changes this bench can resolve.  [60 seconds]",
)
@click.option("--integrity", is_flag=True, help="Check that the ledger is as it was written.")
@click.option("--kept", is_flag=True, help="List the kinds of data in the ledger, before sharing.")
@click.option("--bench", metavar="NAME", help="With --noise: which bench this machine is.")
@example("ferocal inspect --study my-study")
def command(publish: Publication, directory: Path, bench: str | None, **faces: Any) -> None:
    """Show the study as Ferocal understands it.

    The benches, the configurations with their levels, the workloads with their metrics, and the
    number of runs. No command of the study is run and nothing is written. --overhead, --noise,
    --integrity and --kept show something else instead, one at a time.

    With --noise a fixed loop runs in many short processes: how much they vary, what else uses the
    processors, clock and power, the rounds that a change would need, and what to improve first.
    The study records these figures.

    With --integrity the exit status is 1 if anything in the ledger differs from what was written.
    """
    chosen = [name for name in _FACES if faces[name]]
    if len(chosen) > 1:
        names = " and ".join(f"--{name}" for name in chosen)
        raise click.UsageError(f"{names} exclude each other: use one at a time")
    if bench is not None and chosen != ["noise"]:
        raise click.UsageError("--bench needs --noise")
    show = {"overhead": _overhead, "noise": _noise, "integrity": _integrity, "kept": _kept}
    if chosen:
        show[chosen[0]](publish, directory, {**faces, "bench": bench})
        return
    from ferocal.answers.inspect import inspect_study
    from ferocal.documents.inspect import inspection_document
    from ferocal.study.load import load_study

    inspection = inspect_study(load_study(directory))
    publish(lambda: inspection_document(inspection), "inspect.InspectionObject", inspection)


def _noise(publish: Publication, directory: Path, options: Mapping[str, Any]) -> None:
    """Measure the noise of this machine, and publish and record it."""
    from ferocal.documents.noise import noise_document
    from ferocal.measure.noise_look import take_look

    seconds, bench = options["noise"], options["bench"]
    quiet = publish.wants_json or not sys.stderr.isatty()
    bar = click.progressbar(
        length=round(seconds), label="measuring this bench", file=sys.stderr, hidden=quiet
    )
    with bar:
        figures, kept = take_look(directory, bench, seconds, lambda s: bar.update(round(s)))
    publish(lambda: noise_document(figures, kept), "inspect.NoiseObject", (figures, kept))


def _integrity(publish: Publication, directory: Path, options: Mapping[str, Any]) -> None:
    """Check the ledger; status 1 if it is damaged."""
    from ferocal.answers.inspect import check_integrity
    from ferocal.documents.inspect import integrity_document

    found = check_integrity(directory)
    publish(lambda: integrity_document(found), "inspect.IntegrityObject", found)
    if found.broken:
        sys.exit(1)


def _kept(publish: Publication, directory: Path, options: Mapping[str, Any]) -> None:
    """What the ledger holds."""
    from ferocal.answers.inspect import list_holdings
    from ferocal.documents.inspect import kept_document

    held = list_holdings(directory)
    publish(lambda: kept_document(held), "inspect.KeptObject", held)


def _overhead(publish: Publication, directory: Path, options: Mapping[str, Any]) -> None:
    """Measure what measuring adds."""
    from ferocal.bench.execution import local_executor
    from ferocal.bench.overhead import measure_overhead
    from ferocal.documents.inspect import overhead_document

    with local_executor(directory) as executor:
        overhead = measure_overhead(executor)
    publish(lambda: overhead_document(overhead), "inspect.OverheadObject", overhead)
