"""`sortitor device`: finding, reading and changing devices."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, TypeVar

import click

from sortitor.cli.connection import connect
from sortitor.cli.output import (
    agree,
    change_options,
    heading,
    most_option,
    output_option,
    plain,
    record,
    talk,
    write,
)
from sortitor.core.vocabulary import Ownership, Platform, Stage
from sortitor.schemas.devices import Device, Selection

Command = TypeVar("Command", bound=Callable[..., Any])

COLUMNS: dict[str, Callable[[Device], Any]] = {
    "Id": lambda d: d.id,
    "Name": lambda d: d.name,
    "Stage": lambda d: d.stage + (f" ({d.flag})" if d.flag else ""),
    "Platform": lambda d: f"{d.platform or '–'} {d.os_version or ''}".strip(),
    "Model": lambda d: " ".join(filter(None, (d.maker, d.model))),
    "Ownership": lambda d: d.ownership,
    "Person": lambda d: d.person_name,
    "Site": lambda d: d.site,
    "Serial": lambda d: d.serial,
    "Idle": lambda d: f"{d.idle_days} d" if d.stage not in ("awaited", "retired") else None,
}


#: Options that are short for the commonest comparisons, each called like its attribute.
_SHORT = ("stage", "platform", "ownership", "site", "maker", "model", "lot")


def selection_options(command: Command) -> Command:
    """Conditions that choose devices; all must hold."""
    for option in reversed(
        (
            click.option(
                "--query",
                "-q",
                help="Serial, its last characters, IMEI, name, person or asset tag.",
            ),
            click.option(
                "--filter",
                help='In the filter language, such as: site sw "Quill" and idleDays ge 90',
            ),
            click.option("--cohort", "cohort_id", type=int, help="Devices of this cohort."),
            click.option(
                "--stage",
                multiple=True,
                type=click.Choice([x.value for x in Stage]),
                help="Short for: stage eq … (repeatable).",
            ),
            click.option(
                "--platform",
                multiple=True,
                type=click.Choice([x.value for x in Platform]),
                help="Short for: platform eq … (repeatable).",
            ),
            click.option(
                "--ownership",
                multiple=True,
                type=click.Choice([x.value for x in Ownership]),
                help="Short for: ownership eq … (repeatable).",
            ),
            click.option("--site", multiple=True, help="Short for: site eq … (repeatable)."),
            click.option("--maker", multiple=True, help="Short for: maker eq … (repeatable)."),
            click.option("--model", multiple=True, help="Short for: model eq … (repeatable)."),
            click.option(
                "--lot", multiple=True, type=int, help="Short for: lot eq … (repeatable)."
            ),
            click.option("--idle", type=click.IntRange(0), help="Short for: idleDays ge …"),
        )
    ):
        command = option(command)
    return command


def as_filter(given: Mapping[str, Any]) -> str | None:
    """The options in the filter language."""
    chosen = [
        " or ".join(f"{name} eq {json.dumps(value, ensure_ascii=False)}" for value in given[name])
        for name in _SHORT
        if given[name]
    ]
    if given["idle"] is not None:
        chosen.append(f"idleDays ge {given['idle']}")
    if given["filter"]:
        chosen.insert(0, given["filter"])
    return (
        " and ".join(f"({one})" for one in chosen) if len(chosen) > 1 else "".join(chosen) or None
    )


def as_selection(given: Mapping[str, Any], ids: Sequence[int] = ()) -> Selection:
    """The options as a selection."""
    return Selection(
        ids=list(ids), query=given["query"], cohort_id=given["cohort_id"], filter=as_filter(given)
    )


def _conditions(given: Mapping[str, Any]) -> dict[str, Any]:
    """The options as query parameters."""
    asked = {"query": given["query"], "cohort": given["cohort_id"], "filter": as_filter(given)}
    return {name: value for name, value in asked.items() if value is not None}


def find_one(s: Any, text: str) -> int:
    """The number of the one device that a number, `#`-less id or search text means; a usage error
    otherwise.
    """
    if text.isdigit() and len(text) < 10:
        return int(text)
    found = list(s.devices.list(most=6, query=text))
    if len(found) == 1:
        return int(found[0].id)
    if not found:
        raise click.UsageError(f"No device fits {text!r}.")
    names = ", ".join(f"{d.id} ({d.name or d.serial})" for d in found)
    raise click.UsageError(f"Several devices fit {text!r}: {names}. Give one number.")


@click.group()
def device() -> None:
    """Find, read, declare, assign, name and hold devices."""


@device.command("list")
@selection_options
@click.option("--pool", type=int, help="Devices that take a seat of this licence pool.")
@click.option("--person", type=int, help="Devices of this person (number).")
@click.option(
    "--sort",
    type=click.Choice(["id", "name", "site", "model", "stage", "seen"]),
    default="id",
    show_default=True,
    help="The order.",
)
@click.option("--descending", is_flag=True, help="The other way round.")
@most_option
@output_option
@click.pass_obj
def list_devices(
    obj: dict[str, Any],
    /,
    pool: int | None,
    person: int | None,
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
    conditions = _conditions(given) | {"pool": pool, "person": person}
    with connect(obj) as s:
        total = s.devices.count(**conditions)
        found = write(
            s.devices.list(most, **conditions, sort=sort, descending=descending or None),
            output,
            COLUMNS,
            empty="No devices fit.",
        )
    if output == "table" and found:
        talk(f"\n{len(found):,} of {total:,} devices. Next: sortitor device show ID")


@device.command()
@click.argument("file", type=click.Path(dir_okay=False, writable=True, path_type=Path))
@click.option(
    "--column", "columns", multiple=True, help="An attribute of the filter language; repeatable."
)
@selection_options
@click.pass_obj
def export(obj: dict[str, Any], /, file: Path, columns: tuple[str, ...], **given: Any) -> None:
    """Write all devices that fit to a .csv or .xlsx file.

    \b
    Example:
      sortitor device export quiet.xlsx --filter 'idleDays ge 90' --column name --column serial
    """
    if file.suffix not in (".csv", ".xlsx"):
        raise click.BadParameter(
            f"{file.name!r} ends neither in .csv nor in .xlsx.", param_hint="FILE"
        )
    with connect(obj) as s:
        file.write_bytes(s.devices.file(file.suffix[1:], columns, **_conditions(given)))
    talk(f"Written to {file}.")


@device.command()
@click.argument("device")
@click.pass_obj
def show(obj: dict[str, Any], /, device: str) -> None:
    """Show one device: facts with their basis, identifiers, holds, timeline. DEVICE is its number
    or anything that finds it.

    \b
    Examples:
      sortitor device show 412
      sortitor device show HALYARD-0007
    """
    with connect(obj) as s:
        d = s.devices.show(find_one(s, device))
    record(
        [
            ("Device", f"{d.id}  {d.name or '(no name)'}"),
            (
                "Stage",
                f"{d.stage} since {d.stage_at:%Y-%m-%d %H:%M}"
                + (f", reported {d.flag}" if d.flag else ""),
            ),
            ("Person", f"{d.person_name} ({d.person_user_name})" if d.person_name else None),
            (
                "Last seen",
                (
                    f"{d.last_seen_at:%Y-%m-%d %H:%M} ({d.idle_days} days ago)"
                    if d.last_seen_at
                    else "never"
                ),
            ),
            ("Cohorts", ", ".join(c.name for c in d.cohorts) or None),
            *(
                (
                    i.kind.capitalize() if i.kind in ("serial", "fingerprint") else i.kind.upper(),
                    i.value + (f"  (given as {i.given})" if i.given and i.given != i.value else ""),
                )
                for i in d.identifiers
            ),
        ]
    )
    heading("Facts")
    width = max((len(f.field) for f in d.facts), default=0)
    for fact in d.facts:
        plain(f"  {fact.field.replace('_', ' '):<{width}}  {fact.value}   ({fact.basis})")
    for name, value in d.details.items():
        plain(f"  {name:<{width}}  {value}   (detail of the lot)")
    for hold in d.holds:
        plain(
            f"\nHeld until {hold.until_on} by {hold.created_by}: {hold.reason}   [hold {hold.id}]",
            "good",
        )
    heading("Timeline")
    for h in d.timeline:
        plain(
            f"  {h.at:%Y-%m-%d %H:%M}  {h.actor:<12}  {h.summary}"
            + (f"   “{h.reason}”" if h.reason else "")
            + ("   (reverted)" if h.reverted_by else "")
        )
        for field, value in (h.after or {}).items():
            before = (h.before or {}).get(field)
            if field.endswith(("_at", "_basis")) or field in ("manual", "hold", "identifiers"):
                continue
            plain(
                f"                      {field.replace('_', ' ')}:"
                f" {before if before is not None else '–'} → {value if value is not None else '–'}"
            )


@device.command()
@click.argument("declared", metavar="OWNERSHIP", type=click.Choice([x.value for x in Ownership]))
@click.option("--id", "ids", type=int, multiple=True, help="One device; repeatable.")
@selection_options
@change_options
@click.pass_obj
def declare(
    obj: dict[str, Any],
    /,
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
    """
    selection = as_selection(given, ids)
    if selection == Selection():
        raise click.UsageError(
            "Name the devices: --id or a condition. All devices at once is never meant."
        )
    with connect(obj) as s:
        preview = s.devices.preview_declare(selection, Ownership(declared))
        agree(preview, yes)
        s.devices.declare(selection, Ownership(declared), preview.digest, reason)
    talk("Declared. Next: sortitor journal list --most 1")


