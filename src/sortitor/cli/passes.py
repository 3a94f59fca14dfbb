"""`sortitor pass`: codes that let devices knock at the gate."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import by_name, with_client
from sortitor.cli.output import most_option, output_option, reason_option, talk, write
from sortitor.client import Sortitor
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import Activation, Ownership
from sortitor.schemas.passes import Pass


@click.group("pass")
def pass_() -> None:
    """Codes that let devices knock at the gate."""


@pass_.command()
@click.argument("label")
@click.option("--person", help="The person it is for (user name or mail).")
@click.option(
    "--ownership",
    type=click.Choice([x.value for x in Ownership]),
    help="What the pass declares its devices to be.",
)
@click.option(
    "--activation",
    type=click.Choice([x.value for x in Activation]),
    default="person",
    show_default=True,
    help="coordinator parks every device until it is assigned.",
)
@click.option(
    "--days",
    "valid_days",
    type=click.IntRange(1, 398),
    default=14,
    show_default=True,
    help="How long it holds.",
)
@click.option(
    "--uses",
    "max_uses",
    type=click.IntRange(1),
    help="How many devices it lets knock.  [any number]",
)
@click.option(
    "--qr", type=click.Path(dir_okay=False, path_type=Path), help="Write the QR to this SVG file."
)
@with_client
def add(s: Sortitor, label: str, qr: Path | None, **given: Any) -> None:
    """Make a pass; its code is shown this once.

    \b
    Example:
      sortitor pass add "Deck tablets" --ownership corporate --activation coordinator --uses 60
    """
    made = s.passes.add(PassTerms(label=label, **given))
    click.echo(made.code)
    if qr:
        qr.write_text(made.qr_svg)
        talk(f"QR written to {qr}.")
    talk(f"Pass {made.id}; the code is not shown again. Address for the QR: {made.url}")


def _uses(one: Pass) -> str:
    return f"{one.uses:,} of {one.max_uses:,}" if one.max_uses else f"{one.uses:,}"


@pass_.command("list")
@most_option
@output_option
@with_client
def list_passes(s: Sortitor, most: int, output: str) -> None:
    """List passes, newest first.

    \b
    Example:
      sortitor pass list
    """
    columns = {
        "Id": lambda p: p.id,
        "Label": lambda p: p.label,
        "State": lambda p: p.state,
        "Uses": _uses,
        "Until": lambda p: p.valid_until,
        "Activation": lambda p: p.activation,
        "Ownership": lambda p: p.ownership,
        "Person": lambda p: p.person_name,
    }
    write(
        s.passes.list(most + 1),
        output,
        columns,
        empty="No passes yet. Next: sortitor pass add LABEL",
        most=most,
        first_to_go=["Activation", "Ownership"],
    )


@pass_.command()
@click.argument("pass_id", metavar="PASS")
@reason_option
@with_client
@by_name("pass_id", "pass", lambda s, _: s.passes.list())
def revoke(s: Sortitor, pass_id: int, reason: str | None) -> None:
    """End a pass at once.

    \b
    Example:
      sortitor pass revoke 3 --reason "leaflet lost"
    """
    s.passes.revoke(pass_id, reason)
    talk("Revoked.")
