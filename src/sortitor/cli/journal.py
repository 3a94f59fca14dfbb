"""`sortitor journal`: who changed what, and taking it back."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Literal

import click

from sortitor.cli.choosing import find_one
from sortitor.cli.connection import with_client
from sortitor.cli.output import (
    STANDARD_OUTPUT,
    InFile,
    agree,
    change_options,
    heading,
    is_data,
    most_option,
    output_option,
    plain,
    record,
    talk,
    to_option,
    write,
    written,
)
from sortitor.client import Sortitor
from sortitor.schemas.base import Change
from sortitor.schemas.journal import Entry


@click.group()
def journal() -> None:
    """Who changed what, and taking it back."""


@journal.command("list")
@click.option("--operation", help="The beginning of an operation, such as lot or device.declare.")
@click.option("--actor", help="Only what this account did.")
@click.option("--person", help="Only what concerned this person, by user name.")
@click.option("--device", help="Only what concerned this device, by anything that finds it.")
@click.option("--since", type=click.DateTime(["%Y-%m-%d"]), help="From this day on.")
@click.option("--until", type=click.DateTime(["%Y-%m-%d"]), help="Up to the end of this day.")
@to_option("Write them to a file: .csv, .xlsx or .jsonl.", required=False)
@most_option
@output_option
@with_client
def list_entries(
    s: Sortitor,
    operation: str | None,
    actor: str | None,
    person: str | None,
    device: str | None,
    since: datetime | None,
    until: datetime | None,
    to: Path | None,
    most: int,
    output: str,
) -> None:
    """List entries, newest first.

    \b
    Examples:
      sortitor journal list --operation lot
      sortitor journal list --person anwen.inkpen --since 2026-01-01 --to anwen.xlsx
    """
    asked: dict[str, Any] = {
        "person": person,
        "device": find_one(s, device) if device else None,
        "since": since and since.date(),
        "until": until and until.date(),
    }
    if to is not None:
        s.journal.file(to, _form(to), operation, actor, **asked)
        written(to)
        return
    columns = {
        "Id": lambda e: e.id,
        "At": lambda e: e.at,
        "By": lambda e: e.actor,
        "Operation": lambda e: e.operation,
        "What": lambda e: e.summary,
        "Why": lambda e: e.reason,
        "Reverted by": lambda e: e.reverted_by,
    }
    write(
        s.journal.list(operation, actor, most + 1, **asked),
        output,
        columns,
        hint="Next: sortitor journal show ID    or: sortitor journal revert ID",
        most=most,
        below=["Why", "What"],
        first_to_go=["Reverted by", "Operation"],
    )


@journal.command()
@click.argument("entry_id", type=int)
@output_option
@with_client
def show(s: Sortitor, entry_id: int, output: str) -> None:
    """Show one entry with before and after.

    \b
    Example:
      sortitor journal show 120
    """
    e = s.journal.show(entry_id)
    if is_data(e, output):
        return
    record(
        [
            ("Entry", e.id),
            ("At", e.at),
            ("Recorded", e.recorded_at if _apart(e) else None),
            ("By", e.actor if e.account_id is None else f"{e.actor} (account {e.account_id})"),
            ("Operation", e.operation),
            ("What", e.summary),
            ("Why", e.reason),
            ("Request", e.request_id),
            ("Reverts", e.reverts),
            ("Reverted by", e.reverted_by),
        ]
    )
    if e.changes:
        heading("What changed")
        for change in e.changes:
            plain(_line(change))
    elif e.before is not None or e.after is not None:
        for title, value in (("Before", e.before), ("After", e.after)):
            if value is not None:
                heading(title)
                plain(json.dumps(value, ensure_ascii=False, indent=2))
    if e.effects:
        heading(f"Devices (first {len(e.effects)})")
        for effect in e.effects[:_EFFECTS]:
            what = "; ".join(map(_line, effect.changes)) or "nothing that shows"
            plain(f"{effect.label}: {what if effect.after is not None else 'removed'}")
        if len(e.effects) > _EFFECTS:
            plain("…")


def _apart(entry: Entry) -> bool:
    """Whether the business's clock stood elsewhere than the real one."""
    return abs(entry.recorded_at - entry.at) > timedelta(minutes=1)


#: So many devices are told of.
_EFFECTS = 20
_FORMS: dict[str, Literal["csv", "xlsx", "jsonl"]] = {
    ".csv": "csv",
    ".xlsx": "xlsx",
    ".jsonl": "jsonl",
}


def _form(path: Path) -> Literal["csv", "xlsx", "jsonl"]:
    form = "csv" if path == STANDARD_OUTPUT else _FORMS.get(path.suffix.lower())
    if form is None:
        raise click.BadParameter("end it with .csv, .xlsx or .jsonl.", param_hint="--to")
    return form


def _line(change: Change) -> str:
    return f"{change.field}: {change.before or '–'} → {change.after or '–'}"


@journal.command()
@click.argument("entry_id", type=int)
@change_options
@with_client
def revert(s: Sortitor, entry_id: int, yes: bool, reason: str | None) -> None:
    """Take a change back; what was changed again since stays and is named.

    \b
    Example:
      sortitor journal revert 120 --reason "wrong group"
    """
    preview = s.journal.preview_revert(entry_id)
    agree(preview, yes)
    made = s.journal.revert(entry_id, preview.digest, reason)
    talk(f"Reverted by entry {made}.")


@journal.command()
@click.option(
    "--head",
    type=InFile(),
    help="A head that was written earlier: it must still be part of the journal.",
)
@with_client
def verify(s: Sortitor, head: Path | None) -> None:
    """Prove that no entry was changed, left out or put in; names the first that was.

    \b
    Examples:
      sortitor journal verify
      sortitor journal verify --head head-january.jws
    """
    if head is not None:
        found = s.journal.check_head(head.read_text())
        if not found.holds:
            raise _broken(f"The journal is not the one of {head}. {found.why}")
    checked = 0
    for part in s.journal.verify():
        checked += part.checked
        if part.why:
            name = f"Entry {part.broken_entry}" if part.broken_entry else "The chain"
            raise _broken(f"{name} is broken after {checked:,} right ones. {part.why}")
    end = s.journal.head()
    talk(
        f"{checked:,} entries are unchanged, up to entry {end.entry_id or '–'}."
        + (f" {end.waiting:,} more wait for their seal." if end.waiting else "")
    )


def _broken(detail: str) -> click.ClickException:
    return click.ClickException(detail)


@journal.command("head")
@output_option
@with_client
def show_head(s: Sortitor, output: str) -> None:
    """Write the signed end of the journal; keep it where nobody of this service can change it.

    \b
    Example:
      sortitor journal head > head-january.jws
    """
    end = s.journal.head()
    if is_data(end, output):
        return
    click.echo(end.signed)
    talk(f"{end.place:,} entries are sealed. Later: sortitor journal verify --head FILE")


@journal.command("export")
@to_option("Where to.")
@click.option("--after-place", type=click.IntRange(0), default=0, help="Only what came after.")
@with_client
def export(s: Sortitor, to: Path, after_place: int) -> None:
    """Write the sealed journal as JSON Lines.

    \b
    Example:
      sortitor journal export --to journal.jsonl
    """
    s.journal.export(to, after_place)
    written(to)
