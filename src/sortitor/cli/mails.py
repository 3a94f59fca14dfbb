"""`sortitor mail`: what was mailed, and whether mails go out."""

from __future__ import annotations

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import ExitCode, most_option, output_option, talk, toned, write
from sortitor.client import Sortitor
from sortitor.core.vocabulary import MailState

_TONES = {"sent": "good", "waiting": "plain", "failed": "bad", "dropped": "warn"}


@click.group()
def mail() -> None:
    """What was mailed, and whether mails go out."""


@mail.command("list")
@click.option("--state", type=click.Choice([x.value for x in MailState]), help="Only these.")
@most_option
@output_option
@with_client
def list_mails(s: Sortitor, state: str | None, most: int, output: str) -> None:
    """List mails, newest first. Exit code 1 if one has failed.

    \b
    Example:
      sortitor mail list --state failed
    """
    columns = {
        "Id": lambda m: m.id,
        "At": lambda m: m.at,
        "State": lambda m: toned(m.state, _TONES[m.state]),
        "To": lambda m: m.to_address,
        "Subject": lambda m: m.subject,
        "Tries": lambda m: m.tries,
        "Said": lambda m: m.last_error,
    }
    found = write(
        s.mails.list(MailState(state) if state else None, most + 1),
        output,
        columns,
        empty="No mails yet.",
        most=most,
        below=["Said"],
        first_to_go=["Tries"],
    )
    if any(one.state == MailState.FAILED for one in found):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@mail.command()
@click.argument("address")
@at_once_option
@with_client
def test(s: Sortitor, address: str) -> None:
    """Send a test mail to an address.

    \b
    Example:
      sortitor mail test me@example.org
    """
    s.mails.test(address)
    talk("On its way. Next: sortitor mail list")


@mail.command()
@click.argument("mail_id", metavar="MAIL", type=int)
@at_once_option
@with_client
def again(s: Sortitor, mail_id: int) -> None:
    """Try a mail that waits or has failed at once.

    \b
    Example:
      sortitor mail again 12
    """
    s.mails.again(mail_id)
    talk("Tried again. Next: sortitor mail list")
