"""`sortitor today`: what needs a hand."""

from __future__ import annotations

import click

from sortitor.cli.connection import with_client
from sortitor.cli.output import counted, form_option, heading, plain, talk
from sortitor.client import Sortitor


@click.command()
@form_option()
@with_client
def today(s: Sortitor, output: str) -> None:
    """What needs a hand, oldest first, with the command that leads there.

    \b
    Example:
      sortitor today
    """
    found = s.today.show()
    if output == "json":
        click.echo(found.model_dump_json(indent=2))
        return
    plain(
        "  ".join(f"{count:,} {stage}" for stage, count in found.stages.items())
        or "No devices yet."
    )
    if found.age_seconds:
        talk(f"Devices counted {counted(found.age_seconds, 'second')} ago.")
    if not found.items:
        talk("\nNothing needs a hand.")
        return
    for item in found.items:
        age = ""
        if item.since_at:
            days = (found.now - item.since_at).days
            age = f"  (for {counted(days, 'day')})" if days else "  (for less than a day)"
        heading(f"{item.title}{age}")
        if item.detail:
            plain(f"  {item.detail}")
        plain(f"  → {item.command}")
    talk("")
