"""`sortitor pool`: licence seats."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from sortitor.cli.connection import connect
from sortitor.cli.output import ExitCode, output_option, record, talk, toned, write
from sortitor.schemas.licences import PoolNew

Command = TypeVar("Command", bound=Callable[..., Any])
_COLUMNS = {
    "Id": lambda p: p.id,
    "Pool": lambda p: p.name,
    "State": lambda p: toned(p.state, "bad" if p.state == "short" else "good"),
    "Needed": lambda p: p.needed,
    "Held": lambda p: p.seats,
    "Free": lambda p: p.free,
    "Devices": lambda p: p.filter or "all",
}


@click.group()
def pool() -> None:
    """Licence seats needed and held."""


def _pool_options(command: Command) -> Command:
    for option in reversed(
        (
            click.option(
                "--seats", type=click.IntRange(0), required=True, help="How many are held."
            ),
            click.option(
                "--filter",
                "filter",
                metavar="FILTER",
                help="Who needs one, in the filter language.  [all]",
            ),
            click.option(
                "--awaited-too", is_flag=True, help="Devices that have not arrived take a seat too."
            ),
        )
    ):
        command = option(command)
    return command


@pool.command("list")
@output_option
@click.pass_obj
def list_pools(obj: dict[str, Any], /, output: str) -> None:
    """List pools: needed against held. Exit code 1 if one is short.

    \b
    Example:
      sortitor pool list
    """
    with connect(obj) as s:
        found = write(
            s.pools.list(),
            output,
            _COLUMNS,
            "\nNext: sortitor device list --pool ID",
            "No pools yet. Next: sortitor pool add NAME --seats N",
        )
    if any(p.state == "short" for p in found):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@pool.command()
@click.argument("pool_id", type=int)
@click.pass_obj
def show(obj: dict[str, Any], /, pool_id: int) -> None:
    """Show one pool and what to do when it is short.

    \b
    Example:
      sortitor pool show 2
    """
    with connect(obj) as s:
        p = s.pools.show(pool_id)
        dormant = s.devices.count(pool=pool_id, filter="idleDays ge 90")
    record(
        [
            ("Pool", f"{p.id}  {p.name}"),
            ("Needed", p.needed),
            ("Held", p.seats),
            ("State", p.state),
            ("Devices", p.filter or "all"),
        ]
    )
    if p.state == "short":
        talk(
            f"\nShort of {p.needed - p.seats:,}. Ways back: buy seats, narrow the pool, or sweep:"
            f" {dormant:,} of its devices are idle for 90 days or more."
        )
    talk(f"Next: sortitor device list --pool {pool_id}")


@pool.command()
@click.argument("name")
@_pool_options
@click.pass_obj
def add(obj: dict[str, Any], /, **given: Any) -> None:
    """Add a pool.

    \b
    Example:
      sortitor pool add "Display signage" --seats 120 --filter 'platform eq "linux"'
    """
    with connect(obj) as s:
        made = s.pools.add(PoolNew(**given))
    write([made], "table", _COLUMNS, f"\nNext: sortitor device list --pool {made.id}")


@pool.command()
@click.argument("pool_id", type=int)
@click.argument("name")
@_pool_options
@click.pass_obj
def edit(obj: dict[str, Any], /, pool_id: int, **given: Any) -> None:
    """Change a pool.

    \b
    Example:
      sortitor pool edit 2 "Display signage" --seats 140 --filter 'platform eq "linux"'
    """
    with connect(obj) as s:
        write([s.pools.edit(pool_id, PoolNew(**given))], "table", _COLUMNS)


@pool.command()
@click.argument("pool_id", type=int)
@click.pass_obj
def remove(obj: dict[str, Any], /, pool_id: int) -> None:
    """Remove a pool; reverting its journal entry brings it back.

    \b
    Example:
      sortitor pool remove 2
    """
    with connect(obj) as s:
        s.pools.remove(pool_id)
    talk("Removed.")
