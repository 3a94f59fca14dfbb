"""`sortitor arrival`: who arrived, was parked or refused, and why."""

from __future__ import annotations

from pathlib import Path

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.gate import show_decision
from sortitor.cli.output import (
    ExitCode,
    InFile,
    agree,
    change_options,
    form_of,
    heading,
    is_data,
    most_option,
    output_option,
    plain,
    reason_option,
    record,
    talk,
    to_option,
    toned,
    write,
    written,
)
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Need, Outcome, WayStage
from sortitor.core.words import LABELS
from sortitor.schemas.arrivals import Arrival
from sortitor.schemas.gate import Decision

_WAY_TONES = {"done": "good", "parked": "warn", "refused": "bad", "failed": "bad"}


@click.group()
def arrival() -> None:
    """Who arrived, was parked or refused, and why."""


def _device(one: Arrival) -> str:
    """The device's name, else its number, else what it stated."""
    if one.device_name:
        return one.device_name
    if one.device_id:
        return f"#{one.device_id}"
    return one.stated.get("serial") or ", ".join(one.stated.get("imeis") or [])


def _model(one: Arrival) -> str | None:
    words = " ".join(filter(None, (one.stated.get("maker"), one.stated.get("model"))))
    return words or one.stated.get("platform")


@arrival.command("list")
@click.option("--outcome", type=click.Choice([x.value for x in Outcome]), help="Only these.")
@click.option("--waiting", is_flag=True, help="Only those on which you have to decide.")
@click.option(
    "--way", type=click.Choice([x.value for x in WayStage]), help="Only those so far on the way in."
)
@click.option("--identifier", help="Only those that stated this serial number or IMEI.")
@click.option("--person", help="Only this person's, by user name.")
@most_option
@output_option
@with_client
def list_arrivals(
    s: Sortitor,
    outcome: str | None,
    waiting: bool,
    way: str | None,
    identifier: str | None,
    person: str | None,
    most: int,
    output: str,
) -> None:
    """List arrivals, newest first, with every reason.

    \b
    Examples:
      sortitor arrival list --waiting
      sortitor arrival list --outcome refused --identifier KM-00412
    """
    columns = {
        "Id": lambda a: a.id,
        "At": lambda a: a.at,
        "How far": lambda a: toned(LABELS[WayStage][a.way], _WAY_TONES.get(a.way, "plain")),
        "Device": _device,
        "Model": _model,
        "Person": lambda a: a.person_name or a.stated.get("person"),
        "Pass": lambda a: a.pass_label,
        "Why": lambda a: " ".join(reason.explanation for reason in a.reasons),
    }
    assign = "sortitor device assign DEVICE PERSON; of one in use: sortitor arrival hand-over ID"
    look = "sortitor arrival show ID"
    write(
        s.arrivals.list(
            Outcome(outcome) if outcome else None,
            waiting,
            most + 1,
            way=WayStage(way) if way else None,
            identifier=identifier,
            person=person,
        ),
        output,
        columns,
        hint=f"Next: {assign if waiting else look}",
        empty="Nobody is waiting." if waiting else "No arrivals yet.",
        most=most,
        below=["Why"],
        first_to_go=["Pass", "Model"],
    )


@arrival.command()
@click.argument("arrival_id", type=int)
@output_option
@with_client
def show(s: Sortitor, arrival_id: int, output: str) -> None:
    """Show one arrival with the gate's whole trace.

    \b
    Example:
      sortitor arrival show 88
    """
    a = s.arrivals.show(arrival_id)
    if is_data(a, output):
        return
    stated = {name: value for name, value in a.stated.items() if value and name != "protocol"}
    record(
        [
            ("Arrival", a.id),
            ("At", a.at),
            ("How far", LABELS[WayStage][a.way]),
            ("Device", a.device_name or a.device_id),
            ("Person", a.person_name),
            ("Pass", a.pass_label),
            ("Stated", ", ".join(f"{name} {value}" for name, value in stated.items())),
        ]
    )
    if a.outcome is Outcome.ASKED:
        asked = ", ".join(LABELS[Need][need] for need in a.asks)
        plain(f"Asked for {asked}; it gives up at {a.lapses_at:%H:%M} UTC.")
    else:
        show_decision(Decision(outcome=a.outcome, reasons=a.reasons, trace=a.trace))
    if a.messages:
        heading("What went to and fro")
        for message in a.messages:
            plain(f"  {message.at:%H:%M:%S}  {message.who:<12} {message.what}")


@arrival.command()
@to_option("Where to; .csv or .xlsx.")
@with_client
def waiting(s: Sortitor, to: Path) -> None:
    """Write the devices that wait to a file, with a column for their people.

    \b
    Example:
      sortitor arrival waiting --to waiting.xlsx
    """
    to.write_bytes(s.arrivals.waiting_file(form_of(to)))
    written(to, f" Fill in “Person”, then: sortitor arrival assign {to}")


@arrival.command()
@click.argument("file", type=InFile())
@change_options
@with_client
def assign(s: Sortitor, file: Path, yes: bool, reason: str | None) -> None:
    """Give waiting devices to the people of a file that was filled in. Exit code 1 if rows have a
    fault; these are left out.

    \b
    Example:
      sortitor arrival assign waiting.xlsx --reason "the April list"
    """
    preview = s.arrivals.preview_assignments(file)
    agree(preview, yes)
    s.arrivals.apply_assignments(file, preview.digest, reason)
    talk("Given. Next: sortitor journal list --most 1")
    if any(count.key == "faults" and count.count for count in preview.counts):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@arrival.command("hand-over")
@click.argument("arrival_id", type=int)
@change_options
@with_client
def hand_over(s: Sortitor, arrival_id: int, yes: bool, reason: str | None) -> None:
    """Take the device that arrived for the one in use; the former one cannot check in any more.

    \b
    Example:
      sortitor arrival hand-over 88 --reason "reset by the help desk"
    """
    preview = s.arrivals.preview_hand_over(arrival_id)
    agree(preview, yes)
    s.arrivals.hand_over(arrival_id, preview.digest, reason)
    talk("Handed over. Next: sortitor journal list")


@arrival.command("turn-away")
@click.argument("arrival_id", type=int)
@reason_option
@at_once_option
@with_client
def turn_away(s: Sortitor, arrival_id: int, reason: str | None) -> None:
    """Let the device in use stay what it is; what arrived gets nothing.

    \b
    Example:
      sortitor arrival turn-away 88 --reason "nobody knows it"
    """
    s.arrivals.turn_away(arrival_id, reason)
    talk("Turned away.")
