"""`sortitor filter`: the language that chooses devices."""

from __future__ import annotations

import click

from sortitor.cli.connection import with_client
from sortitor.cli.output import is_data, output_option, plain, talk, write
from sortitor.client import Sortitor


@click.group("filter")
def filter_() -> None:
    """The language that chooses devices."""


@filter_.command()
@output_option
@with_client
def attributes(s: Sortitor, output: str) -> None:
    """List what a filter can speak of, and how.

    \b
    Example:
      sortitor filter attributes
    """
    columns = {
        "Attribute": lambda a: a.name,
        "Kind": lambda a: a.kind,
        "Compared by": lambda a: " ".join(a.operators),
        "Meaning": lambda a: a.meaning,
        "Words": lambda a: a.words or None,
    }
    write(s.filters.attributes(), output, columns, below=["Words", "Compared by", "Meaning"])


@filter_.command()
@click.argument("text", metavar="FILTER")
@output_option
@with_client
def check(s: Sortitor, text: str, output: str) -> None:
    """Read a filter and count its devices; a fault is shown where it stands.

    \b
    Example:
      sortitor filter check 'site sw "Quill" and idleDays ge 90'
    """
    found = s.filters.check(text)
    if is_data(found, output):
        return
    plain(f"{found.devices:,} devices fit now.")
    if found.moving:
        talk("The mere passing of time changes which.")
