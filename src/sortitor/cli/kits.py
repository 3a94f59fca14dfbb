"""`sortitor setting`, `item`, `kit`, `sheet` and `checklist`: what devices get."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any, Literal

import click

from sortitor.cli.choosing import by_file_or_filter, find_one, meant
from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import (
    ExitCode,
    agree,
    change_options,
    heading,
    most_option,
    output_option,
    plain,
    quoted,
    record,
    secret_option,
    talk,
    to_option,
    write,
    write_one,
    written,
)
from sortitor.client import Sortitor
from sortitor.client.files import digest_of
from sortitor.core.vocabulary import GivenAs, ItemState, ItemVerdict, Platform
from sortitor.core.words import LABELS
from sortitor.schemas import kits as k
from sortitor.schemas.selection import Selection

_GIVEN_FORM = "COHORT[=WORD]"


@click.group()
def setting() -> None:
    """The catalogue of what can be set on a device."""


@click.group()
def own_setting() -> None:
    """Settings that the organisation adds to the catalogue."""


@click.group()
def item() -> None:
    """What can be given to devices: settings, apps, documents, networks, and more."""


@click.group()
def kit() -> None:
    """Sets of items that are given together, and what each device gets."""


@click.group()
def sheet() -> None:
    """The choices of a device's first start."""


@click.group()
def checklist() -> None:
    """What must be done at a device before it is handed over."""


# ---- the catalogue


_platforms = click.option(
    "--platform",
    "platforms",
    multiple=True,
    type=click.Choice([one.value for one in Platform]),
    help="Known to this platform; repeatable.",
)


@setting.command("list")
@click.argument("query", default="")
@click.option("--theme", help="Only this theme.")
@_platforms
@most_option
@output_option
@with_client
def list_settings(
    s: Sortitor, query: str, theme: str | None, platforms: Sequence[str], most: int, output: str
) -> None:
    """List what can be set; of what was typed, the nearest first.

    \b
    Examples:
      sortitor setting list camera
      sortitor setting list --theme "screen lock" --platform ios
    """
    found = s.catalogue.search(query, theme, [Platform(one) for one in platforms])
    write(
        found,
        output,
        {
            "Key": lambda one: one.key,
            "Setting": lambda one: one.name,
            "Theme": lambda one: one.theme,
            "Value": lambda one: one.form,
            "Platforms": _known_to,
            "Effect": lambda one: one.says,
        },
        hint=f"Next: sortitor item add NAME --what setting:{found[0].key}=VALUE" if found else "",
        empty="Nothing like that can be set.",
        most=most,
        below=["Effect"],
    )


def _known_to(one: k.CatalogueSetting) -> list[str]:
    return _versions(one.platforms)


def _versions(platforms: Any) -> list[str]:
    return [f"{Platform(p).label} {least}".strip() for p, least in sorted(platforms.items())]


# ---- readers of options


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


def _platform(text: str) -> tuple[str, str]:
    """`ios=15`: a platform with the least version, which may be left out."""
    name, _, least = text.partition("=")
    if name not in [one.value for one in Platform]:
        known = ", ".join(one.value for one in Platform)
        raise click.BadParameter(
            f"{name!r} is no platform; there are {known}.", param_hint="--platform"
        )
    return name, least


def _given(text: str) -> k.Given:
    """`Deck phones=offered`: a cohort (or `everyone`) with a word."""
    name, _, word = text.rpartition("=") if "=" in text else (text, "", GivenAs.REQUIRED.value)
    if word not in [one.value for one in GivenAs]:
        known = ", ".join(one.value for one in GivenAs)
        raise click.BadParameter(f"{word!r} is none of {known}.", param_hint="--give")
    return k.Given(cohort=None if name == "everyone" else name, word=GivenAs(word))


def _givings(document: Any) -> list[str]:
    return [f"{given.cohort or 'everyone'}: {given.word}" for given in document.given]


def _last(values: tuple[Any, ...]) -> Any:
    return values[-1]


# ---- items, kits, sheets, checklists


def _item_detail(s: Sortitor, found: k.ItemDetail) -> None:
    getting = s.items.getting(found.id)
    record(
        [
            ("Item", f"{found.id}  {found.name}"),
            ("Kind", LABELS[k.ItemKind][found.payload.kind]),
            ("What", found.says),
            ("Version", found.version),
            ("Platforms", _versions(found.for_platforms) or "all"),
            ("Applies when", found.applies_when),
            ("At the device", "somebody must be there" if found.hand_needed else None),
            ("Reboots", found.reboots or None),
            ("Given by itself", _givings(found) or None),
            ("Note", found.note),
        ]
    )
    heading("Who gets it")
    for verdict, number in getting.devices.items():
        if number:
            plain(f"{number:,} {LABELS[ItemVerdict][verdict]}")
    for one in getting.through:
        plain(f"{one.devices:,} through {_through(one.through)}")
    if not any(getting.devices.values()):
        plain("nobody")


