"""`sortitor cohort`: sets of devices, by filter or by list."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import connect
from sortitor.cli.output import (
    agree,
    change_options,
    heading,
    output_option,
    plain,
    record,
    talk,
    write,
)
from sortitor.schemas.cohorts import Cohort, CohortNew
from sortitor.schemas.devices import Selection

_COLUMNS = {
    "Id": lambda c: c.id,
    "Cohort": lambda c: c.name,
    "Devices": lambda c: c.devices,
    "By": lambda c: (
        "list" if c.kind == "list" else "filter, moved by time" if c.moving else "filter"
    ),
    "Filter": lambda c: c.filter,
}


@click.group()
def cohort() -> None:
    """Sets of devices, by filter or by list."""


def _find(s: Any, name: str) -> Cohort:
    found: list[Cohort] = [
        c for c in s.cohorts.list() if str(c.id) == name or c.name.casefold() == name.casefold()
    ]
    if not found:
        raise click.UsageError(f"There is no cohort {name!r}; see `sortitor cohort list`.")
    return found[0]


@cohort.command("list")
@output_option
@click.pass_obj
def list_cohorts(obj: dict[str, Any], /, output: str) -> None:
    """List cohorts with the number of their devices.

    \b
    Example:
      sortitor cohort list
    """
    with connect(obj) as s:
        write(
            s.cohorts.list(),
            output,
            _COLUMNS,
            "\nNext: sortitor cohort show NAME",
            "No cohorts yet. Next: sortitor cohort add NAME --filter FILTER",
        )


@cohort.command()
@click.argument("name")
@click.option("--device", "device_id", type=int, help="Say why this device is in it or not.")
@click.option("--against", metavar="NAME", help="Count what it shares with another cohort.")
@click.pass_obj
def show(obj: dict[str, Any], /, name: str, device_id: int | None, against: str | None) -> None:
    """Show a cohort, what speaks of it and how it grew; why a device is in it; what it shares with
    another.

    \b
    Examples:
      sortitor cohort show "Deck phones"
      sortitor cohort show "Deck phones" --device 12
      sortitor cohort show "Deck phones" --against "Spares"
    """
    with connect(obj) as s:
        c = _find(s, name)
        if device_id is not None:
            explained = s.cohorts.explain(c.id, device_id)
            plain(
                f"Device {device_id} is {'in' if explained.inside else 'not in'} “{c.name}”.",
                "good" if explained.inside else "warn",
            )
            for clause in explained.clauses:
                plain(
                    f"  {'yes' if clause.held else 'no ':3}  {clause.text}   (it has"
                    f" {clause.actual})"
                )
            return
        if against:
            other = _find(s, against)
            shared = s.cohorts.overlap(c.id, other.id)
            record(
                [
                    (f"Only in {c.name}", shared.only_one),
                    ("In both", shared.both),
                    (f"Only in {other.name}", shared.only_other),
                ]
            )
            return
        uses, days = s.cohorts.uses(c.id), s.cohorts.history(c.id)
    record(
        [
            ("Cohort", f"{c.id}  {c.name}"),
            ("Devices", c.devices),
            ("Filter", c.filter or "none: it is a list"),
            ("Note", c.note),
            ("Made by", c.created_by),
            ("Used by", ", ".join(f"{use.kind} {use.name}" for use in uses) or "nothing"),
        ]
    )
    if len(days) > 1:
        heading("By day")
        for line in days[-14:]:
            plain(f"  {line.day}  {line.devices:>8,}")
    talk(f"\nNext: sortitor device list --cohort {c.id}")


@cohort.command()
@click.argument("name")
@click.option(
    "--filter",
    "filter",
    metavar="FILTER",
    help="Which devices are in it; without one it is a list.",
)
@click.option("--note", help="What it is for.")
@change_options
@click.pass_obj
def add(
    obj: dict[str, Any],
    /,
    name: str,
    filter: str | None,
    note: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Add a cohort: by filter, or an empty list.

    \b
    Examples:
      sortitor cohort add "Deck phones" --filter 'platform eq "android" and person.groups eq "Crew"'
      sortitor cohort add "Lent out"
    """
    with connect(obj) as s:
        digest = None
        if filter:
            preview = s.cohorts.preview(filter)
            agree(preview, yes)
            digest = preview.digest
        made = s.cohorts.add(
            CohortNew(name=name, filter=filter, note=note, digest=digest, reason=reason)
        )
    talk(
        f"Cohort {made.id} added with {made.devices:,} devices. Next: "
        + (
            f"sortitor device list --cohort {made.id}"
            if filter
            else f"sortitor cohort put {made.id} FILE"
        )
    )


