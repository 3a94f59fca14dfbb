"""The commands that run the service itself."""

from __future__ import annotations

import asyncio
import gc
import ipaddress
import sys
from typing import NoReturn

import click

from sortitor.core.errors import SortitorError
from sortitor.server.ending import ending
from sortitor.server.logs import configure
from sortitor.server.postgres import begin
from sortitor.server.rootless import leave_root
from sortitor.server.settings import Settings, read_settings


@click.command()
@click.option("--host", help="The address to listen on.")
@click.option("--port", type=int, help="The port to listen on; 0 takes a free one.")
@click.option(
    "--worker/--no-worker", default=None, help="Run the queue's worker inside the service."
)
@click.option(
    "--keep-database/--stop-database",
    default=None,
    help="Leave the embedded database running afterwards.",
)
def serve(**given: object) -> None:
    """Run the service: HTTP interface, console, worker, and an embedded PostgreSQL unless
    SORTITOR_DATABASE_URL names one.

    \b
    Example:
      sortitor serve --port 8470
    """
    ending.on_signals()
    try:
        settings = read_settings(**{name: told for name, told in given.items() if told is not None})
    except SortitorError as error:
        fail(error)
    leave_root(settings)
    # The database starts while the service's modules are loaded, which takes as long.
    starting = None if settings.database_url else begin(settings.state_dir)
    # Nothing that is loaded now is garbage; looking for it again and again takes a quarter of the
    # time.
    gc.disable()
    with ending.later():
        from sortitor.server.wiring import listen, offer_setup, runtime
        from sortitor.server.wiring import serve as serve_until_signal

    configure(settings)
    try:
        with runtime(settings, starting=starting) as run, listen(settings) as listener:
            port = listener.getsockname()[1]
            setup = offer_setup(run)

            def ready() -> None:
                click.echo(f"Sortitor is ready at http://{settings.host}:{port}")
                if setup:
                    click.echo(
                        f"First start: make the administrator with the one-time secret in {setup}",
                        err=True,
                    )
                    click.echo("  sortitor account first --help", err=True)
                if not settings.public_url.startswith("https://") and not is_loopback(settings):
                    click.echo(
                        "It is served in clear beyond this machine: put TLS in front, and set"
                        " SORTITOR_PUBLIC_URL to its https address.",
                        err=True,
                    )
                if settings.clock:
                    click.echo(
                        f"The clock is frozen at {settings.clock:%Y-%m-%d %H:%M} UTC.", err=True
                    )
                sys.stdout.flush()

            ending.look()
            serve_until_signal(run, listener, ready)
    except SortitorError as error:
        fail(error)


@click.command()
def work() -> None:
    """Run only the queue's worker, beside services started with --no-worker.

    \b
    Example:
      SORTITOR_DATABASE_URL=postgresql://… sortitor work
    """
    ending.on_signals()
    with ending.later():
        from sortitor.server.wiring import runtime, work_until_signal

    try:
        settings = read_settings()
        leave_root(settings)
        configure(settings)
        with runtime(settings) as run:
            asyncio.run(work_until_signal(run))
    except SortitorError as error:
        fail(error)


def is_loopback(settings: Settings) -> bool:
    """Whether only this machine reaches the service."""
    try:
        return ipaddress.ip_address(settings.host).is_loopback
    except ValueError:
        return settings.host == "localhost"


_GIVEN_WRONGLY = ("bad_setting", "unknown_setting")


def fail(error: SortitorError) -> NoReturn:
    """Say what is wrong and end with the exit code for what was given wrongly, or for what cannot
    be reached.
    """
    click.echo(f"Error: {error.detail}", err=True)
    if error.remedy:
        click.echo(f"  {error.remedy}", err=True)
    sys.exit(2 if error.code in _GIVEN_WRONGLY else 3)
