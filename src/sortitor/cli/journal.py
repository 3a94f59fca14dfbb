"""`sortitor journal`: who changed what, and taking it back."""

from __future__ import annotations

import json
from typing import Any

import click

from sortitor.cli.connection import with_client
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
from sortitor.client import Sortitor


@click.group()
def journal() -> None:
    """Who changed what, and taking it back."""


@journal.command("list")
@click.option("--operation", help="The beginning of an operation, such as lot or device.declare.")
@click.option("--actor", help="Only what this account did.")
@most_option
@output_option
@with_client
def list_entries(
    s: Sortitor, operation: str | None, actor: str | None, most: int, output: str
) -> None:
    """List entries, newest first.

    \b
    Example:
      sortitor journal list --operation lot
    """
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
        s.journal.list(operation, actor, most + 1),
        output,
        columns,
        hint="Next: sortitor journal show ID    or: sortitor journal revert ID",
        most=most,
        below=["Why", "What"],
        first_to_go=["Reverted by", "Operation"],
    )


@journal.command()
@click.argument("entry_id", type=int)
@with_client
def show(s: Sortitor, entry_id: int) -> None:
    """Show one entry with before and after.

    \b
    Example:
      sortitor journal show 120
    """
    e = s.journal.show(entry_id)
    record(
        [
            ("Entry", e.id),
            ("At", e.at),
            ("By", e.actor),
            ("Operation", e.operation),
            ("What", e.summary),
            ("Why", e.reason),
            ("Request", e.request_id),
            ("Reverts", e.reverts),
            ("Reverted by", e.reverted_by),
        ]
    )
    for title, value in (("Before", e.before), ("After", e.after)):
        if value is not None:
            heading(title)
            plain(json.dumps(value, ensure_ascii=False, indent=2))
    if e.effects:
        heading(f"Devices (first {len(e.effects)})")
        for effect in e.effects[:20]:
            plain(f"  {effect.device_id}: {_short(effect.before)} → {_short(effect.after)}")


def _short(value: dict[str, Any] | None) -> str:
    return "nothing" if value is None else json.dumps(value, ensure_ascii=False)[:120]


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
