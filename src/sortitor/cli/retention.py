"""`sortitor retention`: what goes when its time is over."""

from __future__ import annotations

import click

from sortitor.cli.connection import with_client
from sortitor.cli.output import output_option, write
from sortitor.client import Sortitor


@click.command()
@output_option
@with_client
def retention(s: Sortitor, output: str) -> None:
    """Show what would go tonight, and after how many days; settings say how long things stay.

    \b
    Example:
      sortitor retention
    """
    write(
        s.retention.preview(),
        output,
        {
            "What": lambda one: one.what,
            "Days": lambda one: "for ever" if one.days == 0 else one.days,
            "Would go": lambda one: one.count,
        },
    )
