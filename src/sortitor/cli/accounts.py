"""`sortitor account`: signing in, accounts, tokens."""

from __future__ import annotations

from typing import Any

import click

from sortitor.cli.connection import address, by_name, save_profile, with_client
from sortitor.cli.output import output_option, talk, write
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Purpose, Role

_ROLES = click.Choice([role.value for role in Role])


@click.group()
def account() -> None:
    """Sign in, accounts, tokens."""


@account.command("sign-in")
@click.option("--name", prompt=True, help="The account.")
@click.option(
    "--password",
    prompt=True,
    hide_input=True,
    envvar="SORTITOR_PASSWORD",
    help="Its password; asked for if not given.",
)
@click.option(
    "--days",
    type=click.IntRange(1, 398),
    default=30,
    show_default=True,
    help="How long the token lasts.",
)
@click.pass_obj
def sign_in(obj: dict[str, Any], /, name: str, password: str, days: int) -> None:
    """Sign in once and keep a token in the profile.

    \b
    Example:
      sortitor account sign-in --name coordinator
    """
    with Sortitor(address(obj)) as s:
        me = s.accounts.sign_in(name, password)
        token = s.accounts.add_token(f"command line ({obj['profile']})", me.role, days)
        s.accounts.sign_out()
    file = save_profile(obj["profile"], address(obj), token.secret)
    talk(
        f"Signed in as {me.name} ({me.role}); the token is kept in {file} for {days} days.\nNext:"
        " sortitor today"
    )


@account.command()
@click.option(
    "--secret",
    prompt="One-time secret",
    hide_input=True,
    help="From the file first-administrator.txt in the state directory.",
)
@click.option("--name", prompt=True, help="The administrator's name.")
@click.option(
    "--password",
    prompt=True,
    hide_input=True,
    confirmation_prompt=True,
    envvar="SORTITOR_PASSWORD",
    help="At least 12 characters.",
)
@click.pass_obj
def first(obj: dict[str, Any], /, secret: str, name: str, password: str) -> None:
    """Make the first administrator of a new installation.

    \b
    Example:
      sortitor account first --name admin --secret "$(cat first-administrator.txt)"
    """
    with Sortitor(address(obj)) as s:
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
            "Added": lambda a: a.created_at,
            "Disabled": lambda a: a.disabled_at,
        },
    )


@account.command()
@click.argument("name")
@click.option("--role", type=_ROLES, required=True, help="What the account may do.")
@click.option(
    "--password",
    prompt=True,
    hide_input=True,
    confirmation_prompt=True,
    envvar="SORTITOR_PASSWORD",
    help="At least 12 characters.",
)
@with_client
def add(s: Sortitor, name: str, role: str, password: str) -> None:
    """Add an account.

    \b
    Example:
      sortitor account add maud --role coordinator
    """
    s.accounts.add(name, password, Role(role))
    talk(f"{name} added as {role}.")


@account.command()
@click.argument("account_id", metavar="ACCOUNT")
@click.option("--role", type=_ROLES, help="The new role.")
@click.option("--disable/--enable", default=None, help="Lock the account, or let it in again.")
@click.option("--new-password", is_flag=True, help="Ask for a new password.")
@with_client
@by_name("account_id", "account", lambda s, _: s.accounts.list())
def edit(
    s: Sortitor,
    account_id: int,
    role: str | None,
    disable: bool | None,
    new_password: bool,
) -> None:
    """Change an account; its sessions end.

    \b
    Example:
      sortitor account edit 4 --disable
    """
    changes: dict[str, Any] = {
        name: value for name, value in (("role", role), ("disabled", disable)) if value is not None
    }
    if new_password:
        changes["password"] = click.prompt(
            "New password", hide_input=True, confirmation_prompt=True
        )
    s.accounts.edit(account_id, **changes)
    talk("Changed.")


@account.command("add-token")
@click.argument("name")
@click.option(
    "--role",
    type=_ROLES,
    default="viewer",
    show_default=True,
    help="What the token may do; not more than you may.",
)
@click.option(
    "--days", type=click.IntRange(1, 398), default=90, show_default=True, help="How long it lasts."
)
@click.option(
    "--for-people",
    is_flag=True,
    help=(
        "For an identity provider that pushes people and groups to /scim/v2, and for nothing else."
    ),
)
@with_client
def add_token(s: Sortitor, name: str, role: str, days: int, for_people: bool) -> None:
    """Make a token for a script, or for an identity provider; it is shown this once.

    \b
    Examples:
      export SORTITOR_TOKEN=$(sortitor account add-token nightly --role viewer)
      sortitor account add-token "staff directory" --role coordinator --for-people --days 365
    """
    made = s.accounts.add_token(
        name, Role(role), days, Purpose.PEOPLE if for_people else Purpose.INTERFACE
    )
    click.echo(made.secret)
    talk(
        f"Token {made.id} ({role}, {days} days). It is not shown again; revoke it with: sortitor"
        f" account revoke-token {made.id}"
    )


@account.command("list-tokens")
@output_option
@with_client
def list_tokens(s: Sortitor, output: str) -> None:
    """List your living tokens.

    \b
    Example:
      sortitor account list-tokens
    """
    write(
        s.accounts.tokens(),
        output,
        {
            "Id": lambda t: t.id,
            "Name": lambda t: t.name,
            "Role": lambda t: t.role,
            "For": lambda t: t.purpose,
            "Ends": lambda t: t.expires_at,
        },
    )


@account.command("revoke-token")
@click.argument("token_id", metavar="TOKEN")
@with_client
@by_name("token_id", "token", lambda s, _: s.accounts.tokens())
def revoke_token(s: Sortitor, token_id: int) -> None:
    """Revoke one of your tokens.

    \b
    Example:
      sortitor account revoke-token 7
    """
    s.accounts.revoke_token(token_id)
    talk("Revoked.")
