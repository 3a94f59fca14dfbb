"""`sortitor account`: signing in, accounts, tokens."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import date
from typing import Any

import click

from sortitor.cli.connection import (
    address,
    at_once_option,
    by_name,
    connect,
    forget_profile,
    is_held_back,
    number_of,
    opened,
    profiles,
    save_profile,
    with_client,
)
from sortitor.cli.dates import days_until, until_option
from sortitor.cli.output import counted, output_option, secret_option, talk, write
from sortitor.client import Sortitor
from sortitor.client.errors import NotFound, SignInNeeded
from sortitor.core.vocabulary import Purpose, Role

_ROLES = click.Choice([role.value for role in Role])


@click.group()
def account() -> None:
    """Sign in, accounts, tokens."""


@click.group()
def token() -> None:
    """Tokens for scripts and other systems."""


@click.group()
def session() -> None:
    """Who is signed in to the console."""


@account.command("sign-in")
@click.option("--name", prompt=True, help="The account.")
@secret_option(
    "--password",
    prompt=True,
    envvar="SORTITOR_PASSWORD",
    help="Its password; asked for if not given.",
)
@until_option("How long the token lasts", 398, default="+30", show_default=True)
@at_once_option
@click.pass_obj
def sign_in(obj: dict[str, Any], /, name: str, password: str, until: date) -> None:
    """Sign in once and keep a token in the profile.

    \b
    Example:
      sortitor account sign-in --name coordinator
    """
    with opened(obj, address(obj)) as s:
        me = s.accounts.sign_in(name, password)
        days = days_until(until)
        made = s.accounts.add_token(f"command line ({obj['profile']})", me.role, days)
        s.accounts.sign_out()
    file = save_profile(obj["profile"], address(obj), made.secret, made.id)
    talk(
        f"Signed in as {me.name} ({me.role}); the token is kept in {file} for"
        f" {counted(days, 'day')}.\nNext: sortitor today"
    )


@account.command("sign-out")
@at_once_option
@click.pass_obj
def sign_out(obj: dict[str, Any], /) -> None:
    """Revoke the profile's token, and forget the profile.

    \b
    Example:
      sortitor account sign-out
    """
    name = obj["profile"]
    kept = profiles().get(name)
    if kept is None:
        raise click.UsageError(f"There is no profile {name!r}; see sortitor config list.")
    with opened(obj, kept["url"], kept["token"]) as s, suppress(SignInNeeded, NotFound):
        if "token_id" in kept:
            s.accounts.revoke_token(kept["token_id"])
    if is_held_back():
        talk(f"Nothing was changed. It would forget the profile {name!r}.")
        return
    forget_profile(name)
    talk("Signed out; the token is revoked, and the profile forgotten.")


@account.command()
@secret_option(
    "--secret",
    prompt="One-time secret",
    help="From the file first-administrator.txt in the state directory.",
)
@click.option("--name", prompt=True, help="The administrator's name.")
@secret_option(
    "--password",
    prompt=True,
    confirmation_prompt=True,
    envvar="SORTITOR_PASSWORD",
    help="At least 12 characters.",
)
@at_once_option
@click.pass_obj
def first(obj: dict[str, Any], /, secret: str, name: str, password: str) -> None:
    """Make the first administrator of a new installation.

    \b
    Example:
      sortitor account first --name admin --secret "$(cat first-administrator.txt)"
    """
    with opened(obj, address(obj)) as s:
        me = s.accounts.first(secret.strip(), name, password)
    talk(f"{me.name} is the administrator now.\nNext: sortitor account sign-in --name {me.name}")


@account.command("list")
@output_option
@with_client
def list_accounts(s: Sortitor, output: str) -> None:
    """List the accounts.

    \b
    Example:
      sortitor account list
    """
    write(
        s.accounts.list(),
        output,
        {
            "Id": lambda a: a.id,
            "Name": lambda a: a.name,
            "Role": lambda a: a.role,
            "Signs in by": lambda a: a.directory or "password",
            "Added": lambda a: a.created_at,
            "Disabled": lambda a: a.disabled_at,
        },
    )


@account.command()
@click.argument("name")
@click.option("--role", type=_ROLES, required=True, help="What the account may do.")
@secret_option(
    "--password",
    envvar="SORTITOR_PASSWORD",
    help="At least 12 characters; asked for if not given.",
)
@click.option(
    "--directory", metavar="SOURCE", help="Let it sign in with its password of this source instead."
)
@at_once_option
@with_client
def add(s: Sortitor, name: str, role: str, password: str | None, directory: str | None) -> None:
    """Add an account, with a password of its own or with that of a directory.

    With a directory, the account's name is the user name or the mail address by which the source
    lets its people sign in.

    \b
    Examples:
      sortitor account add maud --role coordinator
      sortitor account add maud.ayre --role coordinator --directory "Office directory"
    """
    if directory is None:
        password = password or _new_password()
    made = s.accounts.add(name, None if directory else password, Role(role), directory)
    click.echo(made.id)
    talk(f"{name} added as {role}.")


def _new_password() -> str:
    return str(click.prompt("New password", hide_input=True, confirmation_prompt=True))


@account.command()
@click.argument("account_id", metavar="ACCOUNT")
@click.option("--role", type=_ROLES, help="The new role.")
@click.option("--disable/--enable", default=None, help="Lock the account, or let it in again.")
@click.option("--new-password", is_flag=True, help="Ask for a new password.")
@click.option(
    "--directory", metavar="SOURCE", help="Let it sign in with its password of this source."
)
@at_once_option
@with_client
@by_name("account_id", "account", lambda s, _: s.accounts.list())
def edit(
    s: Sortitor,
    account_id: int,
    role: str | None,
    disable: bool | None,
    new_password: bool,
    directory: str | None,
) -> None:
    """Change an account; its sessions end.

    \b
    Example:
      sortitor account edit 4 --disable
    """
    named = {"role": role, "disabled": disable, "directory": directory}
    changes = {name: value for name, value in named.items() if value is not None}
    if new_password:
        changes["password"] = _new_password()
    s.accounts.edit(account_id, **changes)
    talk("Changed.")


_ACCOUNT = click.option(
    "--account", metavar="ACCOUNT", help="Of another account, by name or number; administrators."
)
_PASSWORD = secret_option(
    "--password",
    prompt="Your password",
    envvar="SORTITOR_PASSWORD",
    help="Yours; asked for if not given.",
)


def _number_of(s: Sortitor, account: str | None) -> int | None:
    """The number of an account that is given by name or number."""
    if account is None or account.isdecimal():
        return None if account is None else int(account)
    found = [one.id for one in s.accounts.list() if one.name.lower() == account.lower()]
    if not found:
        raise click.UsageError(f"There is no account {account!r}.")
    return found[0]


@token.command("add")
@click.argument("name")
@click.option(
    "--role",
    type=_ROLES,
    default="viewer",
    show_default=True,
    help="What the token may do; not more than you may.",
)
@until_option("How long it lasts", 398, default="+90", show_default=True)
@click.option(
    "--for-people",
    "purpose",
    flag_value=Purpose.PEOPLE.value,
    help=(
        "For an identity provider that pushes people and groups to /scim/v2, and for nothing else."
    ),
)
@click.option(
    "--for-calendar",
    "purpose",
    flag_value=Purpose.CALENDAR.value,
    help="For a calendar that shows what ends; gives its address.",
)
@click.option("--as", "who", metavar="ACCOUNT", help="Your account.  [the profile's]")
@_PASSWORD
@at_once_option
@click.pass_obj
def add_token(
    obj: dict[str, Any],
    /,
    name: str,
    role: str,
    until: date,
    purpose: str | None,
    who: str | None,
    password: str,
) -> None:
    """Make a token for a script, an identity provider or a calendar; it is shown this once.

    A token makes no tokens: your password is asked for.

    \b
    Examples:
      export SORTITOR_TOKEN=$(sortitor token add nightly --role viewer)
      sortitor token add "staff directory" --role coordinator --for-people --until +365
      sortitor token add "Maud's calendar" --for-calendar --until +365
    """
    meant = Purpose(purpose) if purpose else Purpose.INTERFACE
    with _with_password(obj, who, password) as s:
        days = days_until(until)
        made = s.accounts.add_token(name, Role(role), days, meant)
    if meant is Purpose.CALENDAR:
        click.echo(f"{address(obj)}/api/v1/calendar/{made.secret}.ics")
    else:
        click.echo(made.secret)
    talk(
        f"Token {made.id} ({role}, {counted(days, 'day')}). It is not shown again; revoke it with:"
        f" sortitor token revoke {made.id}"
    )


@contextmanager
def _with_password(obj: dict[str, Any], who: str | None, password: str) -> Iterator[Sortitor]:
    """A client in a session that was opened with the password."""
    if who is None:
        with connect(obj) as known:
            who = known.accounts.me().name
    with opened(obj, address(obj)) as s:
        s.accounts.sign_in(who, password)
        try:
            yield s
        finally:
            s.accounts.sign_out()


@account.command("set-password")
@click.option("--as", "who", metavar="ACCOUNT", help="Your account.  [the profile's]")
@click.option(
    "--keep-tokens", is_flag=True, help="Let your tokens live on; they are revoked otherwise."
)
@_PASSWORD
@secret_option(
    "--new-password",
    prompt="New password",
    confirmation_prompt=True,
    help="At least 12 characters, and not easily guessed.",
)
@at_once_option
@click.pass_obj
def set_password(
    obj: dict[str, Any],
    /,
    who: str | None,
    keep_tokens: bool,
    password: str,
    new_password: str,
) -> None:
    """Change your own password; your other sessions end, and your tokens are revoked.

    \b
    Example:
      sortitor account set-password
    """
    with _with_password(obj, who, password) as s:
        s.accounts.change_password(password, new_password, keep_tokens)
    talk("The password is changed." + ("" if keep_tokens else "\nNext: sortitor account sign-in"))


@session.command("list")
@_ACCOUNT
@output_option
@with_client
def list_sessions(s: Sortitor, account: str | None, output: str) -> None:
    """List who is signed in to the console with your account, from where, and used when.

    \b
    Example:
      sortitor session list --account maud
    """
    write(
        s.accounts.sessions(_number_of(s, account)),
        output,
        {
            "Id": lambda one: one.id,
            "From": lambda one: one.address,
            "Opened": lambda one: one.created_at,
            "Used": lambda one: one.used_at,
            "Ends": lambda one: one.expires_at,
        },
    )


@session.command("end")
@click.argument("session_id", metavar="SESSION", type=int)
@_ACCOUNT
@at_once_option
@with_client
def end_session(s: Sortitor, session_id: int, account: str | None) -> None:
    """End a session at once.

    \b
    Example:
      sortitor session end 12 --account maud
    """
    s.accounts.end_session(session_id, _number_of(s, account))
    talk("Ended.")


@token.command("list")
@_ACCOUNT
@output_option
@with_client
def list_tokens(s: Sortitor, account: str | None, output: str) -> None:
    """List your living tokens, and when each was used last.

    \b
    Example:
      sortitor token list
    """
    write(
        s.accounts.tokens(_number_of(s, account)),
        output,
        {
            "Id": lambda t: t.id,
            "Name": lambda t: t.name,
            "Role": lambda t: t.role,
            "For": lambda t: t.purpose,
            "Used": lambda t: t.used_at,
            "Ends": lambda t: t.expires_at,
        },
    )


@token.command("revoke")
@click.argument("named", metavar="TOKEN")
@_ACCOUNT
@at_once_option
@with_client
def revoke_token(s: Sortitor, named: str, account: str | None) -> None:
    """Revoke a token, by its name or number.

    \b
    Example:
      sortitor token revoke 7
    """
    whose = _number_of(s, account)
    number = number_of(named, "token", s.accounts.tokens(whose))
    s.accounts.revoke_token(number, whose)
    talk("Revoked.")
