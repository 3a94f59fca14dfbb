"""`sortitor group`: groups, and groups in groups."""

from __future__ import annotations

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import (
    most_option,
    output_option,
    quoted,
    record,
    talk,
    write,
    write_one,
)
from sortitor.client import Sortitor


@click.group()
def group() -> None:
    """Groups of people, and groups in groups."""


@group.command("list")
@most_option
@output_option
@with_client
def list_groups(s: Sortitor, most: int, output: str) -> None:
    """List groups with the number of their people.

    \b
    Example:
      sortitor group list
    """
    columns = {
        "Id": lambda g: g.id,
        "Group": lambda g: g.name,
        "People": lambda g: g.people,
        "By name": lambda g: g.direct,
        "Groups in it": lambda g: g.groups or None,
    }
    write(
        s.groups.list(),
        output,
        columns,
        hint="Next: sortitor person list --group NAME",
        empty="No groups yet; they come with people.",
        most=most,
        below=["Groups in it"],
    )


@group.command()
@click.argument("name")
@output_option
@with_client
def show(s: Sortitor, name: str, output: str) -> None:
    """One group, by number or name.

    \b
    Example:
      sortitor group show Crew
    """
    found = s.groups.show(name)
    if output != "table":
        write_one(found, output)
        return
    record(
        [
            ("Group", found.name),
            ("People", found.people),
            ("By name", found.direct),
            ("Groups in it", ", ".join(found.groups) or None),
        ]
    )


@group.command()
@click.argument("name")
@click.argument("inner", nargs=-1)
@at_once_option
@with_client
def hold(s: Sortitor, name: str, inner: tuple[str, ...]) -> None:
    """Put exactly these groups into a group: whoever belongs to them belongs to it. None takes all
    out.

    \b
    Example:
      sortitor group hold "All staff" Crew Office
    """
    s.groups.set_inner(name, inner)
    talk(f"Set. Next: sortitor person list --group {quoted(name)}")
