"""`sortitor pass`: codes that let devices knock at the gate."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import at_once_option, by_name, with_client
from sortitor.cli.dates import days_until, until_option
from sortitor.cli.output import (
    counted,
    most_option,
    output_option,
    reason_option,
    talk,
    to_option,
    write,
    written,
)
from sortitor.client import Sortitor
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import Activation, Ownership, SignInWay
from sortitor.schemas.passes import Pass


@click.group("pass")
def pass_() -> None:
    """Codes that let devices knock at the gate."""


def _terms_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of what a pass says, the same for one and for many."""
    for option in reversed(
        (
            click.option(
                "--ownership",
                type=click.Choice([x.value for x in Ownership]),
                help="What the pass declares its devices to be.",
            ),
            click.option(
                "--ask-ownership",
                "asks_ownership",
                is_flag=True,
                help="Let the person say whose the device is.",
            ),
            click.option(
                "--activation",
                type=click.Choice([x.value for x in Activation]),
                default="person",
                show_default=True,
                help="coordinator parks every device until it is assigned.",
            ),
            click.option(
                "--sign-in",
                type=click.Choice([x.value for x in SignInWay]),
                default="nobody",
                show_default=True,
                help="How the person must be proven; the gate may want more.",
            ),
            click.option("--list", "cohort", help="The list that its devices join."),
            until_option("How long it holds", 398, default="+14", show_default=True),
            click.option(
                "--uses",
                "max_uses",
                type=click.IntRange(1),
                help="How many devices it lets knock.  [any number]",
            ),
            click.option(
                "--ask-passcode",
                is_flag=True,
                help="Ask for a passcode here, which the bearer must then know, too.",
            ),
        )
    ):
        command = option(command)
    return command


def _passcode(wanted: bool) -> str | None:
    """A passcode, asked for and typed twice; it is on no command line."""
    if not wanted:
        return None
    typed: str = click.prompt("Passcode", hide_input=True, confirmation_prompt=True, err=True)
    return typed


@pass_.command()
@click.argument("label")
@click.option("--person", help="The person it is for (user name or mail).")
@click.option("--mail", "mailed", is_flag=True, help="Mail it to that person.")
@_terms_options
@to_option("Write the QR to this SVG file.", required=False)
@at_once_option
@with_client
def add(
    s: Sortitor,
    label: str,
    until: date,
    mailed: bool,
    ask_passcode: bool,
    to: Path | None,
    **given: Any,
) -> None:
    """Make a pass; its code is shown this once.

    \b
    Examples:
      sortitor pass add "Deck tablets" --ownership corporate --activation coordinator --uses 60
      sortitor pass add "New phone" --person maud.fenwick --mail
    """
    terms = PassTerms(label=label, valid_days=days_until(until), **given)
    made = s.passes.add(terms, _passcode(ask_passcode), mailed)
    click.echo(made.code)
    if to:
        to.write_text(made.qr_svg)
        written(to)
    if mailed:
        talk("It is on its way by mail.")
    talk(f"Pass {made.id}; the code is not shown again. Address for the QR: {made.url}")


@pass_.command("add-each")
@click.argument("label")
@click.option("--group", help="Everybody in this group.")
@click.option("--person", "people", multiple=True, help="One person; repeatable.")
@click.option("--mail/--no-mail", "mailed", default=True, show_default=True, help="Mail each.")
@_terms_options
@at_once_option
@with_client
def add_each(
    s: Sortitor,
    label: str,
    group: str | None,
    people: tuple[str, ...],
    until: date,
    mailed: bool,
    ask_passcode: bool,
    **given: Any,
) -> None:
    """Make a pass each for many people, in one action.

    \b
    Examples:
      sortitor pass add-each "April crew" --group "Seasonal crew" --uses 1
      sortitor pass add-each "April crew" --person maud.fenwick --person odo.gannet --no-mail
    """
    if bool(group) == bool(people):
        raise click.UsageError("Name either a group or people.")
    terms = PassTerms(label=label, valid_days=days_until(until), **given)
    made = s.passes.add_for_people(terms, people, group, _passcode(ask_passcode), mailed)
    if not mailed:
        for one in made:
            click.echo(f"{one.code}  {one.person}")
    talk(f"{len(made):,} passes{', mailed' if mailed else ''}.")
    talk(f"Next: sortitor pass people {made[0].id}")


@pass_.command()
@click.argument("pass_id", metavar="PASS")
@output_option
@with_client
@by_name("pass_id", "pass", lambda s, _: s.passes.list())
def people(s: Sortitor, pass_id: int, output: str) -> None:
    """List who has a pass, or one that was made with it, and what became of each.

    \b
    Example:
      sortitor pass people "April crew"
    """
    columns = {
        "Person": lambda p: p.person_name,
        "Mail": lambda p: p.mail_state,
        "Used": lambda p: "yes" if p.uses else "no",
        "Device": lambda p: p.device_name or p.device_id,
    }
    hint = f"Next: sortitor pass remind {pass_id}"
    write(s.passes.people(pass_id), output, columns, hint=hint, empty="Nobody.")


@pass_.command()
@click.argument("pass_id", metavar="PASS")
@at_once_option
@with_client
@by_name("pass_id", "pass", lambda s, _: s.passes.list())
def remind(s: Sortitor, pass_id: int) -> None:
    """Mail those who have not used their pass.

    \b
    Example:
      sortitor pass remind "April crew"
    """
    number = s.passes.remind(pass_id)
    talk(f"{counted(number, 'mail')} on the way. Next: sortitor pass people {pass_id}")


def _uses(one: Pass) -> str:
    return f"{one.uses:,} of {one.max_uses:,}" if one.max_uses else f"{one.uses:,}"


def _whom(one: Pass) -> str | None:
    return f"{one.made:,} people, {one.used:,} came" if one.made > 1 else one.person_name


@pass_.command("list")
@most_option
@output_option
@with_client
def list_passes(s: Sortitor, most: int, output: str) -> None:
    """List passes, newest first.

    \b
    Example:
      sortitor pass list
    """
    columns = {
        "Id": lambda p: p.id,
        "Label": lambda p: p.label,
        "State": lambda p: p.state,
        "Uses": _uses,
        "For": _whom,
        "Until": lambda p: p.valid_until,
        "Activation": lambda p: p.activation,
        "Ownership": lambda p: p.ownership,
        "Sign-in": lambda p: p.sign_in,
    }
    write(
        s.passes.list(most + 1),
        output,
        columns,
        empty="No passes yet. Next: sortitor pass add LABEL",
        most=most,
        first_to_go=["Sign-in", "Activation", "Ownership"],
    )


@pass_.command()
@click.argument("pass_id", metavar="PASS")
@click.option("--all", "whole_batch", is_flag=True, help="And all that were made with it.")
@reason_option
@at_once_option
@with_client
@by_name("pass_id", "pass", lambda s, _: s.passes.list())
def revoke(s: Sortitor, pass_id: int, whole_batch: bool, reason: str | None) -> None:
    """End a pass at once.

    \b
    Example:
      sortitor pass revoke 3 --reason "leaflet lost"
    """
    number = s.passes.revoke(pass_id, reason, whole_batch)
    talk("Revoked." if number == 1 else f"{number:,} passes revoked.")
