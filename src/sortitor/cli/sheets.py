"""`sortitor sheet` and `checklist`: the first start, and what must be done before handing over."""

from __future__ import annotations

from pathlib import Path

import click

from sortitor.cli.choosing import by_file_or_filter, meant
from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.giving import COMMON, OPTIONS, givings
from sortitor.cli.output import (
    agree,
    change_options,
    heading,
    plain,
    quoted,
    record,
    talk,
    write_one,
)
from sortitor.client import Sortitor
from sortitor.schemas import kits as k


@click.group()
def sheet() -> None:
    """The choices of a device's first start."""


@click.group()
def checklist() -> None:
    """What must be done at a device before it is handed over."""


def _sheet_detail(s: Sortitor, found: k.SheetDetail) -> None:
    record(
        [
            ("Setup sheet", f"{found.id}  {found.name}"),
            ("Position", found.position),
            ("Reach", found.reach),
            ("Account", found.account),
            ("Local administrator", found.local_administrator),
            ("Skipped steps", list(found.skipped) or None),
            ("Language", found.language),
            ("Region", found.region),
            ("Locked", found.locked),
            ("Given to", givings(found) or "nobody yet"),
            ("Note", found.note),
        ]
    )
    for sentence in found.takes_away:
        plain(sentence, "warn")


def _checklist_detail(s: Sortitor, found: k.ChecklistDetail) -> None:
    record(
        [
            ("Checklist", f"{found.id}  {found.name}"),
            ("Waits", f"{found.limit_minutes} minutes, then {found.on_expiry}"),
            ("Given to", givings(found) or "nobody yet"),
            ("Message", found.message),
            ("Note", found.note),
        ]
    )
    heading("Items in order")
    for place, name in enumerate(found.in_order, 1):
        plain(f"{place}. {name}")


add_commands(
    Noun(
        group=sheet,
        word="setup sheet",
        calls=lambda s: s.setup_sheets,
        model=k.SetupSheet,
        columns={
            "Id": lambda one: one.id,
            "Setup sheet": lambda one: one.name,
            "Position": lambda one: one.position,
            "Reach": lambda one: one.reach,
            "Skipped": lambda one: list(one.skipped),
            "Given to": lambda one: givings(one) or "nobody yet",
        },
        options=OPTIONS,
        detail=_sheet_detail,
        after=lambda made: f'sortitor sheet show "{made.name}"',
        empty='No setup sheets yet. Next: sortitor sheet add NAME --give "COHORT"',
        examples={
            "list": "sortitor sheet list",
            "show": 'sortitor sheet show "Gangway"',
            "add": 'sortitor sheet add "Gangway" --reach shared --skip payment',
            "edit": 'sortitor sheet edit "Gangway" --language no --region NO',
            "remove": 'sortitor sheet remove "Gangway"',
            "revisions": 'sortitor sheet revisions "Gangway"',
        },
        **COMMON,
    )
)


add_commands(
    Noun(
        group=checklist,
        word="checklist",
        calls=lambda s: s.checklists,
        model=k.Checklist,
        columns={
            "Id": lambda one: one.id,
            "Checklist": lambda one: one.name,
            "Items": lambda one: len(one.items),
            "Waits minutes": lambda one: one.limit_minutes,
            "Then": lambda one: one.on_expiry,
            "Given to": lambda one: givings(one) or "nobody yet",
        },
        options=OPTIONS,
        detail=_checklist_detail,
        after=lambda made: f'sortitor checklist show "{made.name}"',
        empty="No checklists yet. Next: sortitor checklist add NAME --item ITEM",
        examples={
            "list": "sortitor checklist list",
            "show": 'sortitor checklist show "Before sailing"',
            "add": 'sortitor checklist add "Before sailing" --item "Deck Wi-Fi"'
            ' --give "Ship phones"',
            "edit": 'sortitor checklist edit "Before sailing" --limit-minutes 30',
            "remove": 'sortitor checklist remove "Before sailing"',
            "revisions": 'sortitor checklist revisions "Before sailing"',
        },
        **COMMON,
    )
)


@sheet.command("export")
@click.argument("name")
@with_client
def export(s: Sortitor, name: str) -> None:
    """Write a setup sheet as a source carries it: JSON with its digest.

    \b
    Example:
      sortitor sheet export "Gangway" > gangway.json
    """
    write_one(s.setup_sheets.export(name), "json")


def _hand(
    s: Sortitor,
    name: str,
    file: Path | None,
    filter: str | None,
    clear: bool,
    yes: bool,
    reason: str | None,
) -> None:
    selection = meant(file, filter)
    preview = s.setup_sheets.preview_hand(name, selection, clear)
    agree(preview, yes)
    s.setup_sheets.hand(name, selection, preview.digest, clear, reason)
    talk(f"Done. Next: sortitor sheet show {quoted(name)}")


@sheet.command("give")
@click.argument("name")
@by_file_or_filter
@change_options
@with_client
def give(
    s: Sortitor, name: str, file: Path | None, filter: str | None, yes: bool, reason: str | None
) -> None:
    """Give a setup sheet to chosen devices: by a file of identifiers, or those that fit a filter
    now. They are kept as a list, "Chosen for NAME".

    \b
    Example:
      sortitor sheet give "Gangway" serials.txt
    """
    _hand(s, name, file, filter, False, yes, reason)


@sheet.command("clear")
@click.argument("name")
@by_file_or_filter
@change_options
@with_client
def clear(
    s: Sortitor, name: str, file: Path | None, filter: str | None, yes: bool, reason: str | None
) -> None:
    """Clear a setup sheet from devices that it was given to by hand.

    \b
    Example:
      sortitor sheet clear "Gangway" --filter 'site eq "Petrel"'
    """
    _hand(s, name, file, filter, True, yes, reason)
