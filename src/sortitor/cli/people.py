"""`sortitor person`: people and groups."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import connect
from sortitor.cli.devices import COLUMNS
from sortitor.cli.output import agree, change_options, heading, most_option, output_option, record, talk, write


@click.group()
def person() -> None:
    """People and groups."""


@person.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@change_options
@click.pass_obj
def import_people(obj: dict[str, Any], /, file: Path, yes: bool, reason: str | None) -> None:
    """Import people from a CSV: user name, name, mail, department, site, groups (separated by ;).

    \b
    Example:
      sortitor person import crew.csv
    """
    with connect(obj) as s:
        preview = s.people.preview_import(file)
        agree(preview, yes)
        s.people.apply_import(file, preview.digest, reason)
    talk("Imported. Next: sortitor person list")


@person.command("list")
@click.option("--query", "-q", help="User name, name or mail.")
@click.option("--group", help="Only people of this group.")
@most_option
@output_option
@click.pass_obj
def list_people(obj: dict[str, Any], /, query: str | None, group: str | None, most: int, output: str) -> None:
    """List people with the number of their devices.

    \b
    Example:
      sortitor person list --group "Seasonal crew"
    """
    columns = {
        "Id": lambda p: p.id, "User name": lambda p: p.user_name, "Name": lambda p: p.name, "Department": lambda p: p.department, "Site": lambda p: p.site,
        "Groups": lambda p: p.groups, "Devices": lambda p: p.holding,
    }  # fmt: skip
    with connect(obj) as s:
        write(s.people.list(query, group, most), output, columns, "\nNext: sortitor person show ID", "Nobody yet. Next: sortitor person import FILE")


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
    record([
        ("Person", f"{p.id}  {p.name} ({p.user_name})"), ("Mail", p.mail), ("Department", p.department), ("Site", p.site), ("Groups", p.groups),
        ("Quota", f"{p.holding} of {p.quota} used, by the policy “{p.quota_policy}”"), *([("Left", p.left_at)] if p.left_at else []),
    ])  # fmt: skip
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
        write(s.people.groups(), output, {"Group": lambda g: g.name, "People": lambda g: g.people})
