"""`sortitor pass` and `sortitor arrival`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import connect
from sortitor.cli.gate import show_decision
from sortitor.cli.output import most_option, output_option, record, talk, toned, write
from sortitor.core.vocabulary import Activation, Outcome, Ownership
from sortitor.schemas.arrivals import PassNew
from sortitor.schemas.gate import Decision

_TONES = {"admitted": "good", "parked": "warn", "refused": "bad"}


@click.group("pass")
def pass_() -> None:
    """Codes that let devices knock at the gate."""


@pass_.command()
@click.argument("label")
@click.option("--person", help="The person it is for (user name or mail).")
@click.option(
    "--ownership",
    type=click.Choice([x.value for x in Ownership]),
    help="What the pass declares its devices to be.",
)
@click.option(
    "--activation",
    type=click.Choice([x.value for x in Activation]),
    default="person",
    show_default=True,
    help="coordinator parks every device until it is assigned.",
)
@click.option(
    "--days",
    "valid_days",
    type=click.IntRange(1, 398),
    default=14,
    show_default=True,
    help="How long it holds.",
)
@click.option(
    "--uses",
    "max_uses",
    type=click.IntRange(1),
    help="How many devices it lets knock.  [any number]",
)
@click.option(
    "--qr", type=click.Path(dir_okay=False, path_type=Path), help="Write the QR to this SVG file."
)
@click.pass_obj
def add(obj: dict[str, Any], /, label: str, qr: Path | None, **given: Any) -> None:
    """Make a pass; its code is shown this once.

    \b
    Example:
      sortitor pass add "Deck tablets" --ownership corporate --activation coordinator --uses 60
    """
    with connect(obj) as s:
        made = s.arrivals.add_pass(PassNew(label=label, **given))
    click.echo(made.code)
    if qr:
        qr.write_text(made.qr_svg)
        talk(f"QR written to {qr}.")
    talk(f"Pass {made.id}; the code is not shown again. Address for the QR: {made.url}")


@pass_.command("list")
@most_option
@output_option
@click.pass_obj
def list_passes(obj: dict[str, Any], /, most: int, output: str) -> None:
    """List passes, newest first.

    \b
    Example:
      sortitor pass list
    """
    columns = {
        "Id": lambda p: p.id,
        "Label": lambda p: p.label,
        "State": lambda p: p.state,
        "Uses": lambda p: f"{p.uses:,} of {p.max_uses:,}" if p.max_uses else f"{p.uses:,}",
        "Until": lambda p: p.valid_until,
        "Activation": lambda p: p.activation,
        "Ownership": lambda p: p.ownership,
        "Person": lambda p: p.person_name,
    }
    with connect(obj) as s:
        write(
            s.arrivals.passes(most),
            output,
            columns,
            empty="No passes yet. Next: sortitor pass add LABEL",
        )


@pass_.command()
@click.argument("pass_id", type=int)
@click.option("--reason", help="Why, for the journal.")
@click.pass_obj
def revoke(obj: dict[str, Any], /, pass_id: int, reason: str | None) -> None:
    """End a pass at once.

    \b
    Example:
      sortitor pass revoke 3 --reason "leaflet lost"
    """
    with connect(obj) as s:
        s.arrivals.revoke_pass(pass_id, reason)
    talk("Revoked.")


@click.group()
def arrival() -> None:
    """Who arrived, was parked or refused, and why."""


@arrival.command("list")
@click.option("--outcome", type=click.Choice([x.value for x in Outcome]), help="Only these.")
@click.option("--waiting", is_flag=True, help="Only devices that are parked right now.")
@most_option
@output_option
@click.pass_obj
def list_arrivals(
    obj: dict[str, Any], /, outcome: str | None, waiting: bool, most: int, output: str
) -> None:
    """List arrivals, newest first, with every reason.

    \b
    Example:
      sortitor arrival list --waiting
    """
    columns = {
        "Id": lambda a: a.id,
        "At": lambda a: a.at,
        "Outcome": lambda a: toned(a.outcome, _TONES[a.outcome]),
        "Device": lambda a: (
            a.device_name
            or (
                f"#{a.device_id}"
                if a.device_id
                else a.stated.get("serial") or ", ".join(a.stated.get("imeis") or [])
            )
        ),
        "Model": lambda a: (
            " ".join(filter(None, (a.stated.get("maker"), a.stated.get("model"))))
            or a.stated.get("platform")
        ),
        "Person": lambda a: a.person_name or a.stated.get("person"),
        "Pass": lambda a: a.pass_label,
        "Why": lambda a: "; ".join(f"{r.code}: wants {r.wanted}, is {r.actual}" for r in a.reasons),
    }
    hint = (
        "\nNext: sortitor device assign DEVICE PERSON"
        if waiting
        else "\nNext: sortitor arrival show ID"
    )
    with connect(obj) as s:
        write(
            s.arrivals.list(Outcome(outcome) if outcome else None, waiting, most),
            output,
            columns,
            hint,
            "Nobody is waiting." if waiting else "No arrivals yet.",
        )


@arrival.command()
@click.argument("arrival_id", type=int)
@click.pass_obj
def show(obj: dict[str, Any], /, arrival_id: int) -> None:
    """Show one arrival with the gate's whole trace.

    \b
    Example:
      sortitor arrival show 88
    """
    with connect(obj) as s:
        a = s.arrivals.show(arrival_id)
    record(
        [
            ("Arrival", a.id),
            ("At", a.at),
            ("Device", a.device_id),
            ("Stated", ", ".join(f"{k} {v}" for k, v in a.stated.items() if v)),
        ]
    )
    show_decision(Decision(outcome=a.outcome, reasons=a.reasons, trace=a.trace))
