"""``ferocal open``: a study made of a bundle."""

from __future__ import annotations

from pathlib import Path

import click

from ferocal.cli.common import example, say


@click.command("open")
@click.argument("bundle", type=click.Path(path_type=Path, dir_okay=False), metavar="BUNDLE")
@click.argument("directory", type=click.Path(path_type=Path, file_okay=False), metavar="DIR")
@click.option(
    "--signers",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Refuse it unless one of these SSH keys signed it (a file of allowed signers).",
)
@example("ferocal open show.zip show && ferocal compare --study show")
def command(bundle: Path, directory: Path, signers: Path | None) -> None:
    """Make a study of a bundle, with identical results.

    Every byte is checked against its digest. What was changed, is incomplete, or contains
    something that does not belong there is refused, and DIR is not made.
    """
    from ferocal.intake.bundle import open_bundle, restore_bundle, signature_of

    with open_bundle(bundle) as opened:
        signature = signature_of(bundle, signers)
        restore_bundle(opened, directory)
        manifest = opened.manifest
    say(f"{manifest.question}")
    say(f"wrote {directory}: {manifest.ledger}, made with Ferocal {manifest.made_with}")
    if signature is None:
        say("not signed: anyone could have made it")
    elif signature.signer:
        say(f"signed by {signature.signer} ({signature.key})")
    else:
        say(f"signed with {signature.key}; whose key that is was not checked (--signers)")
    for text in manifest.withheld:
        say(f"left out by its author: {text}")
    say(f"next: `ferocal compare --study {directory}`")
