"""`sortitor level`: how the systems disagree, and what is done about it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any, TypeVar

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.dates import until_option
from sortitor.cli.output import (
    ExitCode,
    agree,
    change_options,
    counted,
    form_of,
    form_option,
    heading,
    most_option,
    output_option,
    plain,
    reason_option,
    record,
    talk,
    to_option,
    toned,
    write,
    write_one,
    written,
)
from sortitor.cli.progress import watching
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Gap, GapState, Mend
from sortitor.schemas.levels import Discrepancy, GapSelection, Levels

Command = TypeVar("Command", bound=Callable[..., Any])
_BAR = 30


@click.group()
def level() -> None:
    """Level the books: where the fleet and other systems disagree."""


def _which(command: Command) -> Command:
    """Options that say which disagreements are meant."""
    for option in (
        click.option("--near", "near_only", is_flag=True, help="Only what resembles a device."),
        click.option("--owner", help="Only whose owner is."),
        click.option(
            "--state",
            type=click.Choice([state.value for state in GapState]),
            help="Only in this state.  [all but closed]",
        ),
        click.option("--source", help="Only with this source, by number or name."),
        click.option(
            "--kind", type=click.Choice([gap.value for gap in Gap]), help="Only of this kind."
        ),
    ):
        command = option(command)
    return command


def _chosen(
    s: Sortitor,
    ids: tuple[int, ...],
    kind: str | None,
    source: str | None,
    state: str | None,
    owner: str | None,
    near_only: bool,
) -> GapSelection:
    return GapSelection(
        ids=list(ids),
        kind=Gap(kind) if kind else None,
        source_id=s.sources.show(source).id if source else None,
        state=GapState(state) if state else None,
        owner=owner,
        near_only=near_only,
    )


@level.command("overview")
@click.option("--compare", is_flag=True, help="Compare again first.")
@form_option()
@with_client
def show_overview(s: Sortitor, compare: bool, output: str) -> None:
    """Show the rosters beside each other: which systems know how many of the same devices.

    Ends with 1 where disagreements stand open.

    \b
    Example:
      sortitor level overview
    """
    with watching() as watch:
        found = s.levels.compare(watch) if compare else s.levels.show()
    if output == "json":
        write_one(found, output)
    else:
        _overview(found)
    if any(gap.state is GapState.OPEN for gap in found.gaps):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _overview(found: Levels) -> None:
    if found.at is None:
        talk("Nothing was compared yet. Next: sortitor level overview --compare")
        return
    write(
        found.rosters,
        "table",
        {
            "Roster": lambda r: r.name,
            "Devices": lambda r: r.devices,
            "As of": lambda r: r.good_at,
        },
    )
    heading("Who knows how many of the same devices")
    names = [roster.name for roster in found.rosters]
    most = max((pattern.devices for pattern in found.patterns), default=1)
    for pattern in found.patterns:
        knows = [name for place, name in enumerate(names) if pattern.mask >> place & 1]
        bar = "█" * max(1, round(_BAR * pattern.devices / most))
        plain(f"{pattern.devices:>9,} {bar:<{_BAR}} {', '.join(knows) or 'nobody'}", hang=10)
    heading("Discrepancies")
    write(
        found.gaps,
        "table",
        {
            "With": lambda g: g.source,
            "What": lambda g: g.title,
            "State": lambda g: toned(g.state, "warn" if g.state is GapState.OPEN else "plain"),
            "Number": lambda g: g.count,
            "Since": lambda g: g.since_at,
        },
        empty="None: the books are level.",
    )
    talk("\nNext: sortitor level list --state open")


@level.command("list")
@_which
@most_option
@output_option
@with_client
def list_gaps(s: Sortitor, most: int, output: str, **which: Any) -> None:
    """List disagreements, oldest first; ends with 1 where some stand open.

    \b
    Examples:
      sortitor level list --kind unknown --near
      sortitor level list --source "Harbour registry" --state open -o csv
    """
    chosen = _chosen(s, (), **which)
    asked = {name: value for name, value in chosen.model_dump().items() if name != "ids"}
    found = write(
        s.levels.list(most + 1, **asked),
        output,
        {
            "Id": lambda g: g.id,
            "Device": lambda g: g.label,
            "With": lambda g: g.source,
            "What": lambda g: g.title,
            "Here": lambda g: g.ours or g.stage,
            "There": _theirs,
            "State": lambda g: g.state,
            "Owner": lambda g: g.owner,
            "Since": lambda g: g.first_at,
        },
        hint="Next: sortitor level mend MEND ID …    or: sortitor level decide accepted ID …",
        empty="None: the books are level.",
        most=most,
        first_to_go=["Owner", "Since", "With"],
        below=["There"],
    )
    if any(gap.state is GapState.OPEN for gap in found):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _theirs(gap: Discrepancy) -> str | None:
    if gap.near_id is None:
        return gap.theirs or gap.their_serial
    marked = "".join(f"[{p.text}]" if p.differs else p.text for p in gap.near_theirs)
    ours = "".join(f"[{p.text}]" if p.differs else p.text for p in gap.near_ours)
    return f"{marked}, perhaps {ours} ({gap.near_percent} %)"


@level.command("show")
@click.argument("gap_id", type=int)
@output_option
@with_client
def show_one(s: Sortitor, gap_id: int, output: str) -> None:
    """Show one disagreement.

    \b
    Example:
      sortitor level show 12
    """
    gap = s.levels.show_one(gap_id)
    if output != "table":
        write_one(gap, output)
        return
    record(
        [
            ("Discrepancy", f"{gap.id}  {gap.title}"),
            ("Key", gap.key),
            ("With", gap.source),
            ("Device", gap.label),
            ("Here", gap.ours or gap.stage),
            ("There", _theirs(gap)),
            ("State", f"{gap.state}{f' until {gap.until_on}' if gap.until_on else ''}"),
            ("Owner", gap.owner),
            ("Note", gap.note),
            ("Since", gap.first_at),
        ]
    )


@level.command()
@click.argument("decision", type=click.Choice([s.value for s in GapState if s != GapState.CLOSED]))
@click.argument("ids", nargs=-1, type=int)
@_which
@until_option("With ignored, until when")
@click.option("--set-owner", help="Whose business it is.")
@click.option("--note", help="A note.")
@reason_option
@at_once_option
@with_client
def decide(
    s: Sortitor,
    decision: str,
    ids: tuple[int, ...],
    until: date | None,
    set_owner: str | None,
    note: str | None,
    reason: str | None,
    **which: Any,
) -> None:
    """Accept disagreements, put them off, open them again, or say that they were carried out.

    \b
    Examples:
      sortitor level decide accepted 12 13 --note "sold with the ship"
      sortitor level decide ignored --kind absent --source "Yard list" --until 2026-05-01
    """
    chosen = _chosen(s, ids, **which)
    if not ids and not any(which.values()):
        raise click.UsageError("Name discrepancies by number, or say which are meant.")
    number = s.levels.decide(chosen, GapState(decision), until, set_owner, note, reason)
    talk(f"{counted(number, 'line')} {decision}. Take it back with: sortitor journal list --most 1")


@level.command()
@click.argument("how", type=click.Choice([mend.value for mend in Mend]))
@click.argument("ids", nargs=-1, type=int)
@_which
@change_options
@with_client
def mend(
    s: Sortitor,
    how: str,
    ids: tuple[int, ...],
    yes: bool,
    reason: str | None,
    **which: Any,
) -> None:
    """Close disagreements: take their word, take in, same device, retire here, tell the source.

    \b
    Examples:
      sortitor level mend take-word --source "Harbour registry" --kind differs
      sortitor level mend same 14
    """
    if not ids and not any(which.values()):
        raise click.UsageError("Name discrepancies by number, or say which are meant.")
    chosen = _chosen(s, ids, **which)
    preview = s.levels.preview_mend(chosen, Mend(how))
    agree(preview, yes)
    s.levels.mend(chosen, Mend(how), preview.digest, reason)
    talk("Mended. Next: sortitor level overview")


@level.command()
@to_option("Where to; .csv or .xlsx.")
@_which
@with_client
def export(s: Sortitor, to: Path, **which: Any) -> None:
    """Write disagreements to a file: .csv or .xlsx.

    \b
    Example:
      sortitor level export --to open.xlsx --state open
    """
    chosen = _chosen(s, (), **which)
    asked = {name: value for name, value in chosen.model_dump().items() if name != "ids"}
    s.levels.export(to, form_of(to), **asked)
    written(to)


@level.command()
@output_option
@with_client
def trend(s: Sortitor, output: str) -> None:
    """List how many disagreements stood open, day by day.

    \b
    Example:
      sortitor level trend -o csv
    """
    columns = {
        "Day": lambda r: r.on_day,
        "What": lambda r: r.kind,
        "Open": lambda r: r.open,
    }
    write(s.levels.trend(), output, columns, empty="Nothing was compared yet.")