@cohort.command()
@click.argument("name")
@click.option("--filter", "filter", metavar="FILTER", help="Another filter.")
@click.option("--name", "new_name", help="Another name.")
@click.option("--note", help="Another note.")
@change_options
@click.pass_obj
def edit(
    obj: dict[str, Any],
    /,
    name: str,
    filter: str | None,
    new_name: str | None,
    note: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Change a cohort; what enters and leaves is shown first.

    \b
    Example:
      sortitor cohort edit "Deck phones" --filter 'platform eq "android" and site eq "Quillharbour"'
    """
    with connect(obj) as s:
        c = _find(s, name)
        digest = None
        if filter:
            preview = s.cohorts.preview(filter, c.id)
            agree(preview, yes)
            digest = preview.digest
        changed = s.cohorts.edit(
            c.id,
            CohortNew(
                name=new_name or c.name,
                filter=filter or c.filter,
                note=note if note is not None else c.note,
                digest=digest,
                reason=reason,
            ),
        )
    talk(f"Changed: {changed.devices:,} devices. Next: sortitor cohort show {changed.id}")


@cohort.command()
@click.argument("name")
@click.pass_obj
def remove(obj: dict[str, Any], /, name: str) -> None:
    """Remove a cohort that nothing speaks of; reverting its journal entry brings it back.

    \b
    Example:
      sortitor cohort remove "Deck phones"
    """
    with connect(obj) as s:
        s.cohorts.remove(_find(s, name).id)
    talk("Removed. Next: sortitor journal list")


def _change(
    obj: dict[str, Any],
    name: str,
    file: Path | None,
    filter: str | None,
    put_in: bool,
    yes: bool,
    reason: str | None,
) -> None:
    if (file is None) == (filter is None):
        raise click.UsageError("Give a file of identifiers, or --filter.")
    given = (
        file.read_text("utf-8-sig").replace(",", "\n").replace(";", "\n").splitlines()
        if file is not None
        else []
    )
    selection = Selection(
        identifiers=[text.strip() for text in given if text.strip()], filter=filter
    )
    with connect(obj) as s:
        c = _find(s, name)
        preview = s.cohorts.preview_list(c.id, selection, put_in)
        agree(preview, yes)
        s.cohorts.change_list(c.id, selection, preview.digest, put_in, reason)
    talk(f"Done. Next: sortitor device list --cohort {c.id}")


@cohort.command("put")
@click.argument("name")
@click.argument(
    "file", required=False, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)
@click.option("--filter", "filter", metavar="FILTER", help="The devices that fit now.")
@change_options
@click.pass_obj
def put_in(
    obj: dict[str, Any],
    /,
    name: str,
    file: Path | None,
    filter: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Put devices in a list: by a file of identifiers, or those that fit a filter now.

    \b
    Example:
      sortitor cohort put "Lent out" serials.txt
    """
    _change(obj, name, file, filter, True, yes, reason)


@cohort.command("take")
@click.argument("name")
@click.argument(
    "file", required=False, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)
@click.option("--filter", "filter", metavar="FILTER", help="The devices that fit now.")
@change_options
@click.pass_obj
def take_out(
    obj: dict[str, Any],
    /,
    name: str,
    file: Path | None,
    filter: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Take devices from a list.

    \b
    Example:
      sortitor cohort take "Lent out" --filter 'site eq "Quillharbour"'
    """
    _change(obj, name, file, filter, False, yes, reason)


@cohort.command()
@output_option
@click.pass_obj
def attributes(obj: dict[str, Any], /, output: str) -> None:
    """List what a filter can speak of, and how.

    \b
    Example:
      sortitor cohort attributes
    """
    columns = {
        "Attribute": lambda a: a.name,
        "Kind": lambda a: a.kind,
        "Compared by": lambda a: " ".join(a.operators),
        "Meaning": lambda a: a.meaning,
        "Words": lambda a: a.words or None,
    }
    with connect(obj) as s:
        write(s.cohorts.attributes(), output, columns)
