"""`sortitor demo`: the service with the Wrenmoor Lines demonstration, its clock frozen at the
scenario's today.
"""

from __future__ import annotations

import os
import signal
import socket
import sys
import threading
import time
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import click
import httpx

from sortitor.client import Sortitor
from sortitor.core.errors import SortitorError
from sortitor.demo import load
from sortitor.demo.outside import Outside, directory_ldif
from sortitor.demo.scenario import TODAY, Scenario
from sortitor.operations.context import Clock
from sortitor.server.commands import fail
from sortitor.server.ending import ending
from sortitor.server.logs import configure
from sortitor.server.settings import Settings, read_settings, wall_now
from sortitor.server.wiring import Runtime, listen, offer_setup, recreate, runtime, serve
from sortitor.stand_ins import serving as servers
from sortitor.stand_ins.directory import Directory, is_there
from sortitor.stand_ins.issuer import Issuer, make_issuer
from sortitor.stand_ins.mailbox import MailServer
from sortitor.stand_ins.mails import newest_code
from sortitor.stand_ins.registry.serve import serving
from sortitor.stand_ins.registry.shelf import Shelf
from sortitor.store import accounts
from sortitor.store.engine import transaction

_MARK = "demo_loaded"


class _MovableClock:
    """The business's clock of the demonstration; the loader moves it from chapter to chapter."""

    def __init__(self) -> None:
        self.now = TODAY

    def set(self, moment: datetime) -> None:
        self.now = moment


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option(
    "--port",
    type=int,
    default=8470,
    show_default=True,
    help="The port to listen on; 0 takes a free one.",
)
@click.option(
    "--devices",
    type=click.IntRange(100, 1_000_000),
    default=2_400,
    show_default=True,
    help="About how many devices the company has.",
)
@click.option("--afresh", is_flag=True, help="Load the demonstration anew.")
@click.option(
    "--state-dir",
    type=click.Path(file_okay=False, path_type=Path),
    help="Where it lives.  [beside the service's own]",
)
def demo(host: str, port: int, devices: int, afresh: bool, state_dir: Path | None) -> None:
    """Run the service with a made-up ferry company: 2,400 devices, 900 people, one year.

    \b
    Example:
      sortitor demo
    """
    try:
        plain = read_settings()
    except SortitorError as error:
        fail(error)
    settings = plain.model_copy(
        update={
            "host": host,
            "port": port,
            "state_dir": state_dir or plain.state_dir.with_name(plain.state_dir.name + "-demo"),
            "log_level": "warning",
            "source_networks": "127.0.0.0/8, ::1/128",
        }
    )
    ending.on_signals()
    configure(settings)
    clock = _MovableClock()
    try:
        with (
            MailServer(page_port=port + 1 if port else 0) as mail,
            listen(settings) as listener,
            runtime(
                _with_mail(settings, mail, listener), Clock(lambda: clock.now, wall_now)
            ) as run,
            ExitStack() as around,
        ):
            url = run.settings.public_url
            loaded = not afresh and _loaded(run)
            if not loaded:
                recreate(run)
            scenario = Scenario(devices)
            outside = _outside(around, settings.state_dir, port, loaded, scenario, clock)
            shown = _Shown(url, f"http://127.0.0.1:{mail.page_port}", scenario, outside)
            tell = threading.Thread(target=_tell, args=(run, shown, loaded, clock), daemon=True)
            serve(run, listener, tell.start)
    except SortitorError as error:
        fail(error)


def _loaded(run: Runtime) -> bool:
    with transaction(run.engine) as connection:
        return accounts.fact(connection, _MARK) is not None


def _with_mail(settings: Settings, mail: MailServer, listener: socket.socket) -> Settings:
    """The settings with the demonstration's mailbox, and the address that mails speak of."""
    return settings.model_copy(
        update={
            "mail_host": "127.0.0.1",
            "mail_port": mail.port,
            "mail_security": "none",
            "mail_from": "Wrenmoor devices <devices@wrenmoor.example>",
            "public_url": f"http://{settings.host}:{listener.getsockname()[1]}",
        }
    )


