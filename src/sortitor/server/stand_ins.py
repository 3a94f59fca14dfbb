"""`sortitor stand-in`: outside systems that ship with the package, for trying things out."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import click

from sortitor.cli.output import talk


@click.group("stand-in")
def stand_in() -> None:
    """Outside systems to try things out with: a supplier's registry."""


@stand_in.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="Where it listens.")
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=8472,
    show_default=True,
    help="The port; 0 takes a free one.",
)
@click.option("--name", default="Harbour", show_default=True, help="The supplier's name.")
@click.option(
    "--file", type=click.Path(dir_okay=False, path_type=Path), help="Where its books are kept."
)
@click.option(
    "--clock",
    type=click.DateTime(["%Y-%m-%dT%H:%M:%S", "%Y-%m-%d"]),
    help="The moment it takes for now, UTC.  [the real one]",
)
def registry(host: str, port: int, name: str, file: Path | None, clock: datetime | None) -> None:
    """Run a supplier's registry, with a page and an office where resellers deliver.

    \b
    Example:
      sortitor stand-in registry --port 8472 --file registry.json
    """
    from sortitor.stand_ins.registry.serve import listen, serve
    from sortitor.stand_ins.registry.shelf import Shelf

    frozen = clock.replace(tzinfo=UTC) if clock else None
    shelf = Shelf(name, file, (lambda: frozen) if frozen else lambda: datetime.now(UTC))
    with listen(host, port) as listener:
        talk(f"The {name} registry is ready at http://{host}:{listener.getsockname()[1]}")
        serve(shelf, listener)
