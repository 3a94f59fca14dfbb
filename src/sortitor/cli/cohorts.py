"""`sortitor cohort`: sets of devices, by filter or by list."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from sortitor.cli.choosing import by_file_or_filter, find_one, meant
from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import (
    agree,
    change_options,
    heading,
    is_data,
    output_option,
    plain,
    record,
    talk,
)
from sortitor.client import Sortitor
from sortitor.core.cohorts import Cohort
from sortitor.schemas.cohorts import CohortDetail

Command = TypeVar("Command", bound=Callable[..., Any])

_DAYS_SHOWN = 14


@click.group()
def cohort() -> None:
    """Sets of devices, by filter or by list."""


def _kind(found: CohortDetail) -> str:
    if found.kind == "list":
        return "list"
    return "filter, moved by time" if found.moving else "filter"


def _detail(s: Sortitor, found: CohortDetail) -> None:
    uses, days = s.cohorts.uses(found.id), s.cohorts.history(found.id)
    record(
        [
            ("Cohort", f"{found.id}  {found.name}"),
            ("Devices", found.devices),
            ("Filter", found.filter or "none: it is a list"),
            ("Note", found.note),
            ("Made by", found.created_by),
            ("Used by", ", ".join(f"{use.kind} {use.name}" for use in uses) or "nothing"),
        ]
    )
    if len(days) > 1:
        heading("By day")
        for line in days[-_DAYS_SHOWN:]:
            plain(f"  {line.day}  {line.devices:>8,}")
    talk(f"\nNext: sortitor device list --cohort {found.id}")


def _after(made: CohortDetail) -> str:
    if made.kind == "list" and not made.devices:
        return f"sortitor cohort put {made.id} FILE"
    return f"sortitor device list --cohort {made.id}"


add_commands(
    Noun(
        group=cohort,
        word="cohort",
        calls=lambda s: s.cohorts,
        model=Cohort,
        columns={
            "Id": lambda c: c.id,
            "Cohort": lambda c: c.name,
            "Devices": lambda c: c.devices,
            "By": _kind,
            "Filter": lambda c: c.filter,
        },
        below=["Filter"],
        after=_after,
        detail=_detail,
        empty="No cohorts yet. Next: sortitor cohort add NAME --filter FILTER",
        examples={
            "list": "sortitor cohort list",
            "show": 'sortitor cohort show "Deck phones"',
            "add": 'sortitor cohort add "Deck phones" --filter \'person.groups eq "Crew"\'',
            "edit": 'sortitor cohort edit "Deck phones" --filter \'platform eq "android"\'',
            "remove": 'sortitor cohort remove "Deck phones"',
            "revisions": 'sortitor cohort revisions "Deck phones"',
        },
    )
)


@cohort.command()
@click.argument("name")
@click.argument("device")
@click.option("--all", "whole", is_flag=True, help="Every comparison, not only what decides.")
@output_option
@with_client
def explain(s: Sortitor, name: str, device: str, whole: bool, output: str) -> None:
    """Say why a device is in a cohort, or is not: what decides, with the device's value.

    \b
    Example:
      sortitor cohort explain "Deck phones" HALYARD-0007
    """
    found, number = s.cohorts.show(name), find_one(s, device)
    explained = s.cohorts.explain(found.id, number)
    if is_data(explained, output):
        return
    called = s.devices.show(number).name or f"Device no. {number}"
    plain(
        f"{called} is {'in' if explained.inside else 'not in'} “{found.name}”.",
        "good" if explained.inside else "warn",
    )
    for clause in explained.clauses:
        if clause.decides or whole:
            answer = "yes" if clause.matched else "no"
            plain(f"  {answer:3}  {clause.text}   (it has {clause.actual})")


@cohort.command()
@click.argument("name")
@click.argument("other")
@output_option
@with_client
def compare(s: Sortitor, name: str, other: str, output: str) -> None:
    """Count what two cohorts share.

    \b
    Example:
      sortitor cohort compare "Deck phones" Spares
    """
    shared = s.cohorts.overlap(name, other)
    if is_data(shared, output):
        return
    record(
        [
            (f"Only in {name}", shared.only_one),
            ("In both", shared.both),
            (f"Only in {other}", shared.only_other),
        ]
    )


def _change(
    s: Sortitor,
    name: str,
    file: Path | None,
    filter: str | None,
    put_in: bool,
    yes: bool,
    reason: str | None,
) -> None:
    selection = meant(file, filter)
    c = s.cohorts.show(name)
    preview = s.cohorts.preview_list(c.id, selection, put_in)
    agree(preview, yes)
    s.cohorts.change_list(c.id, selection, preview.digest, put_in, reason)
    talk(f"Done. Next: sortitor device list --cohort {c.id}")


@cohort.command("put")
@click.argument("name")
@by_file_or_filter
@change_options
@with_client
def put_in(
    s: Sortitor,
    name: str,
    file: Path | None,
    filter: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Put devices in a list: by a file of identifiers, or those that fit a filter now.

    \b
    Example:
      sortitor cohort put "Lent out" serials.txt
    """
    _change(s, name, file, filter, True, yes, reason)


@cohort.command("take")
@click.argument("name")
@by_file_or_filter
@change_options
@with_client
def take_out(
    s: Sortitor,
    name: str,
    file: Path | None,
    filter: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Take devices from a list.

    \b
    Example:
      sortitor cohort take "Lent out" --filter 'site eq "Quillharbour"'
    """
    _change(s, name, file, filter, False, yes, reason)
