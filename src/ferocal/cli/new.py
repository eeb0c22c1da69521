"""``ferocal new``: a study file to start from."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example


@click.command("new")
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option("--by-hand", is_flag=True, help="A study in which an operator reads the numbers.")
@click.option(
    "--from",
    "source",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="A study of the readings in a file, which are loaded.",
)
@click.option("--baseline", metavar="NAME", help="With --from: the configuration to compare with.")
@click.option(
    "--column", "columns", multiple=True, metavar="ROLE=NAME", help="With --from, as in `load`."
)
@example("ferocal new my-study && cd my-study && ferocal measure")
def command(
    directory: Path,
    by_hand: bool,
    source: Path | None,
    baseline: str | None,
    columns: tuple[str, ...],
) -> None:
    """Write a small study file to start from.

    DIR is created where it does not exist; a study file that is there is never
    overwritten. The study runs as it is, and its comments say what to change.

    With --from, configurations, workloads and metrics are those of a file of readings, so
    that `ferocal compare` answers at once.
    """
    if source is None and (baseline or columns):
        raise click.UsageError("--baseline and --column go with --from")
    if source is not None and by_hand:
        raise click.UsageError("--from and --by-hand do not go together")
    where = "" if directory == Path() else f" --study {directory}"
    if source is not None:
        _from_file(directory, source, columns, baseline)
        click.echo(f"next: `ferocal compare{where}`")
        return
    from ferocal.study.template import BY_HAND, TEMPLATE, write_template

    click.echo(f"wrote {write_template(directory, BY_HAND if by_hand else TEMPLATE)}")
    click.echo(f"next: edit it, look at it with `ferocal inspect{where}`, then")
    click.echo(f"      take the readings with `ferocal measure{where}`")


def _from_file(
    directory: Path, source: Path, columns: tuple[str, ...], baseline: str | None
) -> None:
    from ferocal.errors import FerocalError
    from ferocal.intake.loading import load_files
    from ferocal.intake.starting import describe_file
    from ferocal.study.load import load_study
    from ferocal.study.template import write_template
    from ferocal.terms.wording import counted

    text = describe_file(source, columns, baseline)
    path = write_template(directory, text)
    try:
        (loaded,) = load_files(load_study(directory), [source], columns=columns)
    except FerocalError:
        path.unlink()  # a study without its readings is not what was asked for
        raise
    click.echo(f"wrote {path}, with {counted(loaded.counts['readings'], 'reading')} of {source}")
