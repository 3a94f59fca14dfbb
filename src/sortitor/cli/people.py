"""`sortitor person`: people."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.choosing import find_one
from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.devices import COLUMNS, GIVE_WAY
from sortitor.cli.output import (
    InFile,
    agree,
    change_options,
    heading,
    is_data,
    most_option,
    output_option,
    reason_option,
    record,
    talk,
    write,
)
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Parting, Stage
from sortitor.schemas.people import Departure, PartingOf


@click.group()
def person() -> None:
    """People, their groups and their devices."""


@person.command("import")
@click.argument("file", type=InFile())
@click.option(
    "--complete", is_flag=True, help="The file names everybody: whom it does not name has left."
)
@change_options
@with_client
def import_people(s: Sortitor, file: Path, complete: bool, yes: bool, reason: str | None) -> None:
    """Import people from a CSV: user name, name, mail, department, site, groups (separated by ;).

    \b
    Examples:
      sortitor person import crew.csv
      sortitor person import everybody.csv --complete
    """
    preview = s.people.preview_import(file, complete)
    agree(preview, yes)
    s.people.apply_import(file, preview.digest, reason, complete)
    talk("Imported. Next: sortitor person list")


NOBODY_FITS = "Nobody fits."


@person.command("list")
@click.option("--query", "-q", help="User name, name or mail.")
@click.option("--group", help="Only people of this group.")
@click.option("--pool", help="Only people whose devices take a seat of this pool.")
@click.option(
    "--over-quota", is_flag=True, help="Only people with more devices than they may have."
)
@click.option(
    "--sort",
    type=click.Choice(["id", "name", "user_name", "department", "site", "holding"]),
    default="id",
    show_default=True,
    help="The order; `holding` is the number of devices.",
)
@click.option("--descending", is_flag=True, help="The last first.")
@most_option
@output_option
@with_client
def list_people(
    s: Sortitor,
    query: str | None,
    group: str | None,
    pool: str | None,
    over_quota: bool,
    sort: Any,
    descending: bool,
    most: int,
    output: str,
) -> None:
    """List people with the number of their devices.

    \b
    Examples:
      sortitor person list --group "Seasonal crew"
      sortitor person list --over-quota --sort holding --descending
    """
    asked = query or group or pool or over_quota
    columns = {
        "Id": lambda p: p.id,
        "User name": lambda p: p.user_name,
        "Name": lambda p: p.name,
        "Department": lambda p: p.department,
        "Site": lambda p: p.site,
        "Groups": lambda p: p.groups,
        "Devices": lambda p: p.holding,
    }
    write(
        s.people.list(
            query,
            group,
            most + 1,
            pool,
            over_quota=over_quota,
            sort=sort,
            descending=descending,
        ),
        output,
        columns,
        hint="Next: sortitor person show USER-NAME",
        empty=NOBODY_FITS if asked else "Nobody yet. Next: sortitor person import FILE",
        most=most,
        first_to_go=["Groups", "Site", "Department"],
    )


@person.command()
@click.argument("person", metavar="PERSON")
@output_option
@with_client
def show(s: Sortitor, person: str, output: str) -> None:
    """Show one person (by number, user name or mail) with devices and quota.

    \b
    Example:
      sortitor person show maud.fenwick
    """
    p = s.people.show(person)
    if is_data(p, output):
        return
    record(
        [
            ("Person", f"{p.id}  {p.name} ({p.user_name})"),
            ("Mail", p.mail),
            ("Department", p.department),
            ("Site", p.site),
            ("Groups", p.groups),
            *(
                ("Quota", f"{one.counted} of {one.words}, by the policy “{one.policy}”")
                for one in p.quotas
            ),
            *([("Left", p.left_at)] if p.left_at else []),
        ]
    )
    heading("Devices")
    write(p.devices, "table", COLUMNS, empty="None.", first_to_go=GIVE_WAY)


@person.command()
@click.argument("person", metavar="PERSON")
@click.option("--back", is_flag=True, help="The person is back.")
@reason_option
@at_once_option
@with_client
def left(s: Sortitor, person: str, back: bool, reason: str | None) -> None:
    """Note that somebody has left; the devices stay theirs and are listed as needing a hand.

    \b
    Example:
      sortitor person left maud.fenwick
    """
    s.people.set_left(person, not back, reason)
    talk(f"Noted. Next: sortitor person show {person}")


@person.command()
@click.argument("person", metavar="PERSON")
@click.option(
    "--devices",
    "others",
    metavar="ACT",
    help="What becomes of their devices: take (nobody has them), retire, missing, give:PERSON,"
    " or stay. Without it they stay.",
)
@click.option(
    "--device",
    "single",
    metavar="DEVICE=ACT",
    multiple=True,
    help="What becomes of one of them, by number, name or serial; repeatable.",
)
@click.option("--keep-passes", is_flag=True, help="Do not revoke the passes made for them.")
@click.option("--keep-holds", is_flag=True, help="Do not end the holds on all of their devices.")
@change_options
@with_client
def leave(
    s: Sortitor,
    person: str,
    others: str | None,
    single: tuple[str, ...],
    keep_passes: bool,
    keep_holds: bool,
    yes: bool,
    reason: str | None,
) -> None:
    """Let somebody leave and settle what is theirs, with preview, in one change.

    \b
    Examples:
      sortitor person leave maud.fenwick --devices take
      sortitor person leave maud.fenwick --devices take --device CREW-0412=give:tobias.rook
    """
    acts = {find_one(s, name): act for name, act in map(_act_of_one, single)}
    theirs = [one.id for one in s.people.show(person).devices if one.stage != Stage.RETIRED]
    decided = {number: acts.get(number, others or "stay") for number in {*theirs, *acts}}
    departure = Departure(
        devices=[
            _parting(act, [number for number in sorted(decided) if decided[number] == act])
            for act in dict.fromkeys(decided.values())
            if act != "stay"
        ],
        passes=not keep_passes,
        holds=not keep_holds,
    )
    preview = s.people.preview_departure(person, departure)
    agree(preview, yes)
    s.people.leave(person, departure, preview.digest, reason)
    talk("Done. Next: sortitor journal list --most 1")


def _act_of_one(text: str) -> tuple[str, str]:
    name, sign, act = text.partition("=")
    if not sign:
        raise click.UsageError(f"{text!r} is not DEVICE=ACT, such as CREW-0412=retire.")
    return name, act


def _parting(act: str, ids: list[int]) -> PartingOf:
    word, _, whom = act.partition(":")
    if word not in list(Parting) or (word == Parting.GIVE) != bool(whom):
        raise click.UsageError(f"{act!r} is not one of take, retire, missing, give:PERSON, stay.")
    return PartingOf(ids=ids, act=Parting(word), person=whom or None)
