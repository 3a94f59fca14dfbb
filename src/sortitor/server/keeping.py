"""The commands of whoever answers for the data: backup, restore, upgrade, recovery."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import click
import pyrage

from sortitor.core.errors import SortitorError
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context, Limits
from sortitor.operations.sources import credentials
from sortitor.operations.vault import Vault
from sortitor.server import backups, upgrades
from sortitor.server.commands import fail
from sortitor.server.keys import add_vault_key, vault_keys
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings, read_settings
from sortitor.server.wiring import make_clock, outside_urls
from sortitor.store import roles, schema
from sortitor.store.engine import single_engine, transaction


@contextmanager
def _told() -> Iterator[Settings]:
    """Settings, and an error of ours as a user reads it."""
    try:
        yield read_settings()
    except SortitorError as error:
        fail(error)


@contextmanager
def _owner_url(settings: Settings) -> Iterator[str]:
    """The database's URL as its owner; the embedded one runs for as long as it takes."""
    if settings.database_url is not None:
        yield outside_urls(settings)[1]
        return
    if not (settings.state_dir / "cluster" / "PG_VERSION").exists():
        raise SortitorError(
            "no_database",
            f"There is no database in {settings.state_dir}.",
            "Name the service's SORTITOR_STATE_DIR or SORTITOR_DATABASE_URL.",
        )
    cluster = Cluster(settings.state_dir)
    try:
        yield cluster.start()
    finally:
        cluster.stop()


def _say(text: str) -> None:
    click.echo(f"  {text} …", err=True)


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path), required=False)
@click.option(
    "--recipient",
    default="",
    metavar="AGE1…",
    help="Encrypt it for this age recipient; it holds the installation's key then.",
)
def backup(file: Path | None, recipient: str) -> None:
    """Write a backup of everything, of one moment, while the service runs.

    Without FILE it is written into the state directory.

    \b
    Examples:
      sortitor backup
      sortitor backup /mnt/safe/monday.sortitor --recipient age1…
    """
    with _told() as settings, _owner_url(settings) as url:
        moment = f"{datetime.now(UTC):%Y%m%d-%H%M%S}"
        file = file or settings.state_dir / "backups" / f"by-hand-{moment}{backups.SUFFIX}"
        made = backups.write_backup(url, file, settings.key_files, recipient, _say)
        devices, entries = made["counts"]["devices"], made["counts"]["journal"]
        click.echo(f"Written to {file}: {devices:,} devices, {entries:,} journal entries.")
        if not recipient:
            click.echo(
                "It is in clear, and does not hold the keys of the installation and of its sources'"
                f" credentials ({' and '.join(map(str, settings.key_files.values()))}); keep them.",
                err=True,
            )


@click.command("backup-key")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def backup_key(file: Path) -> None:
    """Make a pair of keys for encrypted backups: the secret half goes to FILE, the recipient is
    printed.

    \b
    Example:
      sortitor backup-key /mnt/offline/backup.identity
    """
    identity = pyrage.x25519.Identity.generate()
    if file.exists():
        raise click.UsageError(f"{file} is there already.")
    file.touch(mode=0o600)
    file.write_text(f"{identity}\n")
    click.echo(str(identity.to_public()))
    click.echo(f"Keep {file} away from this machine: whoever has it opens the backups.", err=True)


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option(
    "--identity",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="The file with the secret key, for an encrypted backup.",
)
def restore(file: Path, identity: Path | None) -> None:
    """Bring a backup back into an empty place, and verify it before it can be used.

    \b
    Example:
      SORTITOR_STATE_DIR=/srv/sortitor sortitor restore monday.sortitor
    """
    with _told() as settings:
        keys = settings.key_files
        if settings.database_url is None:
            settings.state_dir.mkdir(parents=True, exist_ok=True)
            found = backups.restore_embedded(file, settings.state_dir, keys, identity, _say)
        else:
            url, owner_url = outside_urls(settings)
            found = backups.restore_outside(file, owner_url, keys, identity, _say)
            if url != owner_url:
                _grant(url, owner_url)
        devices = found.manifest["counts"]["devices"]
        click.echo(
            f"Brought back and verified: {devices:,} devices, {found.sealed:,} sealed"
            f" entries of the"
            f" journal, as of {found.manifest['made_at']}."
        )
        missing = [str(key_file) for key_file in keys.values() if not key_file.exists()]
        if missing:
            click.echo(
                f"The keys were not in the backup. Bring {' and '.join(missing)} back too, or heads"
                " of the journal that were given out cannot be checked, and sources need their"
                " credentials anew.",
                err=True,
            )
        click.echo("Next: sortitor serve", err=True)


