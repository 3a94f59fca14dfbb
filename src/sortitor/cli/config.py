"""`sortitor config`: saved connections, and which one counts."""

from __future__ import annotations

from typing import Any

import click
from pydantic import BaseModel, Field

from sortitor.cli.connection import (
    address,
    at_once_option,
    forget_profile,
    is_held_back,
    profiles,
    profiles_file,
)
from sortitor.cli.output import output_option, record, talk, write, write_one


class Profile(BaseModel):
    """A saved connection, without its token."""

    name: str
    url: str
    has_token: bool = Field(description="Whether somebody signed in with it.")
    used: bool = Field(description="Whether it is the one that counts now.")


@click.group()
def config() -> None:
    """Saved connections, and which is used."""


@config.command("list")
@output_option
@click.pass_obj
def list_profiles(obj: dict[str, Any], /, output: str) -> None:
    """List the saved connections.

    \b
    Example:
      sortitor config list
    """
    found = [_profile(obj, name, kept) for name, kept in sorted(profiles().items())]
    write(
        found,
        output,
        {
            "Profile": lambda one: one.name,
            "Address": lambda one: one.url,
            "Signed in": lambda one: one.has_token,
            "Used": lambda one: one.used,
        },
        empty="None is saved.\nNext: sortitor account sign-in",
    )


@config.command("show")
@output_option
@click.pass_obj
def show(obj: dict[str, Any], /, output: str) -> None:
    """Say which address counts now, and where that is written.

    \b
    Examples:
      sortitor config show
      sortitor --profile harbour config show
    """
    kept = profiles().get(obj["profile"], {})
    found = _profile(obj, obj["profile"], {**kept, "url": address(obj)})
    if obj["token"]:
        found.has_token = True
    if output != "table":
        write_one(found, output)
        return
    record(
        [
            ("Profile", found.name),
            ("Address", found.url),
            ("Signed in", found.has_token),
            ("Kept in", profiles_file()),
        ]
    )


@config.command("remove")
@click.argument("name")
@at_once_option
def remove(name: str) -> None:
    """Forget a saved connection. Its token lives on; `sortitor account sign-out` revokes it too.

    \b
    Example:
      sortitor config remove harbour
    """
    if name not in profiles():
        raise click.UsageError(f"There is no profile {name!r}; see sortitor config list.")
    if is_held_back():
        talk(f"Nothing was changed. It would forget {profiles_file()}: {name}.")
        return
    forget_profile(name)
    talk("Forgotten.")


def _profile(obj: dict[str, Any], name: str, kept: dict[str, Any]) -> Profile:
    return Profile(
        name=name,
        url=str(kept.get("url", "")),
        has_token=bool(kept.get("token")),
        used=name == obj["profile"],
    )
