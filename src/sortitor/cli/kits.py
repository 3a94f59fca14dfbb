"""`sortitor kit`: what devices get together."""

from __future__ import annotations

from typing import Any

import click

from sortitor.cli.choosing import find_one
from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.giving import COMMON, OPTIONS, givings, through
from sortitor.cli.output import (
    ExitCode,
    agree,
    change_options,
    form_option,
    heading,
    output_option,
    plain,
    record,
    talk,
    write,
    write_one,
)
from sortitor.client import Sortitor
from sortitor.core.vocabulary import ItemState, ItemVerdict, Platform
from sortitor.core.words import LABELS
from sortitor.schemas import kits as k
from sortitor.schemas.selection import Selection


@click.group()
def kit() -> None:
    """Sets of items that are given together, and what each device gets."""


def _kit_detail(s: Sortitor, found: k.KitDetail) -> None:
    record(
        [
            ("Kit", f"{found.id}  {found.name}"),
            ("Position", found.position),
            ("Given to", givings(found) or "nobody yet"),
            ("Note", found.note),
        ]
    )
    heading("Items")
    for name in found.items:
        plain(name)


add_commands(
    Noun(
        group=kit,
        word="kit",
        calls=lambda s: s.kits,
        model=k.Kit,
        columns={
            "Id": lambda one: one.id,
            "Kit": lambda one: one.name,
            "Position": lambda one: one.position,
            "Items": lambda one: len(one.items),
            "Given to": lambda one: givings(one) or "nobody yet",
            "Note": lambda one: one.note,
        },
        options=OPTIONS,
        detail=_kit_detail,
        after=lambda made: f'sortitor kit show "{made.name}"',
        empty='No kits yet. Next: sortitor kit add NAME --item ITEM --give "COHORT"',
        below=["Note"],
        examples={
            "list": "sortitor kit list",
            "show": 'sortitor kit show "On board"',
            "add": 'sortitor kit add "On board" --item "Deck Wi-Fi" --give "Ship phones"',
            "edit": 'sortitor kit edit "On board" --give "Ship phones" --give "Cadets=offered"',
            "remove": 'sortitor kit remove "On board"',
            "revisions": 'sortitor kit revisions "On board"',
        },
        **COMMON,
    )
)


@kit.command("of")
@click.argument("device", required=False)
@click.option(
    "--platform",
    type=click.Choice([one.value for one in Platform]),
    help="Of an imagined device: its platform.",
)
@click.option("--os-version", help="Its version.")
@click.option("--site", help="Its site.")
@click.option("--person", help="Whose it would be: user name or mail.")
@click.option("--cohort", "cohorts", multiple=True, help="A cohort that it is in; repeatable.")
@form_option()
@with_client
def of(s: Sortitor, device: str | None, output: str, **imagined: Any) -> None:
    """Show what a device gets, through what, and what was beaten. DEVICE is its number or anything
    that finds it; without one, of a device that is imagined.

    \b
    Examples:
      sortitor kit of HALYARD-0007
      sortitor kit of --platform ios --os-version 17 --cohort "Ship phones"
    """
    if device is None and not any(imagined.values()):
        raise click.UsageError("Name a device, or say what it would be; see --help.")
    if device is not None and any(imagined.values()):
        raise click.UsageError("Name a device, or imagine one, not both.")
    if device is not None:
        found = s.kits.of_device(find_one(s, device))
    else:
        asked = {name: value for name, value in imagined.items() if value}
        found = s.kits.of_imagined(k.ImaginedDevice.model_validate(asked))
    if output != "table":
        write_one(found, output)
        return
    _show_kit(found, output)


def _show_kit(found: k.EffectiveKit, output: str) -> None:
    talk(f"What {found.subject} gets:")
    write(
        found.lines,
        output,
        {
            "Item": lambda one: one.name,
            "Verdict": lambda one: LABELS[ItemVerdict][one.verdict],
            "Through": lambda one: through(one.through),
            "Instead of": lambda one: [through(beat) for beat in one.beat],
            "Beaten by": lambda one: one.beaten_by,
        },
        empty="Nothing.",
        below=["Through", "Instead of"],
    )
    for word, chosen in (("Setup sheet", found.sheet), ("Checklist", found.checklist)):
        if chosen:
            plain(f"{word}: {chosen.name}, {chosen.through.cohort or 'everyone'}")


@kit.command("beside")
@click.argument("cohort")
@form_option()
@with_client
def beside(s: Sortitor, cohort: str, output: str) -> None:
    """Show what every device gets beside what a device of a cohort does.

    \b
    Example:
      sortitor kit beside "Ship phones"
    """
    found = s.kits.beside(cohort)
    if output != "table":
        write_one(found, output)
        return
    _show_kit(found.everyone, output)
    _show_kit(found.cohort, output)


@kit.command("lint")
@output_option
@with_client
def lint(s: Sortitor, output: str) -> None:
    """List what is forgotten or cannot be, each with the way to mend it; exits with 1 where there
    is anything.

    \b
    Example:
      sortitor kit lint
    """
    found = write(
        s.kits.lints(),
        output,
        {
            "About": lambda one: one.about,
            "What": lambda one: one.words,
            "How to mend it": lambda one: one.mend,
            "Code": lambda one: one.code,
        },
        empty="Nothing is odd.",
        below=["What", "How to mend it"],
    )
    if found:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@kit.command("push")
@click.option("--filter", "which", help="Which devices.")
@click.option("--cohort", help="The devices of this cohort.")
@change_options
@with_client
def push(s: Sortitor, which: str | None, cohort: str | None, yes: bool, reason: str | None) -> None:
    """Let devices look now for what they get; those that wait for it do at once.

    \b
    Example:
      sortitor kit push --cohort "Ticket scanners"
    """
    if bool(which) == bool(cohort):
        raise click.UsageError("Say which devices: --filter or --cohort.")
    cohort_id = s.cohorts.show(cohort).id if cohort else None
    selection = Selection(filter=which, cohort_id=cohort_id)
    preview = s.kits.preview_push(selection)
    agree(preview, yes)
    s.kits.push(selection, preview.digest, reason)
    talk("Woken. Next: sortitor item list")


@kit.command("password")
@click.argument("device")
@form_option()
@with_client
def password(s: Sortitor, device: str, output: str) -> None:
    """Show the password of a device's local administrator. Each look stands in the journal; after
    it the device gets another one. DEVICE is its number or anything that finds it.

    \b
    Example:
      sortitor kit password HALYARD-0007
    """
    found = s.kits.administrator_password(find_one(s, device))
    if output != "table":
        write_one(found, output)
        return
    plain(f"{found.user}  {found.password}")
    if found.former:
        talk(f"If the device refuses it, it still has the one before: {found.former}")


@kit.command("reports")
@click.argument("device")
@output_option
@with_client
def reports(s: Sortitor, device: str, output: str) -> None:
    """List what a device told of its items. DEVICE is its number or anything that finds it.

    \b
    Example:
      sortitor kit reports HALYARD-0007
    """
    names = {one.id: one.name for one in s.items.list()}
    write(
        s.kits.reports(find_one(s, device)),
        output,
        {
            "Item": lambda one: names.get(one.item_id, str(one.item_id)),
            "State": lambda one: LABELS[ItemState][one.state],
            "Code": lambda one: one.code,
            "Words": lambda one: one.words,
            "At": lambda one: one.at,
        },
        empty="It has told nothing of what it gets now.",
    )