@device.command()
@click.argument("device")
@click.argument("person", required=False)
@click.option(
    "--nobody", is_flag=True, help="Bring it into use without a person, as a shared device."
)
@change_options
@click.pass_obj
def assign(
    obj: dict[str, Any],
    /,
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
    with connect(obj) as s:
        device_id = find_one(s, device)
        preview = s.devices.preview_assign(device_id, person)
        agree(preview, yes)
        s.devices.assign(device_id, person, preview.digest, reason)
    talk(f"Done. Next: sortitor device show {device_id}")


@device.command()
@click.argument("device")
@click.argument("name")
@click.option("--reason", help="Why, for the journal.")
@click.pass_obj
def name(obj: dict[str, Any], /, device: str, name: str, reason: str | None) -> None:
    """Name a device by hand; templates leave it alone from then on.

    \b
    Example:
      sortitor device name 412 BRIDGE-SPARE
    """
    with connect(obj) as s:
        s.devices.name(find_one(s, device), name, reason)
    talk("Named.")


@device.command()
@click.argument("device")
@click.argument("what", type=click.Choice(["missing", "stolen", "clear"]))
@click.option("--reason", help="Why, for the journal.")
@click.pass_obj
def report(obj: dict[str, Any], /, device: str, what: str, reason: str | None) -> None:
    """Report a device missing or stolen (it is refused when it knocks), or clear the report.

    \b
    Example:
      sortitor device report 412 stolen --reason "police report 7781"
    """
    with connect(obj) as s:
        s.devices.report(find_one(s, device), None if what == "clear" else what, reason)
    talk("Noted.")


@device.command()
@click.argument("device")
@click.option(
    "--until",
    required=True,
    type=click.DateTime(["%Y-%m-%d"]),
    help="Up to and including this day.",
)
@click.option("--reason", required=True, help="Why.")
@click.pass_obj
def hold(obj: dict[str, Any], /, device: str, until: datetime, reason: str) -> None:
    """Keep a device out of every sweep until a day.

    \b
    Example:
      sortitor device hold 412 --until 2026-04-15 --reason "laid up for the winter"
    """
    with connect(obj) as s:
        hold_id = s.devices.hold(find_one(s, device), reason, until.date())
    talk(f"Held until {until:%Y-%m-%d}. End it early with: sortitor device end-hold {hold_id}")


@device.command("end-hold")
@click.argument("hold_id", type=int)
@click.pass_obj
def end_hold(obj: dict[str, Any], /, hold_id: int) -> None:
    """End a hold now.

    \b
    Example:
      sortitor device end-hold 3
    """
    with connect(obj) as s:
        s.devices.end_hold(hold_id)
    talk("No longer held.")
