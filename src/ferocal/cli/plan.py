"""``ferocal plan``: what will be done, and what it can answer."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import ROUND, example, json_option, make_console, print_json, study_option


@click.command("plan")
@study_option
@json_option
@click.option("--bench", metavar="NAME", help="As seen on this bench.  [default: the first]")
@click.option("--detail", is_flag=True, help="The order of all rounds, and all metrics.")
@click.option(
    "--design",
    type=click.Choice(["separate"]),
    help="The fewest configurations that tell all factors apart.",
)
@click.option(
    "--interaction",
    "interactions",
    multiple=True,
    metavar="FACTOR:FACTOR",
    help="With --design: two factors that may act on each other; may be repeated.",
)
@click.option("--rounds", type=ROUND, metavar="N", help="Plan for so many rounds.")
@click.option("--detect", metavar="CHANGE", help='A change to be found, such as "2%".')
@click.option("--sd", metavar="SD", help='Spread of changes between rounds, such as "3%".')
@click.option(
    "--like",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    metavar="DIR",
    help="Take the spread from an earlier study with the same workloads.",
)
@example("ferocal plan --detect 2%")
def command(
    directory: Path,
    as_json: bool,
    bench: str | None,
    detail: bool,
    design: str | None,
    interactions: tuple[str, ...],
    rounds: int | None,
    detect: str | None,
    sd: str | None,
    like: Path | None,
) -> None:
    """Show what will be done, how long it takes, and what it can answer.

    The order of the visits, the number of switches and runs, the expected duration from
    durations seen or stated, and the questions that this plan cannot answer. Where the
    spread between rounds is known (from this study so far, from --like, or stated with
    --sd), the rounds that a change needs at 80 and 90 % power, and the number of runs per
    visit that costs least.

    With --design separate the smallest set of configurations that separates the effects of
    all factors (and of the interactions named) with the least switching, ready for the study
    file.
    """
    if interactions and design is None:
        raise click.UsageError("--interaction goes with --design separate")
    if design is not None:
        _show_separation(directory, interactions, as_json=as_json)
        return
    from ferocal.answers.foresight import foresee_study
    from ferocal.render.foresight import show_foresight
    from ferocal.study.load import load_study

    foresight = foresee_study(
        load_study(directory).on(bench),
        rounds=rounds,
        detect=None if detect is None else _share(detect, "--detect"),
        stated_sd=None if sd is None else _share(sd, "--sd"),
        like=like,
    )
    if as_json:
        from ferocal.render.documents import PLAN

        print_json(PLAN.make(foresight))
    else:
        show_foresight(make_console(), foresight, detail=detail)


def _show_separation(directory: Path, interactions: tuple[str, ...], *, as_json: bool) -> None:
    from ferocal.plan.separation import separate
    from ferocal.study.load import load_study

    pairs = [_pair(text) for text in interactions]
    separation = separate(load_study(directory), pairs)
    if as_json:
        from ferocal.render.plan_documents import SEPARATION

        print_json(SEPARATION.make(separation))
    else:
        from ferocal.render.separation import show_separation

        show_separation(make_console(), separation)


def _pair(text: str) -> tuple[str, str]:
    first, colon, second = text.partition(":")
    if not colon:
        raise click.BadParameter("write two factors, like driver:api", param_hint="--interaction")
    return first, second


def _share(text: str, option: str) -> float:
    from ferocal.study.quantities import parse_share

    try:
        return parse_share(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint=option) from None