def _through(one: k.Through) -> str:
    what = "itself" if one.kind == "item" else f"{one.kind} “{one.name}”"
    where = "from" if one.word is GivenAs.EXCLUDED else "for"
    return f"{what}, {one.word} {where} {one.cohort or 'everyone'}"


def _kit_detail(s: Sortitor, found: k.KitDetail) -> None:
    record(
        [
            ("Kit", f"{found.id}  {found.name}"),
            ("Position", found.position),
            ("Given to", _givings(found) or "nobody yet"),
            ("Note", found.note),
        ]
    )
    heading("Items")
    for name in found.items:
        plain(name)


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
            ("Given to", _givings(found) or "nobody yet"),
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
            ("Given to", _givings(found) or "nobody yet"),
            ("Message", found.message),
            ("Note", found.note),
        ]
    )
    heading("Items in order")
    for place, name in enumerate(found.in_order, 1):
        plain(f"{place}. {name}")


def _choice(text: str) -> tuple[str, str]:
    """`night=at night`: a value with its words."""
    value, _, words = text.partition("=")
    return value, words or value


def _own_detail(s: Sortitor, found: k.OwnSettingDetail) -> None:
    record(
        [
            ("Setting", f"{found.id}  {found.name}"),
            ("Key", found.key),
            ("Theme", found.theme),
            ("What it does", found.says),
            ("Sent as", found.sends),
            ("Platforms", _versions(found.platforms)),
            ("Value", found.type),
            ("From", found.least),
            ("To", found.most),
            ("Unit", found.unit),
            ("Choices", list(found.choices.values()) or None),
        ]
    )


_COMMON: dict[str, Any] = {
    "readers": {"given": _given},
    "metavars": {"given": _GIVEN_FORM},
}
_OPTIONS = {"given": "--give", "items": "--item", "skipped": "--skip"}

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
            "Platforms": lambda one: _versions(one.for_platforms) or "all",
            "Given by itself": _givings,
        },
        options={"payload": "--what", "platforms": "--platform", "given": "--give"},
        readers={"payload": _what, "platforms": _platform, "given": _given},
        gather={"payload": _last, "platforms": dict},
        metavars={
            "payload": "WHAT",
            "platforms": "PLATFORM[=VERSION]",
            "given": _GIVEN_FORM,
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
add_commands(
    Noun(
        group=own_setting,
        word="setting of your own",
        many="settings of your own",
        calls=lambda s: s.own_settings,
        model=k.OwnSetting,
        columns={
            "Id": lambda one: one.id,
            "Setting": lambda one: one.name,
            "Key": lambda one: one.key,
            "Value": lambda one: one.type,
            "Platforms": lambda one: _versions(one.platforms),
            "Effect": lambda one: one.says,
        },
        options={"platforms": "--platform", "choices": "--choice"},
        readers={"platforms": _platform, "choices": _choice},
        gather={"platforms": dict, "choices": dict},
        metavars={"platforms": "PLATFORM[=VERSION]", "choices": "VALUE=WORDS"},
        detail=_own_detail,
        after=lambda made: f"sortitor item add NAME --what setting:{made.key}=VALUE",
        empty="None yet: the catalogue is as it came. Next: sortitor own-setting add NAME",
        below=["Effect"],
        examples={
            "list": "sortitor own-setting list",
            "show": 'sortitor own-setting show "Ship’s horn"',
            "add": 'sortitor own-setting add "Ship’s horn" --key horn --says "How loud it is."'
            " --sends org.horn.level --platform android --type number --least 0 --most 9"
            " --unit steps",
            "edit": 'sortitor own-setting edit "Ship’s horn" --says "How loud the horn is."',
            "remove": 'sortitor own-setting remove "Ship’s horn"',
            "revisions": 'sortitor own-setting revisions "Ship’s horn"',
        },
    )
)
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
            "Given to": lambda one: _givings(one) or "nobody yet",
            "Note": lambda one: one.note,
        },
        options=_OPTIONS,
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
        **_COMMON,
    )
)
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
            "Given to": lambda one: _givings(one) or "nobody yet",
        },
        options=_OPTIONS,
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
        **_COMMON,
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
            "Given to": lambda one: _givings(one) or "nobody yet",
        },
        options=_OPTIONS,
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
        **_COMMON,
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


# ---- what devices get


_form = click.option(
    "-o",
    "--output",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="How to write the data.",
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
@_form
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
            "Through": lambda one: _through(one.through),
            "Instead of": lambda one: [_through(beat) for beat in one.beat],
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
@_form
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


# ---- how far devices are


@item.command("states")
@click.argument("name")
@_form
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
@_form
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
