"""`sortitor end`: what ends, and who is reminded of it."""

from __future__ import annotations

import click

from sortitor.cli.connection import with_client
from sortitor.cli.output import (
    agree,
    change_options,
    is_data,
    output_option,
    record,
    talk,
    toned,
    write,
)
from sortitor.client import Sortitor
from sortitor.core.ends import Reminders
from sortitor.core.vocabulary import EndKind
from sortitor.core.words import LABELS

_SOON, _NEAR = 7, 30


@click.group()
def end() -> None:
    """What ends, and who is reminded of it."""


@end.command("list")
@click.option(
    "--within",
    type=click.IntRange(0, 400),
    metavar="DAYS",
    help="Only what ends within so many days.",
)
@output_option
@with_client
def list_ends(s: Sortitor, within: int | None, output: str) -> None:
    """List what ends, first things first: credentials, passes, holds, warranties.

    \b
    Example:
      sortitor end list --within 60
    """
    found = [one for one in s.ends.list() if within is None or one.days_left <= within]
    columns = {
        "Ends on": lambda e: e.ends_on,
        "Days left": lambda e: toned(f"{e.days_left:,}", _tone(e.days_left)),
        "What": lambda e: e.title,
        "Kind": lambda e: LABELS[EndKind][e.kind],
    }
    write(found, output, columns, empty="Nothing ends.")
    if output == "table":
        talk("\nNext: sortitor end reminders")


def _tone(left: int) -> str:
    return "bad" if left < _SOON else "warn" if left < _NEAR else "plain"


@end.command()
@output_option
@with_client
def reminders(s: Sortitor, output: str) -> None:
    """Show who is reminded by mail, and how long before.

    \b
    Example:
      sortitor end reminders
    """
    found = s.ends.reminders()
    if is_data(found, output):
        return
    record(
        [
            ("To", list(found.addresses) or ["nobody"]),
            ("Days before", ", ".join(map(str, found.days))),
            ("Of", ", ".join(LABELS[EndKind][kind] for kind in found.kinds)),
        ]
    )
    talk("\nNext: sortitor end remind --to it@wrenmoor.example")


@end.command()
@click.option(
    "--to", "addresses", multiple=True, metavar="ADDRESS", help="A mail address; repeatable."
)
@click.option("--nobody", is_flag=True, help="Remind nobody any more.")
@click.option(
    "--before",
    "days",
    multiple=True,
    type=click.IntRange(1, 365),
    metavar="DAYS",
    help="So many days before each end; repeatable.",
)
@click.option(
    "--of",
    "kinds",
    multiple=True,
    type=click.Choice([kind.value for kind in EndKind]),
    help="Of what; repeatable.",
)
@change_options
@with_client
def remind(
    s: Sortitor,
    addresses: tuple[str, ...],
    nobody: bool,
    days: tuple[int, ...],
    kinds: tuple[str, ...],
    yes: bool,
    reason: str | None,
) -> None:
    """Change who is reminded by mail; what is not named stays as it is.

    \b
    Examples:
      sortitor end remind --to it@wrenmoor.example --before 60 --before 14 --before 1
      sortitor end remind --nobody
    """
    if nobody and addresses:
        raise click.UsageError("--nobody and --to contradict each other.")
    before = s.ends.reminders()
    wanted = Reminders(
        addresses=() if nobody else addresses or before.addresses,
        days=days or before.days,
        kinds=tuple(map(EndKind, kinds)) or before.kinds,
    )
    preview = s.ends.preview_reminders(wanted)
    agree(preview, yes)
    s.ends.apply_reminders(wanted, preview.digest, reason)
    talk("Saved. Next: sortitor end list --within 60")
