"""`sortitor file`: files that are kept for devices."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click
from rich.progress import BarColumn, DownloadColumn, Progress, TimeRemainingColumn

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import (
    InFile,
    console,
    most_option,
    output_option,
    quoted,
    talk,
    to_option,
    write,
    written,
    yes_option,
)
from sortitor.client import Sortitor
from sortitor.client.files import Heard
from sortitor.core.previews import sized


@click.group()
def file() -> None:
    """Files that are kept for devices: apps, documents, pictures."""


@file.command("list")
@most_option
@output_option
@with_client
def list_files(s: Sortitor, most: int, output: str) -> None:
    """List the files that are kept, and the items that name them.

    \b
    Example:
      sortitor file list
    """
    write(
        s.files.list(),
        output,
        {
            "File": lambda one: one.name,
            "Size": lambda one: sized(one.size),
            "Put in": lambda one: one.at,
            "By": lambda one: one.by,
            "Items": lambda one: one.items or "none",
            "SHA-256": lambda one: one.digest,
        },
        empty="No files yet. Next: sortitor file put PATH",
        most=most,
        below=["SHA-256"],
    )


@file.command("put")
@click.argument("path", type=InFile())
@click.option("--name", help="What it is called; without, as the file is.")
@at_once_option
@with_client
def put(s: Sortitor, path: Path, name: str | None) -> None:
    """Keep a file, up to 2 GB. The same file twice is one.

    \b
    Example:
      sortitor file put deck-plans.pdf --name "Deck plans.pdf"
    """
    with _following() as heard:
        kept = s.files.put(path, name, heard)
    talk(f"Kept: {kept.name}, {sized(kept.size)}, SHA-256 {kept.digest}.")
    if not kept.items:
        talk(f"Next: sortitor item add NAME --what document:{quoted(str(path))}")


@contextmanager
def _following() -> Iterator[Heard]:
    columns = (BarColumn(), DownloadColumn(), TimeRemainingColumn())
    with Progress(*columns, console=console(stderr=True), transient=True) as progress:
        task = progress.add_task("")
        yield lambda done, total: progress.update(task, completed=done, total=total)


@file.command("fetch")
@click.argument("digest")
@to_option("Where to.")
@with_client
def fetch(s: Sortitor, digest: str, to: Path) -> None:
    """Write a kept file to a path, and check that it is the one. DIGEST is its SHA-256, or how it
    begins.

    \b
    Example:
      sortitor file fetch 3f2a --to deck-plans.pdf
    """
    s.files.fetch(_whole(s, digest), to)
    written(to)


@file.command("remove")
@click.argument("digest")
@yes_option
@at_once_option
@with_client
def remove(s: Sortitor, digest: str, yes: bool) -> None:
    """Let go of a file that no item names. What no item names for long goes by itself.

    \b
    Example:
      sortitor file remove 3f2a
    """
    found = s.files.get(_whole(s, digest))
    if not yes:
        talk("This cannot be taken back: the file must be put in again.")
        click.confirm(f"Let go of {found.name}?", abort=True, err=True)
    s.files.remove(found.digest)
    talk(f"Gone: {found.name}.")


def _whole(s: Sortitor, beginning: str) -> str:
    """The digest that begins so, if it is one file's."""
    found = [one.digest for one in s.files.list() if one.digest.startswith(beginning.lower())]
    if len(found) == 1:
        return found[0]
    what = f"{len(found)} files" if found else "no file"
    raise click.BadParameter(
        f"{what} with a SHA-256 that begins with {beginning!r}; see sortitor file list.",
        param_hint="DIGEST",
    )
