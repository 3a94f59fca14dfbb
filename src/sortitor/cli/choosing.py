"""Choosing devices: the options and arguments that say which devices a command means."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar

import click

from sortitor.cli.output import InFile, plain, talk
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Ownership, Platform, Stage
from sortitor.schemas.selection import Selection

Command = TypeVar("Command", bound=Callable[..., Any])

#: Options that are short for the commonest comparisons, each called like its attribute.
_SHORT = ("stage", "platform", "ownership", "site", "maker", "model")


def selection_options(command: Command) -> Command:
    """Conditions that choose devices; all must hold."""
    for option in reversed(
        (
            click.option(
                "--query",
                "-q",
                help="Serial, its last characters, IMEI, name, person or asset tag.",
            ),
            click.option(
                "--filter",
                help='In the filter language, such as: site sw "Quill" and idleDays ge 90',
            ),
            click.option(
                "--fix", is_flag=True, help="Take the corrected filter where it has a mistake."
            ),
            click.option("--cohort", help="Devices of this cohort (number or name)."),
            click.option(
                "--stage",
                multiple=True,
                type=click.Choice([x.value for x in Stage]),
                help="Short for: stage eq … (repeatable).",
            ),
            click.option(
                "--platform",
                multiple=True,
                type=click.Choice([x.value for x in Platform]),
                help="Short for: platform eq … (repeatable).",
            ),
            click.option(
                "--ownership",
                multiple=True,
                type=click.Choice([x.value for x in Ownership]),
                help="Short for: ownership eq … (repeatable).",
            ),
            click.option("--site", multiple=True, help="Short for: site eq … (repeatable)."),
            click.option("--maker", multiple=True, help="Short for: maker eq … (repeatable)."),
            click.option("--model", multiple=True, help="Short for: model eq … (repeatable)."),
            click.option("--lot", type=int, help="Devices that this lot added or changed."),
            click.option("--idle", type=click.IntRange(0), help="Short for: idleDays ge …"),
        )
    ):
        command = option(command)
    return command


def as_filter(given: Mapping[str, Any]) -> str | None:
    """The options in the filter language."""
    chosen = [_typed(given["filter"], given.get("fix", False))] if given["filter"] else []
    for name in _SHORT:
        if given[name]:
            values = (json.dumps(value, ensure_ascii=False) for value in given[name])
            chosen.append(" or ".join(f"{name} eq {value}" for value in values))
    if given["idle"] is not None:
        chosen.append(f"idleDays ge {given['idle']}")
    if len(chosen) > 1:
        return " and ".join(f"({one})" for one in chosen)
    return chosen[0] if chosen else None


def _typed(text: str, fix: bool) -> str:
    """The filter as it was typed; with `--fix` as it was meant."""
    from sortitor.core.filter_repairs import asks, repaired
    from sortitor.core.filters import ATTRIBUTES, read

    meant = asks(text)
    if meant is None and fix:
        meant = repaired(text, ATTRIBUTES, read)
    if meant is None:
        return text
    if not fix:
        talk(f"{meant.mistakes[0].words} With --fix: {meant.text}")
        return text
    talk(f"Corrected: {meant.text}")
    return meant.text


def as_selection(s: Sortitor, given: Mapping[str, Any], ids: Sequence[int] = ()) -> Selection:
    """The options as a selection."""
    cohort_id = s.cohorts.show(given["cohort"]).id if given["cohort"] else None
    return Selection(
        ids=list(ids),
        query=given["query"],
        cohort_id=cohort_id,
        lot_id=given["lot"],
        filter=as_filter(given),
    )


def named_options(command: Command) -> Command:
    """Devices that are to be changed: by number, by a list of identifiers, by conditions."""
    listed = click.option(
        "--list",
        "listed",
        type=InFile(),
        help="A list of identifiers, asset tags or names, or a file with columns; - is standard"
        " input.",
    )
    numbers = click.option("--id", "ids", type=int, multiple=True, help="One device; repeatable.")
    return numbers(listed(selection_options(command)))


def named(s: Sortitor, given: dict[str, Any], ids: tuple[int, ...]) -> Selection:
    """The devices that were named by numbers, conditions, or a list of identifiers."""
    listed = given.pop("listed", None)
    found = _of_list(s, listed) if listed is not None else []
    selection = as_selection(s, given, (*ids, *found))
    if selection == Selection():
        raise click.UsageError(
            "Name the devices: --id, --list or a condition. All devices at once is never meant."
        )
    return selection


def _of_list(s: Sortitor, path: Path) -> list[int]:
    """The devices that a list means; rows that mean none are told, and left out."""
    found = s.devices.find(path.read_text() if path.name == "stdin" else path)
    strange = [("no device here", one) for one in found.unknown]
    strange += [("fits several devices", one) for one in found.several]
    for why, one in strange[:20]:
        plain(f"Left out: row {one.row}, {one.text}: {why}.", "warn")
    if len(strange) > 20:
        plain(f"Left out: {len(strange) - 20:,} more rows.", "warn")
    if not found.ids:
        raise click.UsageError("The list names no device that is here.")
    return found.ids


def by_file_or_filter(command: Command) -> Command:
    """Which devices are meant: an argument `file` of identifiers, or `--filter`."""
    kind = InFile()
    by_filter = click.option("--filter", metavar="FILTER", help="The devices that fit now.")
    return click.argument("file", required=False, type=kind)(by_filter(command))


def meant(file: Path | None, filter: str | None) -> Selection:
    """The devices of one of both."""
    if (file is None) == (filter is None):
        raise click.UsageError("Give a file of identifiers, or --filter.")
    return Selection(identifiers=_identifiers(file) if file else [], filter=filter)


def _identifiers(file: Path) -> list[str]:
    """The identifiers of a file, separated by commas, semicolons or lines."""
    text = file.read_text("utf-8-sig").replace(",", "\n").replace(";", "\n")
    return [line.strip() for line in text.splitlines() if line.strip()]


def conditions(given: Mapping[str, Any]) -> dict[str, Any]:
    """The options as query parameters."""
    plainly = {name: given[name] for name in ("query", "cohort", "lot")}
    asked = {**plainly, "filter": as_filter(given)}
    return {name: value for name, value in asked.items() if value is not None}


def find_one(s: Any, text: str) -> int:
    """The number of the one device that a number, `#`-less id or search text means; a usage error
    otherwise.
    """
    if text.isdigit() and len(text) < 10:
        return int(text)
    found = list(s.devices.list(most=6, query=text))
    if len(found) == 1:
        return int(found[0].id)
    if not found:
        raise click.UsageError(f"No device fits {text!r}.")
    names = ", ".join(f"{d.id} ({d.name or d.serial})" for d in found)
    raise click.UsageError(f"Several devices fit {text!r}: {names}. Give one number.")
