"""`sortitor check` and `sortitor settings`: what is wrong with an installation before its users
find out, and what is set.
"""

from __future__ import annotations

import os
import shutil
import socket
import ssl
import stat
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import urlsplit

import click
import psycopg
from pydantic import SecretStr

from sortitor.core.errors import SortitorError
from sortitor.server import upgrades
from sortitor.server.commands import fail, is_loopback
from sortitor.server.settings import Settings, read_settings
from sortitor.server.waiting import reason_of, server_of
from sortitor.server.wiring import outside_urls
from sortitor.store import schema
from sortitor.store.engine import single_engine

_GIGABYTE = 10**9
_LEAST_BYTES = 2 * _GIGABYTE
_MOST_SKEW_SECONDS = 2.0
_ENDS_SOON_DAYS = 21
_OLDEST_POSTGRESQL = 150_000
_SECONDS = 5


@dataclass(frozen=True, slots=True)
class Finding:
    """What was looked at, and what was found; `remedy` where something is wrong."""

    what: str
    found: str
    remedy: str = ""

    @property
    def mark(self) -> str:
        """One word for the first column."""
        return "wrong" if self.remedy else "good"


Look = Callable[[Settings], Iterator[Finding]]


@click.command()
def check() -> None:
    """Look at settings, database, disk, clock, permissions, TLS and mail, and say what is wrong and
    what to do about it. Nothing is changed.

    Ends with 1 where something is wrong.

    \b
    Example:
      sortitor check
    """
    try:
        settings = read_settings()
    except SortitorError as error:
        fail(error)
    findings = [finding for look in _LOOKS for finding in _looked(look, settings)]
    width = max(len(finding.what) for finding in findings)
    for finding in findings:
        click.echo(f"{finding.mark:<6} {finding.what:<{width}}  {finding.found}")
        if finding.remedy:
            click.echo(f"{'':<6} {'':<{width}}  → {finding.remedy}")
    wrong = sum(bool(finding.remedy) for finding in findings)
    click.echo(f"{wrong} of {len(findings)} are wrong." if wrong else "All is well.", err=True)
    sys.exit(1 if wrong else 0)


def _looked(look: Look, settings: Settings) -> Iterator[Finding]:
    try:
        yield from look(settings)
    except SortitorError as error:
        yield Finding(look.__name__, error.detail, error.remedy or "See above.")


def database(settings: Settings) -> Iterator[Finding]:
    """The database outside: it answers, is new enough, and has this version's tables."""
    if settings.database_url is None:
        yield Finding("database", f"the embedded one, in {settings.state_dir}")
        return
    for what, url in zip(("database", "owner's database"), outside_urls(settings), strict=True):
        try:
            with psycopg.connect(url, connect_timeout=_SECONDS) as connection:
                yield from _of_server(what, url, connection)
        except psycopg.OperationalError as error:
            yield Finding(
                what,
                f"{server_of(url)} does not let the service in",
                f"{reason_of(error)}: look at its URL, and whether it runs.",
            )
            return
    with single_engine(outside_urls(settings)[1]) as owner:
        state = upgrades.checked_state(owner)
    if state.revision is None:
        yield Finding("tables", "none yet; the first start makes them")
    elif state.missing:
        remedy = "Read `sortitor migrate --check`, then run `sortitor migrate`."
        yield Finding("tables", f"of schema {state.revision}, not {schema.head()}", remedy)
    else:
        yield Finding("tables", f"up to date (schema {state.revision})")


def _of_server(
    what: str, url: str, connection: psycopg.Connection[tuple[object, ...]]
) -> Iterator[Finding]:
    version = connection.info.server_version
    told = f"{server_of(url)}, PostgreSQL {version // 10_000}"
    remedy = "" if version >= _OLDEST_POSTGRESQL else "Use PostgreSQL 15 or newer."
    yield Finding(what, told, remedy)
    before = datetime.now(UTC)
    row = connection.execute("SELECT clock_timestamp()").fetchone()
    assert row is not None
    assert isinstance(row[0], datetime)
    skew = abs((row[0] - before).total_seconds())
    remedy = "Let both machines keep time by NTP." if skew > _MOST_SKEW_SECONDS else ""
    yield Finding(f"clock of the {what}", f"{skew:.1f} s from this machine's", remedy)


