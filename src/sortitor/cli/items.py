"""`sortitor item`: what can be given to devices."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path
from typing import Any, Literal

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.giving import (
    GIVEN_FORM,
    given_to,
    givings,
    platform_of,
    through,
    versions,
)
from sortitor.cli.output import (
    ExitCode,
    agree,
    change_options,
    form_option,
    heading,
    plain,
    quoted,
    record,
    secret_option,
    talk,
    to_option,
    write_one,
    written,
)
from sortitor.client import Sortitor
from sortitor.client.files import digest_of
from sortitor.core.vocabulary import ItemState, ItemVerdict
from sortitor.core.words import LABELS
from sortitor.schemas import kits as k
from sortitor.schemas.selection import Selection


@click.group()
def item() -> None:
    """What can be given to devices: settings, apps, documents, networks, and more."""


def _what(text: str) -> Any:
    """`setting:KEY=VALUE`, `system:VERSION`, `document:PATH`, `app:IDENTIFIER=PATH`, or a file with
    the payload as JSON.
    """
    kind, _, rest = text.partition(":")
    if kind == "setting":
        key, _, value = rest.partition("=")
        try:
            said = json.loads(value)
        except ValueError:
            said = value
        return {"kind": "setting", "setting": key, "value": said}
    if kind == "system":
        return {"kind": "firmware", "wanted": rest}
    try:
        if kind == "document":
            return {"kind": kind, "file_name": Path(rest).name, **_file(Path(rest))}
        if kind == "app":
            identifier, _, path = rest.partition("=")
            return {"kind": kind, "identifier": identifier, **_file(Path(path))}
        return json.loads(Path(text).read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        form = (
            "setting:KEY=VALUE, system:VERSION, document:PATH, app:IDENTIFIER=PATH or a file with"
            " JSON"
        )
        raise click.BadParameter(
            f"{text!r} is none of {form} ({error}).", param_hint="--what"
        ) from error


def _file(path: Path) -> dict[str, Any]:
    """What tells a file that is kept by the service: put it in first."""
    return {"digest": digest_of(path), "size": path.stat().st_size}


def _last(values: tuple[Any, ...]) -> Any:
    return values[-1]


def _item_detail(s: Sortitor, found: k.ItemDetail) -> None:
    getting = s.items.getting(found.id)
    record(
        [
            ("Item", f"{found.id}  {found.name}"),
            ("Kind", LABELS[k.ItemKind][found.payload.kind]),
            ("What", found.says),
            ("Version", found.version),
            ("Platforms", versions(found.for_platforms) or "all"),
            ("Applies when", found.applies_when),
            ("At the device", "somebody must be there" if found.hand_needed else None),
            ("Reboots", found.reboots or None),
            ("Given by itself", givings(found) or None),
            ("Note", found.note),
        ]
    )
    heading("Who gets it")
    for verdict, number in getting.devices.items():
        if number:
            plain(f"{number:,} {LABELS[ItemVerdict][verdict]}")
    for one in getting.through:
        plain(f"{one.devices:,} through {through(one.through)}")
    if not any(getting.devices.values()):
        plain("nobody")


add_commands(
    Noun(
        group=item,
        word="item",
        calls=lambda s: s.items,
        model=k.Item,
        columns={
            "Id": lambda one: one.id,
            "Item": lambda one: one.name,
            "Kind": lambda one: LABELS[k.ItemKind][one.payload.kind],
            "What": lambda one: one.says,
            "Version": lambda one: one.version,
            "Platforms": lambda one: versions(one.for_platforms) or "all",
            "Given by itself": givings,
        },
        options={"payload": "--what", "platforms": "--platform", "given": "--give"},
        readers={"payload": _what, "platforms": platform_of, "given": given_to},
        gather={"payload": _last, "platforms": dict},
        metavars={
            "payload": "WHAT",
            "platforms": "PLATFORM[=VERSION]",
            "given": GIVEN_FORM,
        },
        detail=_item_detail,
        after=lambda made: f'sortitor item show "{made.name}"',
        empty="No items yet. Next: sortitor setting list, sortitor item add",
        first_to_go=["Given by itself", "Platforms"],
        examples={
            "list": "sortitor item list",
            "show": 'sortitor item show "Lock after five minutes"',
            "add": 'sortitor item add "Lock after five minutes" --what setting:lock-after=5'
            " --platform ios --platform android=12",
            "edit": 'sortitor item edit "Deck plans" --what document:deck-plans.pdf --version 2',
            "remove": 'sortitor item remove "Lock after five minutes"',
            "revisions": 'sortitor item revisions "Lock after five minutes"',
        },
    )
)


@item.command("try-account")
@click.argument("server")
@click.option(
    "--service",
    type=click.Choice(["mail", "calendar", "contacts"]),
    default="mail",
    show_default=True,
    help="What is kept there.",
)
@click.option("--port", type=click.IntRange(1, 65_535), help="993 for mail, else 443.")
@click.option("--plain", is_flag=True, help="Without TLS: the password goes in clear.")
@click.option("--user", required=True, help="The name of somebody who has an account there.")
@secret_option("--password", prompt=True, help="Asked for where it is not given.")
@at_once_option
@with_client
def try_account(
    s: Sortitor,
    server: str,
    service: Literal["mail", "calendar", "contacts"],
    port: int | None,
    plain: bool,
    user: str,
    password: str,
) -> None:
    """Sign in to an account from the service, before devices get it; exits with 1 where it does not
    go. Name and password are not kept.

    \b
    Example:
      sortitor item try-account mail.wrenmoor.example --user maud@wrenmoor.example
    """
    wanted = port or (993 if service == "mail" else 443)
    account = k.AccountPayload(service=service, server=server, port=wanted, tls=not plain)
    found = s.items.try_account(account, user, password)
    talk(found.words)
    if not found.ok:
        talk(found.remedy)
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@item.command("network-code")
@click.argument("name")
@to_option("Where to.")
@with_client
def network_code(s: Sortitor, name: str, to: Path) -> None:
    """Write the QR code that a phone's camera reads to join a network, as SVG. It holds the secret;
    each look stands in the journal.

    \b
    Example:
      sortitor item network-code "Deck Wi-Fi" --to deck.svg
    """
    to.write_text(s.items.network_code(name).svg, encoding="utf-8")
    written(to, " Whoever sees it can join the network.")


@item.command("states")
@click.argument("name")
@form_option()
@with_client
def states(s: Sortitor, name: str, output: str) -> None:
    """Show how far the devices that get an item are, failures by their code, and how long it
    takes.

    \b
    Examples:
      sortitor item states "Ticket app"
      sortitor device list --filter 'items.failed eq "Ticket app"'
    """
    found = s.items.states(name)
    if output != "table":
        write_one(found, output)
        return
    for state, number in found.states.items():
        if number:
            plain(f"{number:>9,}  {LABELS[ItemState][state]}")
    for failure in found.failures:
        plain(f"{failure.devices:>9,}  {failure.code}: {failure.words}", "bad")
    if found.times:
        usual, slow = (
            timedelta(seconds=round(seconds))
            for seconds in (found.times.median_seconds, found.times.p95_seconds)
        )
        plain(f"It usually takes {usual}, and on 19 of 20 devices no longer than {slow}.")


_which = click.option(
    "--filter", "which", default="id pr", show_default=True, help="Of which devices."
)


@item.command("retry")
@click.argument("name")
@_which
@change_options
@with_client
def retry(s: Sortitor, name: str, which: str, yes: bool, reason: str | None) -> None:
    """Try an item again where it failed.

    \b
    Example:
      sortitor item retry "Ticket app" --filter 'site eq "Petrel"'
    """
    selection = Selection(filter=which)
    preview = s.items.preview_retry(name, selection)
    agree(preview, yes)
    s.items.retry(name, selection, preview.digest, reason)
    talk(f"Asked for. Next: sortitor item states {quoted(name)}")
