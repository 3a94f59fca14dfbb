"""`sortitor stand-in`: outside systems that ship with the package, for trying things out."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import click

from sortitor.cli.output import talk

#: As `stand_ins.issuer.Wrong` has them, whose library is only loaded when it is needed.
WRONGS = ("key", "none", "critical", "changed", "early", "ended")

_CLOCK = click.option(
    "--clock",
    type=click.DateTime(["%Y-%m-%dT%H:%M:%S", "%Y-%m-%d"]),
    help="The moment it takes for now, UTC.  [the real one]",
)


@click.group("stand-in")
def stand_in() -> None:
    """Outside systems to try things out with: a supplier's registry, an issuer of licences."""


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
@_CLOCK
def registry(host: str, port: int, name: str, file: Path | None, clock: datetime | None) -> None:
    """Run a supplier's registry, with a page and an office where resellers deliver.

    \b
    Example:
      sortitor stand-in registry --port 8472 --file registry.json
    """
    from sortitor.stand_ins.registry.serve import serve
    from sortitor.stand_ins.registry.shelf import Shelf
    from sortitor.stand_ins.serving import listen

    shelf = Shelf(name, file, _clock(clock))
    with listen(host, port) as listener:
        talk(f"The {name} registry is ready at http://{host}:{listener.getsockname()[1]}")
        serve(shelf, listener)


def _clock(frozen: datetime | None) -> Callable[[], datetime]:
    moment = frozen.replace(tzinfo=UTC) if frozen else None
    return (lambda: moment) if moment else lambda: datetime.now(UTC)


@stand_in.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="Where it listens.")
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=8473,
    show_default=True,
    help="The port; 0 takes a free one.",
)
@click.option("--name", default="Harbour Software", show_default=True, help="The issuer's name.")
@click.option(
    "--file", type=click.Path(dir_okay=False, path_type=Path), help="Where its keys are kept."
)
@_CLOCK
def issuer(host: str, port: int, name: str, file: Path | None, clock: datetime | None) -> None:
    """Run an issuer of licences: its public keys, and a page that makes vouchers.

    \b
    Example:
      sortitor stand-in issuer --port 8473 --file issuer.json
    """
    from sortitor.stand_ins.issuer import Issuer, make_issuer
    from sortitor.stand_ins.serving import listen, serve

    app = make_issuer(Issuer(name, file, _clock(clock)))
    with listen(host, port) as listener:
        talk(f"The issuer {name} is ready at http://{host}:{listener.getsockname()[1]}")
        serve(app, listener)


@stand_in.command()
@click.option("--name", default="Harbour Software", show_default=True, help="The issuer's name.")
@click.option(
    "--file",
    type=click.Path(dir_okay=False, path_type=Path),
    required=True,
    help="Where the issuer's keys are kept; made when there are none.",
)
@click.option("--product", required=True, help="For which product.")
@click.option("--seats", type=click.IntRange(1, 1_000_000), required=True, help="How many seats.")
@click.option("--days", type=click.IntRange(1, 36_500), required=True, help="For how many days.")
@click.option("--trial", is_flag=True, help="For trial.")
@click.option("--wrong", type=click.Choice(WRONGS), help="What is wrong with it on purpose.")
@_CLOCK
def voucher(
    name: str,
    file: Path,
    product: str,
    seats: int,
    days: int,
    trial: bool,
    wrong: str | None,
    clock: datetime | None,
) -> None:
    """Make a voucher of an issuer, a right one or a wrong one.

    \b
    Example:
      sortitor stand-in voucher --file issuer.json --product Signage --seats 40 --days 365
    """
    from sortitor.stand_ins.issuer import Issuer, Wrong

    maker = Issuer(name, file, _clock(clock))
    click.echo(maker.voucher(product, seats, days, trial, Wrong(wrong) if wrong else None))
