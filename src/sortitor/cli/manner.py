"""How the command line speaks: a module of its own, since every command sets it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

Command = TypeVar("Command", bound=Callable[..., Any])


class Manner:
    """How much is said, and whether in colour; set once by the root of the command line."""

    quiet = False
    plain = False


def dry_run(key: str, told: str) -> Callable[[Command], Command]:
    """`--dry-run`, noted under a key of the command's context for what heeds it."""

    def note(ctx: click.Context, parameter: click.Parameter, value: bool) -> None:
        ctx.meta[key] = value

    return click.option("--dry-run", is_flag=True, expose_value=False, callback=note, help=told)
