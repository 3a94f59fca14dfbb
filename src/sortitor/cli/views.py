"""`sortitor view`: saved views of the device list."""

from __future__ import annotations

import click

from sortitor.cli.connection import at_once_option, by_name, with_client
from sortitor.cli.output import most_option, output_option, talk, write
from sortitor.client import Sortitor


@click.group()
def view() -> None:
    """Saved views of the device list."""


@view.command("list")
@most_option
@output_option
@with_client
def list_views(s: Sortitor, most: int, output: str) -> None:
    """List one's own views, and those that others share.

    \b
    Example:
      sortitor view list
    """
    columns = {
        "Id": lambda v: v.id,
        "View": lambda v: v.name,
        "By": lambda v: v.by,
        "Shared": lambda v: v.shared,
        "Filter": lambda v: v.settings.filter,
    }
    empty = "No views yet; they are saved in the console."
    write(s.views.list(), output, columns, empty=empty, most=most, below=["Filter"])


@view.command()
@click.argument("view_id", metavar="VIEW")
@at_once_option
@with_client
@by_name("view_id", "view", lambda s, _: s.views.list())
def remove(s: Sortitor, view_id: int) -> None:
    """Forget a view of one's own.

    \b
    Example:
      sortitor view remove 3
    """
    s.views.remove(view_id)
    talk("Forgotten.")
