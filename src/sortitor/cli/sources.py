"""`sortitor source`: other systems, how old what they said is, their runs and credentials."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import (
    ExitCode,
    InFile,
    agree,
    change_options,
    counted,
    heading,
    is_data,
    most_option,
    output_option,
    plain,
    quoted,
    reason_option,
    record,
    show_preview,
    talk,
    toned,
    write,
)
from sortitor.cli.progress import watching
from sortitor.client import Sortitor
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RegistryAct, RunState, SecretKind, SourceState
from sortitor.schemas.sources import (
    CredentialTaken,
    RegistryActAsked,
    SourceDetail,
    SourceLook,
    SourceRun,
)

_TONES = {
    SourceState.FRESH: "good",
    SourceState.LATE: "warn",
    SourceState.FAILING: "bad",
    SourceState.NEVER: "plain",
}
_SHEET = InFile()


@click.group()
def source() -> None:
    """Other systems that know something: directories, registries, rosters, what is pushed."""


def _state(found: SourceDetail) -> Any:
    return toned(found.state, _TONES[found.state])


def _detail(s: Sortitor, found: SourceDetail) -> None:
    record(
        [
            ("Source", f"{found.id}  {found.name} ({found.kind})"),
            ("Address", found.address),
            ("State", _state(found)),
            ("Last read", found.good_at),
            ("Next run", found.next_at or "by hand"),
            ("Knows", _known(found)),
            ("Should know", found.covers or "nothing is missed there"),
            ("Brake", f"{found.brake_percent} %"),
            *(
                (f"{secret.kind}{' (waiting)' if secret.waiting else ''}", _secret(secret))
                for secret in found.secrets
            ),
        ]
    )
    if found.last_problem:
        talk(f"\n{found.last_problem['detail']}\n  {found.last_problem['remedy']}")
    talk(f"\nNext: sortitor source run {quoted(found.name)}")
    if found.state is SourceState.FAILING:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _known(found: SourceDetail) -> str:
    parts = [
        counted(found.devices, "device") if found.devices else "",
        f"{found.people:,} people" if found.people else "",
        counted(found.groups, "group") if found.groups else "",
    ]
    known = ", ".join(filter(None, parts)) or "nothing yet"
    return f"{known} ({found.unknown:,} unknown here)" if found.unknown else known


def _secret(secret: Any) -> str:
    if secret.ends_at is None:
        return f"since {secret.made_at:%Y-%m-%d}"
    days = secret.days_left
    left = f"ended {counted(-days, 'day')} ago" if days < 0 else f"{counted(days, 'day')} left"
    return f"until {secret.ends_at:%Y-%m-%d}, {left}"


add_commands(
    Noun(
        group=source,
        word="source",
        calls=lambda s: s.sources,
        model=Source,
        columns={
            "Id": lambda r: r.id,
            "Source": lambda r: r.name,
            "Kind": lambda r: r.kind,
            "State": _state,
            "Last read": lambda r: r.good_at,
            "Next run": lambda r: r.next_at,
            "Devices": lambda r: r.devices,
            "Unknown": lambda r: r.unknown,
            "People": lambda r: r.people,
        },
        first_to_go=["Next run", "Unknown"],
        options={
            "branches": "--branch",
            "resellers": "--reseller",
            "attributes": "--attribute",
            "columns": "--column",
        },
        after=lambda r: f"sortitor source credential {quoted(r.name)}",
        detail=_detail,
        empty="No sources yet. Next: sortitor source add NAME --kind roster",
        has_findings=lambda r: r.state is SourceState.FAILING,
        examples={
            "list": "sortitor source list",
            "show": 'sortitor source show "Office directory"',
            "add": 'sortitor source add "Office directory" --kind directory --address'
            " ldaps://directory.wrenmoor.example --branch dc=wrenmoor,dc=example",
            "edit": 'sortitor source edit "Office directory" --every-minutes 60',
            "remove": 'sortitor source remove "Office directory"',
            "revisions": 'sortitor source revisions "Office directory"',
        },
    )
)


# ---- runs


@source.command()
@click.argument("name")
@click.option("--changes", is_flag=True, help="Only what changed since the last run.")
@click.option("--unbraked", is_flag=True, help="Go on although it would drop many.")
@click.option("--dry-run", is_flag=True, help="Only show what it would change.")
@with_client
def run(s: Sortitor, name: str, changes: bool, unbraked: bool, dry_run: bool) -> None:
    """Read a source now, and show what it changed.

    \b
    Examples:
      sortitor source run "Harbour registry"
      sortitor source run "Office directory" --dry-run
    """
    if dry_run:
        show_preview(s.sources.preview_run(name))
        return
    job = s.sources.run(name, not changes, unbraked)
    with watching() as watch:
        s.jobs.follow(job, watch)
    done = s.sources.show_run(job.subject_id)
    _show_run(done)
    if done.state is RunState.BRAKED:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _show_run(done: SourceRun) -> None:
    if done.problem:
        talk(f"{done.problem['detail']}\n  {done.problem['remedy']}")
    for name, number in done.counts.items():
        plain(f"{number:>9,}  {done.words.get(name, name)}")
    if not done.counts and done.state is RunState.DONE:
        plain("Nothing has changed.")
    for remark in done.remarks:
        examples = f" ({', '.join(remark.examples)})" if remark.examples else ""
        plain(f"! {remark.count:,} {remark.words}{examples}", "warn")
    if done.entry_id:
        talk(f"Take it back with: sortitor journal revert {done.entry_id}")
    if done.lot_id:
        talk(f"New devices came as lot {done.lot_id}: sortitor lot show {done.lot_id}")


@source.command()
@click.argument("name", required=False)
@most_option
@output_option
@with_client
def runs(s: Sortitor, name: str | None, most: int, output: str) -> None:
    """List runs, newest first; of one source, or of all.

    \b
    Example:
      sortitor source runs "Harbour registry"
    """
    columns = {
        "Id": lambda r: r.id,
        "Source": lambda r: r.source_name,
        "At": lambda r: r.asked_at,
        "By": lambda r: r.by,
        "What": lambda r: "everything" if r.whole else "changes",
        "State": lambda r: r.state,
        "Changed": lambda r: sum(r.counts.values()),
        "Entry": lambda r: str(r.entry_id or "–"),
        "Lot": lambda r: str(r.lot_id or "–"),
    }
    write(s.sources.runs(name, most + 1), output, columns, empty="No runs yet.", most=most)


@source.command("roster")
@click.argument("name")
@click.option("--query", "-q", help="What a serial number, IMEI or order begins with.")
@click.option("--unknown", is_flag=True, help="Only what is no device here.")
@most_option
@output_option
@with_client
def show_roster(
    s: Sortitor, name: str, query: str | None, unknown: bool, most: int, output: str
) -> None:
    """List what a source says of devices.

    \b
    Example:
      sortitor source roster "Harbour registry" --unknown
    """
    columns = {
        "Key": lambda r: r.key,
        "Serial": lambda r: r.serial,
        "IMEI": lambda r: r.imei,
        "Model": lambda r: r.model,
        "Order": lambda r: r.order_name,
        "Person": lambda r: r.person,
        "Device": lambda r: r.device_name or (str(r.device_id) if r.device_id else None),
        "Stage": lambda r: r.stage,
    }
    write(
        s.sources.devices(name, query, unknown, most + 1),
        output,
        columns,
        empty="It says nothing of devices.",
        most=most,
        first_to_go=["Person", "IMEI"],
    )


@source.command("hand-over")
@click.argument("name")
@click.argument("file", type=_SHEET)
@click.option("--dry-run", is_flag=True, help="Only show what it would change.")
@click.option("-y", "--yes", is_flag=True, help="Do it without asking.")
@with_client
def hand_over(s: Sortitor, name: str, file: Path, dry_run: bool, yes: bool) -> None:
    """Hand a roster file over: all that the system knows, as CSV, XLSX, ODS or JSON Lines.

    \b
    Example:
      sortitor source hand-over "Yard list" yard.csv
    """
    preview = s.sources.preview_file(name, file)
    if dry_run:
        show_preview(preview)
        return
    agree(preview, yes)
    _show_run(s.sources.take_file(name, file, preview.digest))
    talk("Next: sortitor level list")


@source.command()
@click.argument("name")
@with_client
def diagnosis(s: Sortitor, name: str) -> None:
    """Print what to hand to whoever helps: settings, state, runs; no secret.

    \b
    Example:
      sortitor source diagnosis "Harbour registry"
    """
    click.echo(s.sources.diagnosis(name), nl=False)


# ---- what opens them


@source.command()
@click.argument("name")
@click.option(
    "--file",
    "file",
    type=InFile(),
    help="Where it is: a file, or - for standard input.  [asked for]",
)
@click.option(
    "--kind",
    type=click.Choice([kind.value for kind in SecretKind]),
    help="What it is, where its form does not say it.",
)
@at_once_option
@with_client
def credential(s: Sortitor, name: str, file: Path | None, kind: str | None) -> None:
    """Give what opens a source: a password, a registry's token, a certificate, a key file.

    \b
    Examples:
      sortitor source credential "Office directory"
      sortitor source credential "Harbour registry" --file token.txt
    """
    if file is None:
        text = click.prompt("Password, token or key file", hide_input=True, err=True)
    else:
        text = file.read_text(errors="replace")
    taken: CredentialTaken = s.sources.give(name, text, SecretKind(kind) if kind else None)
    for words in taken.words:
        plain(words)
    talk(f"Next: sortitor source test {quoted(name)}")


@source.command()
@click.argument("name")
@click.argument("kind", type=click.Choice([kind.value for kind in SecretKind]))
@reason_option
@at_once_option
@with_client
def forget(s: Sortitor, name: str, kind: str, reason: str | None) -> None:
    """Forget what opens a source.

    \b
    Example:
      sortitor source forget "Office directory" password
    """
    s.sources.forget(name, SecretKind(kind), reason)
    talk("Forgotten.")


@source.command("key")
@click.argument("name")
@click.option("--new", is_flag=True, help="Make a new key pair; the one in use stays in use.")
@click.option("--request", is_flag=True, help="Print a signing request instead (RFC 2986).")
@with_client
def show_key(s: Sortitor, name: str, new: bool, request: bool) -> None:
    """Print the certificate that is taken to a registry, to standard output.

    \b
    Example:
      sortitor source key "Harbour registry" --new > certificate.pem
    """
    text = s.sources.make_key(name) if new else None
    if request:
        text = s.sources.signing_request(name)
    click.echo(text or s.sources.certificate(name), nl=False)
    talk(
        "Take it to the registry, and come back with its token:"
        f" sortitor source credential {quoted(name)} --file token.txt"
    )


@source.command()
@click.argument("name")
@output_option
@with_client
def test(s: Sortitor, name: str, output: str) -> None:
    """See whether a source can be reached and opened, with up to three entries as it gives them.

    \b
    Example:
      sortitor source test "Office directory"
    """
    looked: SourceLook = s.sources.test(name)
    if is_data(looked, output):
        return
    for words in looked.words:
        plain(words)
    for entry in looked.entries:
        heading(next(iter(entry.values()))[0])
        record([(key, values) for key, values in entry.items()])
    talk(f"\nNext: sortitor source run {quoted(name)} --dry-run")


# ---- registries


@source.command()
@click.argument("name")
@click.argument("query")
@with_client
def held(s: Sortitor, name: str, query: str) -> None:
    """List what a registry holds under a serial number, IMEI, order or reseller.

    \b
    Example:
      sortitor source held "Harbour registry" WL-2602
    """
    columns = {
        "Key": lambda r: r.key,
        "Serial": lambda r: r.serial,
        "Model": lambda r: r.model,
        "Reseller": lambda r: r.reseller,
        "Order": lambda r: r.order,
        "Added": lambda r: r.added_at[:10],
        "Assigned to": lambda r: r.assigned_to,
        "Sheet": lambda r: (r.sheet_digest or "")[:8],
    }
    write(s.registries.find(name, query), "table", columns, empty="Nothing of that name.")


@source.command()
@click.argument("name")
@click.argument("act", type=click.Choice([act.value for act in RegistryAct]))
@click.argument("devices", nargs=-1)
@click.option(
    "--from",
    "listed",
    type=click.File(),
    help="A list of serial numbers, one a line; - for standard input.",
)
@click.option("--reseller", help="With assign: all that this reseller delivers, now and later.")
@click.option("--sheet", type=_SHEET, help="With set-sheet: the sheet as JSON.")
@change_options
@with_client
def tell(
    s: Sortitor,
    name: str,
    act: str,
    devices: tuple[str, ...],
    listed: Any,
    reseller: str | None,
    sheet: Path | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Let a registry assign devices to this server, release them, or carry a sheet.

    \b
    Examples:
      sortitor source tell "Harbour registry" assign --reseller "Harbour Tools"
      sortitor source tell "Harbour registry" release HS20000001
    """
    lines = (line.split(",")[0].strip() for line in listed or ())
    asked = RegistryActAsked(
        act=RegistryAct(act),
        devices=[*devices, *filter(None, lines)],
        reseller=reseller,
        sheet=_read_sheet(sheet) if sheet else None,
    )
    preview = s.registries.preview(name, asked)
    agree(preview, yes)
    s.registries.act(name, asked, preview.digest, reason)
    talk(f"Done. The next run confirms it: sortitor source run {quoted(name)}")


def _read_sheet(file: Path) -> dict[str, Any]:
    """A setup sheet. Raises BadParameter for what is no JSON object."""
    try:
        found = json.loads(file.read_bytes())
    except ValueError as error:
        raise click.BadParameter(f"{file} is no JSON: {error}", param_hint="--sheet") from error
    if not isinstance(found, dict):
        raise click.BadParameter(f"{file} is no JSON object.", param_hint="--sheet")
    return found
