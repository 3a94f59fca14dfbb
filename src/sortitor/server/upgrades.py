"""Newer versions and the database: what one would change is said first, and backed up."""

from __future__ import annotations

import sys
from datetime import UTC, datetime

import click
from sqlalchemy import Engine

from sortitor.core.errors import SortitorError
from sortitor.server.backups import write_backup
from sortitor.server.settings import Settings
from sortitor.store import schema
from sortitor.store.schema import State


def checked_state(engine: Engine) -> State:
    """Where the database stands. Raises SortitorError for one of a newer version."""
    found = schema.state(engine)
    if not found.known:
        raise SortitorError(
            "schema_newer",
            f"A newer Sortitor has changed this database (schema {found.revision}); this one knows"
            f" it up to {schema.head()}.",
            "Install that version again, or restore a backup that was made before.",
        )
    return found


def needed(found: State) -> SortitorError:
    """The error of a service that finds an older database."""
    return SortitorError(
        "schema_older",
        f"This database is of an older version (schema {found.revision}); this one expects"
        f" {schema.head()}.",
        "Read `sortitor migrate --check`, then run `sortitor migrate`.",
    )


def with_backup(settings: Settings, owner_url: str, found: State) -> None:
    """Back the embedded database up before it is changed, and say both."""
    moment = f"{datetime.now(UTC):%Y%m%d-%H%M%S}"
    file = settings.state_dir / "backups" / f"before-{schema.head()}-{moment}.sortitor"
    click.echo(
        f"The database is of an older version (schema {found.revision}): it is backed up to {file},"
        f" then brought to {schema.head()}.",
        err=True,
    )
    write_backup(owner_url, file, settings.key_files)
    sys.stderr.flush()


def described(found: State) -> str:
    """What an upgrade would do, migration by migration."""
    if found.revision is None:
        return "The database is empty; the service makes its tables when it starts."
    if not found.missing:
        return f"The database is up to date (schema {found.revision})."
    parts = [f"The database is at schema {found.revision}; {len(found.missing)} steps are missing."]
    parts += [f"\n{step.revision}  {step.note}" for step in found.missing]
    parts.append("\nSay `sortitor migrate` to back it up and do this.")
    return "\n".join(parts)