def disk(settings: Settings) -> Iterator[Finding]:
    """Room where the service writes."""
    folders = [settings.state_dir, settings.backup_folder]
    if "://" not in settings.files_folder:
        folders.append(Path(settings.files_folder))
    for folder in dict.fromkeys(filter(None, folders)):
        there = next(path for path in (folder, *folder.parents) if path.exists())
        free = shutil.disk_usage(there).free
        remedy = ""
        if free < _LEAST_BYTES:
            remedy = f"Make room: at least {_LEAST_BYTES // _GIGABYTE} GB."
        elif not os.access(there, os.W_OK):
            remedy = "Let the service's user write here."
        yield Finding(f"disk {folder}", f"{free / _GIGABYTE:.0f} GB free", remedy)


def permissions(settings: Settings) -> Iterator[Finding]:
    """Whether others on this machine can read the keys."""
    for file in settings.key_files.values():
        if not file.exists():
            yield Finding(f"key {file.name}", "none yet; the first start makes it")
            continue
        open_to_others = file.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO)
        remedy = f"chmod 600 {file}" if open_to_others else ""
        told = "others can read it" if open_to_others else "for its owner alone"
        yield Finding(f"key {file.name}", told, remedy)


def time_of_day(settings: Settings) -> Iterator[Finding]:
    """The clock and the zone."""
    told = f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S} UTC, days of {settings.time_zone}"
    remedy = "Unset SORTITOR_CLOCK: it is for demonstrations." if settings.clock else ""
    yield Finding("clock", "frozen" if settings.clock else told, remedy)


def tls(settings: Settings) -> Iterator[Finding]:
    """How people reach the service, and for how long its certificate is good."""
    url = urlsplit(settings.public_url)
    if url.scheme != "https":
        beyond = not is_loopback(settings) or bool(url.hostname)
        remedy = (
            "Put TLS in front, and set SORTITOR_PUBLIC_URL to its https address." if beyond else ""
        )
        yield Finding("TLS", "none" if beyond else "none needed on this machine alone", remedy)
        return
    address = (url.hostname or "", url.port or 443)
    try:
        context = ssl.create_default_context()
        with (
            socket.create_connection(address, _SECONDS) as plain,
            context.wrap_socket(plain, server_hostname=address[0]) as secured,
        ):
            ends = str((secured.getpeercert() or {}).get("notAfter", ""))
    except OSError as error:
        remedy = f"{error}: look at the proxy, its certificate and the name."
        yield Finding("TLS", f"{address[0]}:{address[1]} cannot be reached", remedy)
        return
    days = int((ssl.cert_time_to_seconds(ends) - datetime.now(UTC).timestamp()) / 86_400)
    remedy = "Renew the certificate." if days < _ENDS_SOON_DAYS else ""
    yield Finding("TLS", f"the certificate is good for {days} days", remedy)


def mail(settings: Settings) -> Iterator[Finding]:
    """Whether the mail server is there."""
    if not settings.mail_host:
        yield Finding("mail", "none is sent")
        return
    where = f"{settings.mail_host}:{settings.mail_port}"
    try:
        socket.create_connection((settings.mail_host, settings.mail_port), _SECONDS).close()
    except OSError as error:
        yield Finding("mail", f"{where} cannot be reached", f"{error}: look at SORTITOR_MAIL_HOST.")
        return
    sender = "" if settings.mail_from else "Set SORTITOR_MAIL_FROM."
    yield Finding("mail", f"{where} answers", sender)


_LOOKS: tuple[Look, ...] = (database, disk, permissions, time_of_day, tls, mail)


@click.command("settings")
@click.option("--all", "every", is_flag=True, help="Also those that are as they come.")
def settings_(every: bool) -> None:
    """Say what is set, and what each setting means; secrets are not shown.

    \b
    Examples:
      sortitor settings
      sortitor settings --all
    """
    try:
        settings = read_settings()
    except SortitorError as error:
        fail(error)
    rows = []
    for name, field in Settings.model_fields.items():
        value = getattr(settings, name)
        is_set = f"SORTITOR_{name.upper()}" in os.environ
        if every or is_set:
            shown = "(hidden)" if isinstance(value, SecretStr) and value else _shown(value)
            rows.append((f"SORTITOR_{name.upper()}", shown, field.description or ""))
    if not rows:
        click.echo("Nothing is set; everything is as it comes. `--all` shows it.", err=True)
    for name, shown, meaning in rows:
        click.echo(f"{name}={shown}")
        click.echo(click.wrap_text(meaning, 78, "    ", "    "))


def _shown(value: object) -> str:
    return "" if value is None else str(value)
