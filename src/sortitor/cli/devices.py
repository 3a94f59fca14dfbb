"""`sortitor device`: finding, reading and changing devices."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal, TypeVar

import click

from sortitor.cli.choosing import conditions, find_one, named, named_options, selection_options
from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import (
    agree,
    change_options,
    confirm_option,
    confirmed,
    counted,
    dry_run_option,
    form_of,
    heading,
    is_data,
    most_option,
    output_option,
    plain,
    reason_option,
    record,
    talk,
    to_option,
    write,
    written,
)
from sortitor.client import Sortitor
from sortitor.core.vocabulary import HoldKind, HoldState, Ownership
from sortitor.schemas.devices import Device, DeviceDetail, Identifier

Command = TypeVar("Command", bound=Callable[..., Any])

COLUMNS: dict[str, Callable[[Device], Any]] = {
    "Id": lambda d: d.id,
    "Name": lambda d: d.name,
    "Stage": lambda d: (
        d.stage
        + (f", retired {d.retire_on}" if d.retire_on else "")
        + (f" ({d.flag})" if d.flag else "")
    ),
    "Platform": lambda d: " ".join(filter(None, (d.platform, d.os_version))),
    "Model": lambda d: " ".join(filter(None, (d.maker, d.model))),
    "Ownership": lambda d: d.ownership,
    "Person": lambda d: d.person_name,
    "Site": lambda d: d.site,
    "Serial": lambda d: d.serial,
    "Idle": lambda d: f"{d.idle_days} d" if d.stage not in ("awaited", "retired") else None,
}

#: What gives way first in a narrow terminal.
GIVE_WAY = ("Site", "Ownership", "Platform", "Idle", "Person")


@click.group()
def device() -> None:
    """Find, read, declare, assign, name and retire devices."""


@device.command("list")
@selection_options
@click.option("--pool", help="Devices that take a seat of this licence pool (number or name).")
@click.option("--person", help="Devices of this person (number, user name or mail).")
@click.option(
    "--column", "columns", multiple=True, help="An attribute of the filter language; repeatable."
)
@click.option(
    "--sort",
    type=click.Choice(["id", "name", "site", "model", "stage", "seen"]),
    default="id",
    show_default=True,
    help="The order; seen: by the day of the last sign of life.",
)
@click.option("--descending", is_flag=True, help="The other way round.")
@most_option
@output_option
@with_client
def list_devices(
    s: Sortitor,
    pool: str | None,
    person: str | None,
    columns: tuple[str, ...],
    sort: str,
    descending: bool,
    most: int,
    output: str,
    **given: Any,
) -> None:
    """List devices that fit all conditions.

    \b
    Examples:
      sortitor device list -q 23751
      sortitor device list --site Quillharbour --idle 90 --sort seen
      sortitor device list --filter 'idleDays ge 90 and not (tags eq "spare")'
      sortitor device list --stage parked -o csv > parked.csv
    """
    asked: dict[str, Any] = {**conditions(given), "pool": pool}
    if person is not None:
        asked["person"] = s.people.show(person).id
    total = s.devices.count(**asked)
    found = write(
        s.devices.list(
            most, **asked, sort=sort, descending=descending or None, column=list(columns)
        ),
        output,
        _asked(columns) if columns else COLUMNS,
        empty="No devices fit.",
        first_to_go=() if columns else GIVE_WAY,
    )
    if output == "table" and found:
        more = f" See more with: --most {most * 4}." if total > len(found) else ""
        talk(f"\n{len(found):,} of {total:,} devices.{more} Next: sortitor device show ID")


def _asked(columns: Sequence[str]) -> dict[str, Callable[[Device], Any]]:
    """The columns that somebody asked for."""

    def value_of(name: str) -> Callable[[Device], Any]:
        return lambda device: (device.columns or {}).get(name)

    return {"Id": lambda device: device.id, **{name: value_of(name) for name in columns}}


def _swept(found: DeviceDetail) -> str | None:
    """Which rule counts for a device, and when."""
    sweep = found.sweep
    if sweep is None:
        return None
    days = f"dormant on {sweep.dormant_on}, " if sweep.dormant_on else ""
    beside = f", rather than {', '.join(sweep.others)}" if sweep.others else ""
    return f"{sweep.rule} ({sweep.idle_window_days} days){beside}: {days}retired {sweep.retire_on}"


@device.command()
@to_option("Where to; .csv or .xlsx.")
@click.option(
    "--column", "columns", multiple=True, help="An attribute of the filter language; repeatable."
)
@selection_options
@with_client
def export(s: Sortitor, to: Path, columns: tuple[str, ...], **given: Any) -> None:
    """Write all devices that fit to a file.

    \b
    Example:
      sortitor device export --to quiet.xlsx --filter 'idleDays ge 90' --column name
    """
    to.write_bytes(s.devices.file(form_of(to), columns, **conditions(given)))
    written(to)


@device.command()
@click.argument("device")
@output_option
@with_client
def show(s: Sortitor, device: str, output: str) -> None:
    """Show one device: facts with their basis, identifiers, holds, timeline. DEVICE is its number
    or anything that finds it.

    \b
    Examples:
      sortitor device show 412
      sortitor device show HALYARD-0007
    """
    found = s.devices.show(find_one(s, device))
    if is_data(found, output):
        return
    _show_head(found)
    _show_facts(found)
    _show_timeline(found)


def _show_head(found: DeviceDetail) -> None:
    stage = f"{found.stage} since {found.stage_at:%Y-%m-%d %H:%M}"
    if found.flag:
        stage += f", reported {found.flag}"
    seen = "never"
    if found.last_seen_at:
        ago = counted(found.idle_days, "day")
        seen = f"{found.last_seen_at:%Y-%m-%d %H:%M} ({ago} ago)"
    person = f"{found.person_name} ({found.person_user_name})" if found.person_name else None
    record(
        [
            ("Device", f"{found.id}  {found.name or '(no name)'}"),
            ("Stage", stage),
            ("Person", person),
            ("Last seen", seen),
            ("Cohorts", ", ".join(cohort.name for cohort in found.cohorts) or None),
            ("Sweep", _swept(found)),
            ("Licence seats", ", ".join(seat.pool for seat in found.seats) or None),
            *map(_identifier, found.identifiers),
        ]
    )


def _identifier(one: Identifier) -> tuple[str, str]:
    words = one.kind in ("serial", "fingerprint")
    given = f"  (given as {one.given})" if one.given and one.given != one.value else ""
    return one.kind.capitalize() if words else one.kind.upper(), f"{one.value}{given}"


def _show_facts(found: DeviceDetail) -> None:
    heading("Facts")
    width = max((len(fact.field) for fact in found.facts), default=0)
    for fact in found.facts:
        plain(f"  {fact.field.replace('_', ' '):<{width}}  {fact.value}   ({fact.basis})")
    for name, value in found.details.items():
        plain(f"  {name:<{width}}  {value}   (detail of the lot)")
    for hold in found.holds:
        what = "" if hold.kind is HoldKind.DEVICES else f", as {hold.label}"
        since = f"from {hold.from_on} " if hold.state is HoldState.COMING else ""
        words = f"On hold {since}until {hold.until_on}{what}: {hold.reason} ({hold.owner})"
        plain(f"\n{words}   [hold {hold.id}]", "good")


def _show_timeline(found: DeviceDetail) -> None:
    heading("Timeline")
    for line in found.timeline:
        words = f"  {line.at:%Y-%m-%d %H:%M}  {line.actor:<12.12}  {line.summary}"
        if line.reason:
            words += f"   “{line.reason}”"
        if line.reverted_by:
            words += "   (reverted)"
        plain(words, hang=34)
        for one in line.changes:
            told = f"{one.field}: {one.before or '–'} → {one.after or '–'}"
            plain(f"{'':34}{told}", hang=34)


@device.command()
@click.argument("declared", metavar="OWNERSHIP", type=click.Choice([x.value for x in Ownership]))
@named_options
@change_options
@with_client
def declare(
    s: Sortitor,
    declared: str,
    ids: tuple[int, ...],
    yes: bool,
    reason: str | None,
    **given: Any,
) -> None:
    """Say whose devices are; a declaration by hand is the strongest basis.

    \b
    Examples:
      sortitor device declare corporate --id 412
      sortitor device declare partner --site "Repair yard" --reason "contractors' tablets"
      sortitor device declare corporate --list bought.xlsx
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_declare(selection, Ownership(declared))
    agree(preview, yes)
    s.devices.declare(selection, Ownership(declared), preview.digest, reason)
    talk("Declared. Next: sortitor journal list --most 1")