def _grant(url: str, owner_url: str) -> None:
    from urllib.parse import urlsplit

    with single_engine(owner_url) as engine, transaction(engine) as connection:
        roles.grant(connection, urlsplit(url).username or roles.APPLICATION)


@click.command()
@click.option("--check", is_flag=True, help="Only say what would be done.")
@click.option("--no-backup", is_flag=True, help="There is a backup; make no other.")
@click.option("-y", "--yes", is_flag=True, help="Do it without asking.")
def migrate(check: bool, no_backup: bool, yes: bool) -> None:
    """Bring the database to this version: says what it does, backs up, then does it.

    \b
    Examples:
      sortitor migrate --check
      sortitor migrate
    """
    with _told() as settings, _owner_url(settings) as url:
        with single_engine(url) as engine:
            found = upgrades.checked_state(engine)
            click.echo(upgrades.described(found))
            if check or not found.missing or found.revision is None:
                return
            if not yes:
                click.confirm("Bring the database to this version?", abort=True, err=True)
            if not no_backup:
                moment = f"{datetime.now(UTC):%Y%m%d-%H%M%S}"
                file = settings.state_dir / "backups" / f"before-{schema.head()}-{moment}.sortitor"
                backups.write_backup(url, file, settings.key_files, tell=_say)
                click.echo(f"Backed up to {file}.", err=True)
            schema.upgrade(engine)
        if settings.database_url is not None and outside_urls(settings)[0] != url:
            _grant(outside_urls(settings)[0], url)
        click.echo(f"The database is at schema {schema.head()} now.")


@click.command()
@click.argument("name")
@click.option(
    "--password",
    prompt="New password",
    hide_input=True,
    confirmation_prompt=True,
    envvar="SORTITOR_PASSWORD",
    help="At least 12 characters, and not easily guessed.",
)
def recover(name: str, password: str) -> None:
    """Let an administrator in again, on the machine of the service: with a new password, enabled,
    all sessions and tokens ended. An account of a new name is made.

    \b
    Example:
      sortitor recover maud
    """
    with _told() as settings, _owner_url(settings) as url:
        actor = Actor("recovery", Role.ADMINISTRATOR)
        with single_engine(url) as engine:
            ctx = Context(engine, make_clock(settings), Limits(), actor)
            number = accounts.recover(ctx, name, password)
    click.echo(f"{name} (account {number}) is an administrator with the new password.")
    click.echo(f"Next: sortitor account sign-in --name {name}", err=True)


@click.command("rotate-keys")
def rotate_keys() -> None:
    """Put a new key before the others that credentials of sources are encrypted with, and encrypt
    them all with it; a running service goes on.

    \b
    Example:
      sortitor rotate-keys
    """
    with _told() as settings, _owner_url(settings) as url:
        add_vault_key(settings.vault_file)
        vault = Vault(vault_keys(settings.vault_file))
        actor = Actor("recovery", Role.ADMINISTRATOR)
        with single_engine(url) as engine:
            clock = make_clock(settings)
            number = credentials.renew_all(Context(engine, clock, Limits(), actor, vault=vault))
    click.echo(f"{number} credentials are encrypted with a new key.")
    click.echo(f"Back up {settings.vault_file}.", err=True)
