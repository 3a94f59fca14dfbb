"""`sortitor person`: people and groups."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import connect
from sortitor.cli.devices import COLUMNS
from sortitor.cli.output import (
    agree,
    change_options,
    heading,
    most_option,
    output_option,
    record,
    talk,
    write,
)


@click.group()
def person() -> None:
    """People and groups."""


@person.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option(
    "--complete", is_flag=True, help="The file names everybody: whom it does not name has left."
)
@change_options
@click.pass_obj
def import_people(
    obj: dict[str, Any], /, file: Path, complete: bool, yes: bool, reason: str | None
) -> None:
    """Import people from a CSV: user name, name, mail, department, site, groups (separated by ;).

    \b
    Examples:
      sortitor person import crew.csv
      sortitor person import everybody.csv --complete
    """
    with connect(obj) as s:
        preview = s.people.preview_import(file, complete)
        agree(preview, yes)
        s.people.apply_import(file, preview.digest, reason, complete)
    talk("Imported. Next: sortitor person list")


@person.command("list")
@click.option("--query", "-q", help="User name, name or mail.")
@click.option("--group", help="Only people of this group.")
@most_option
@output_option
@click.pass_obj
def list_people(
    obj: dict[str, Any], /, query: str | None, group: str | None, most: int, output: str
) -> None:
    """List people with the number of their devices.

    \b
    Example:
      sortitor person list --group "Seasonal crew"
    """
    columns = {
        "Id": lambda p: p.id,
        "User name": lambda p: p.user_name,
        "Name": lambda p: p.name,
        "Department": lambda p: p.department,
        "Site": lambda p: p.site,
        "Groups": lambda p: p.groups,
        "Devices": lambda p: p.holding,
    }
    with connect(obj) as s:
        write(
            s.people.list(query, group, most),
            output,
            columns,
            "\nNext: sortitor person show ID",
            "Nobody yet. Next: sortitor person import FILE",
        )


@person.command()
@click.argument("person_id", type=int)
@click.pass_obj
def show(obj: dict[str, Any], /, person_id: int) -> None:
    """Show one person with devices and quota.

    \b
    Example:
      sortitor person show 17
    """
    with connect(obj) as s:
        p = s.people.show(person_id)
    record(
        [
            ("Person", f"{p.id}  {p.name} ({p.user_name})"),
            ("Mail", p.mail),
            ("Department", p.department),
            ("Site", p.site),
            ("Groups", p.groups),
            ("Quota", f"{p.holding} of {p.quota} used, by the policy “{p.quota_policy}”"),
            *([("Left", p.left_at)] if p.left_at else []),
        ]
    )
    heading("Devices")
    write(p.devices, "table", COLUMNS, empty="None.")


@person.command()
@output_option
@click.pass_obj
def groups(obj: dict[str, Any], /, output: str) -> None:
    """List groups with the number of their people.

    \b
    Example:
      sortitor person groups
    """
    with connect(obj) as s:
        columns = {
            "Id": lambda g: g.id,
            "Group": lambda g: g.name,
            "People": lambda g: g.people,
            "By name": lambda g: g.direct,
            "Groups in it": lambda g: g.groups or None,
        }
        write(
            s.people.groups(),
            output,
            columns,
            "\nNext: sortitor person list --group NAME",
            "No groups yet; they come with people.",
        )


@person.command()
@click.argument("person_id", type=int)
@click.option("--back", is_flag=True, help="The person is back.")
@click.option("--reason", help="Why, for the journal.")
@click.pass_obj
def left(obj: dict[str, Any], /, person_id: int, back: bool, reason: str | None) -> None:
    """Note that somebody has left; the devices stay theirs and are listed as needing a hand.

    \b
    Example:
      sortitor person left 17
    """
    with connect(obj) as s:
        s.people.set_left(person_id, not back, reason)
    talk(f"Noted. Next: sortitor person show {person_id}")


@person.command("set-groups")
@click.argument("group")
@click.argument("inner", nargs=-1)
@click.pass_obj
def set_groups(obj: dict[str, Any], /, group: str, inner: tuple[str, ...]) -> None:
    """Put exactly these groups into a group: whoever belongs to them belongs to it. None takes all
    out.

    \b
    Example:
      sortitor person set-groups "All staff" Crew Office
    """
    with connect(obj) as s:
        known = {g.name.casefold(): g.id for g in s.people.groups()}
        if unknown := [name for name in (group, *inner) if name.casefold() not in known]:
            raise click.UsageError(
                f"There is no group {unknown[0]!r}; see `sortitor person groups`."
            )
        s.people.set_inner(known[group.casefold()], [known[name.casefold()] for name in inner])
    talk("Set. Next: sortitor person groups")