@device.command()
@named_options
@change_options
@with_client
def retire(s: Sortitor, ids: tuple[int, ...], yes: bool, reason: str | None, **given: Any) -> None:
    """Retire devices by hand: their credentials end, their names become free.

    \b
    Examples:
      sortitor device retire --id 412 --reason "screen broken"
      sortitor device retire --list scrapped.txt
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_retire(selection)
    agree(preview, yes)
    s.devices.retire(selection, preview.digest, reason)
    talk("Retired. Next: sortitor journal list --most 1")


@device.command()
@click.argument("person")
@named_options
@change_options
@with_client
def give(
    s: Sortitor, person: str, ids: tuple[int, ...], yes: bool, reason: str | None, **given: Any
) -> None:
    """Give devices to a person (user name or mail); what their quota keeps out stays as it is.

    \b
    Examples:
      sortitor device give maud.fenwick --id 412 --id 413
      sortitor device give maud.fenwick --list handed-out.txt
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_give(selection, person)
    agree(preview, yes)
    s.devices.give(selection, person, preview.digest, reason)
    talk(f"Done. Next: sortitor person show {person}")


@device.command()
@named_options
@change_options
@with_client
def take(s: Sortitor, ids: tuple[int, ...], yes: bool, reason: str | None, **given: Any) -> None:
    """Take devices back from whoever has them: nobody has them then.

    \b
    Example:
      sortitor device take --filter 'person.left eq true' --reason "handed in"
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_give(selection, None)
    agree(preview, yes)
    s.devices.give(selection, None, preview.digest, reason)
    talk("Done. Next: sortitor journal list --most 1")


@device.command("bring-back")
@named_options
@change_options
@with_client
def bring_back(
    s: Sortitor, ids: tuple[int, ...], yes: bool, reason: str | None, **given: Any
) -> None:
    """Bring retired devices back by hand: into use, or awaited where they never arrived.

    \b
    Example:
      sortitor device bring-back --id 412 --reason "repaired"
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_bring_back(selection)
    agree(preview, yes)
    s.devices.bring_back(selection, preview.digest, reason)
    talk("Brought back. Each has to arrive once more. Next: sortitor journal list --most 1")


