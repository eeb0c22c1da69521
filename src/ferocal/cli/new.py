"""``ferocal new``: a study file to start from."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example


@click.command("new")
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@example("ferocal new my-study && cd my-study && ferocal measure")
def command(directory: Path) -> None:
    """Write a small study file to start from.

    DIR is created where it does not exist; a study file that is there is never
    overwritten. The study runs as it is, and its comments say what to change.
    """
    from ferocal.study.template import write_template

    path = write_template(directory)
    click.echo(f"wrote {path}")
    where = "" if directory == Path() else f" --study {directory}"
    click.echo(f"next: edit it, look at it with `ferocal inspect{where}`, then")
    click.echo(f"      take the readings with `ferocal measure{where}`")