@dataclass(frozen=True, slots=True)
class _Shown:
    """The demonstration and what stands around it."""

    url: str
    mails: str
    scenario: Scenario
    outside: Outside


def _outside(
    around: ExitStack,
    folder: Path,
    port: int,
    loaded: bool,
    scenario: Scenario,
    clock: _MovableClock,
) -> Outside:
    """A registry, an issuer and, where slapd is installed, a directory; they end with the
    demonstration.
    """
    books = folder / "registry.json"
    if not loaded:
        books.unlink(missing_ok=True)
    shelf = Shelf("Chandlers", books, lambda: clock.now)
    registry = around.enter_context(serving(shelf, port=port + 2 if port else 0))
    keys = folder / "issuer.json"
    if not loaded:
        keys.unlink(missing_ok=True)
    issuer = Issuer(file=keys, now=lambda: clock.now)
    issuers = around.enter_context(
        servers.serving(make_issuer(issuer), port=port + 5 if port else 0)
    )
    if not is_there():
        click.echo("Without slapd there is no directory: apt-get install slapd", err=True)
        return Outside(shelf, registry, issuer, issuers, None)
    home = folder / "directory"
    home.mkdir(parents=True, exist_ok=True)
    directory = Directory(home)
    if port:
        directory.secure_port, directory.port = port + 3, port + 4
    if loaded and (home / "data").exists():
        directory.configure()
    else:
        directory.fill(directory_ldif(scenario))
    directory.start()
    around.callback(directory.stop)
    return Outside(shelf, registry, issuer, issuers, directory)


def _tell(run: Runtime, shown: _Shown, loaded: bool, clock: _MovableClock) -> None:
    """Load what is missing, then say where to go. Whatever fails is said, and stops the service."""
    url = shown.url
    try:
        _await(url)
        if not loaded:
            _load(run, shown, clock)
    except Exception as error:  # noqa: BLE001 - this is a thread's end; the service must not stay half-loaded
        click.echo(f"The demonstration could not be loaded: {error}", err=True)
        os.kill(os.getpid(), signal.SIGTERM)
        return
    click.echo(f"\nSortitor with the Wrenmoor Lines demonstration is ready at {url}")
    click.echo(f"  handbook       {url}/handbook/")
    click.echo(f"  its mails      {shown.mails}/")
    click.echo(f"  its registry   {shown.outside.registry}/")
    click.echo(f"  its issuer     {shown.outside.issuers}/  (makes vouchers)")
    for name, password in load.ACCOUNTS.items():
        click.echo(f"  {name:<14} {password}")
    click.echo(f"Its clock stands at {TODAY:%A %d %B %Y, %H:%M} UTC. Stop it with Ctrl-C.")
    click.echo(
        f"In a terminal: sortitor --url {url} account sign-in --name coordinator --password"
        f" {load.ACCOUNTS['coordinator']}"
    )
    sys.stdout.flush()


def _await(url: str) -> None:
    for _ in range(200):
        try:
            if httpx.get(f"{url}/readyz", timeout=5).is_success:
                return
        except httpx.TransportError:
            pass
        time.sleep(0.05)
    raise TimeoutError(f"{url} does not answer")


def _load(run: Runtime, shown: _Shown, clock: _MovableClock) -> None:
    started = time.perf_counter()
    file = offer_setup(run)
    assert file is not None, "a new database has no accounts"
    with Sortitor(shown.url) as s:
        s.accounts.first(
            Path(file).read_text().strip(), "administrator", load.ACCOUNTS["administrator"]
        )
        s.accounts.sign_in("administrator", load.ACCOUNTS["administrator"])
        load.load(
            s,
            shown.scenario,
            at=clock.set,
            say=lambda text: click.echo(f"  {text} …", err=True),
            read_code=lambda address: newest_code(shown.mails, address),
            outside=shown.outside,
        )
    Path(file).unlink(missing_ok=True)
    with transaction(run.engine) as connection:
        accounts.set_fact(connection, _MARK, "yes")
    click.echo(f"  loaded in {time.perf_counter() - started:.0f} s", err=True)