@device.command()
@named_options
@confirm_option
@reason_option
@dry_run_option
@with_client
def erase(
    s: Sortitor, ids: tuple[int, ...], confirm: int | None, reason: str | None, **given: Any
) -> None:
    """Erase retired devices for ever: what was known of them goes, and nothing brings it back.

    \b
    Example:
      sortitor device erase --list sold.txt --reason "sold in May"
    """
    selection = named(s, given, ids)
    preview = s.devices.preview_erase(selection)
    done = s.devices.erase(selection, preview.digest, confirmed(preview, confirm), reason)
    talk(f"Erased. Its certificate: sortitor erasure certificate {done.id}")


@device.command()
@click.argument("device")
@click.argument("person", required=False)
@click.option(
    "--nobody", is_flag=True, help="Bring it into use without a person, as a shared device."
)
@change_options
@with_client
def assign(
    s: Sortitor,
    device: str,
    person: str | None,
    nobody: bool,
    yes: bool,
    reason: str | None,
) -> None:
    """Give a device to a person (user name or mail); a parked one becomes active.

    \b
    Example:
      sortitor device assign 412 maud.fenwick
    """
    if (person is None) != nobody:
        raise click.UsageError("Name either a person or --nobody.")
    device_id = find_one(s, device)
    preview = s.devices.preview_assign(device_id, person)
    agree(preview, yes)
    s.devices.assign(device_id, person, preview.digest, reason)
    talk(f"Done. Next: sortitor device show {device_id}")


@device.command()
@click.argument("device")
@click.argument("name")
@reason_option
@at_once_option
@with_client
def name(s: Sortitor, device: str, name: str, reason: str | None) -> None:
    """Name a device by hand; templates leave it alone from then on.

    \b
    Example:
      sortitor device name 412 BRIDGE-SPARE
    """
    s.devices.name(find_one(s, device), name, reason)
    talk("Named.")


@device.command()
@click.argument("what", type=click.Choice(["missing", "stolen", "found"]))
@named_options
@change_options
@with_client
def report(
    s: Sortitor,
    what: Literal["missing", "stolen", "found"],
    ids: tuple[int, ...],
    yes: bool,
    reason: str | None,
    **given: Any,
) -> None:
    """Report devices missing or stolen (they are refused when they knock), or found again.

    \b
    Example:
      sortitor device report stolen --id 412 --reason "police report 7781"
    """
    selection = named(s, given, ids)
    flag = None if what == "found" else what
    preview = s.devices.preview_report(selection, flag)
    agree(preview, yes)
    s.devices.report(selection, flag, preview.digest, reason)
    talk("Noted. Next: sortitor journal list --most 1")
