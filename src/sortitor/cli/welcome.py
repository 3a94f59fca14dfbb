"""`sortitor welcome`: what a person sees of the organisation while a device comes in."""

from __future__ import annotations

import json
from pathlib import Path

import click
from pydantic import ValidationError

from sortitor.cli.connection import with_client
from sortitor.cli.output import InFile, agree, change_options, form_option, record, talk
from sortitor.client import Sortitor
from sortitor.core.welcome import WelcomeCard


@click.group()
def welcome() -> None:
    """What a person sees of you while a device comes in."""


@welcome.command()
@form_option("json gives what `welcome edit` takes.")
@with_client
def show(s: Sortitor, output: str) -> None:
    """Show the welcome card.

    \b
    Example:
      sortitor welcome show -o json > card.json
    """
    card = s.welcome.show()
    if output == "json":
        found = card.model_dump(mode="json", exclude={"revision"})
        click.echo(json.dumps(found, indent=2, ensure_ascii=False))
        return
    record(
        [
            ("Organisation", card.organisation),
            ("Colour", card.colour),
            ("Help", card.help_name),
            ("Phone", card.help_phone),
            ("Mail", card.help_mail),
            ("Hours", card.help_hours),
            *((f"Words ({one.language})", one.text) for one in card.greetings),
        ]
    )
    talk("\nNext: sortitor welcome show -o json > card.json")


@welcome.command()
@click.argument("file", type=InFile())
@click.option(
    "--picture",
    type=InFile(),
    help="A PNG, JPEG or WebP to put on it.",
)
@change_options
@with_client
def edit(s: Sortitor, file: Path, picture: Path | None, yes: bool, reason: str | None) -> None:
    """Save the welcome card from a JSON file.

    \b
    Example:
      sortitor welcome edit card.json --picture harbour.png
    """
    try:
        card = WelcomeCard.model_validate_json(file.read_bytes())
    except ValidationError as error:
        raise click.UsageError(f"{file}: {error.errors()[0]['msg']}") from error
    if picture is not None:
        digest = s.welcome.add_picture(picture.read_bytes())
        card = card.model_copy(update={"picture": digest})
    preview = s.welcome.preview(card)
    agree(preview, yes)
    s.welcome.apply(card, preview.digest, reason)
    talk("Saved. Next: sortitor welcome show")
