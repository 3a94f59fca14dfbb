"""Bringing the database's tables to the state that this version expects."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import Connection, Engine, func, inspect, select, text

from sortitor.store import locks

if TYPE_CHECKING:
    # A database that is up to date, as almost all are at a start, needs nothing of it.
    from alembic.config import Config

_SCRIPTS = Path(__file__).parent / "migrations"


def _config(connection: Connection) -> Config:
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_SCRIPTS))
    config.attributes["connection"] = connection
    return config


@dataclass(frozen=True, slots=True)
class Step:
    """A migration that is missing, with its note: purpose, cost, way back."""

    revision: str
    note: str


@dataclass(frozen=True, slots=True)
class State:
    """Where a database stands: at which revision (None: it is empty), and which migrations are
    missing. `known` is False for one of a newer version.
    """

    revision: str | None
    missing: tuple[Step, ...]
    known: bool


def head() -> str:
    """The revision that this version expects: each migration's file begins with its own."""
    files = (_SCRIPTS / "versions").glob("[0-9]*.py")
    return max(file.name.partition("_")[0] for file in files)


def state(engine: Engine) -> State:
    """Where the database stands."""
    with engine.connect() as connection:
        made = inspect(connection).has_table("alembic_version")
        version = text("SELECT version_num FROM alembic_version")
        found: str | None = connection.execute(version).scalar() if made else None
    if found == head():
        return State(found, (), known=True)
    from alembic.script import ScriptDirectory

    scripts = ScriptDirectory(str(_SCRIPTS))
    known = {script.revision for script in scripts.walk_revisions()}
    if found is not None and found not in known:
        return State(found, (), known=False)
    missing = [
        Step(script.revision, (script.module.__doc__ or "").strip())
        for script in scripts.iterate_revisions("head", found or "base")
    ]
    return State(found, tuple(reversed(missing)), known=True)


def upgrade(engine: Engine) -> None:
    """Run the migrations that are missing; several processes starting at once do it one after the
    other.
    """
    from alembic import command

    with engine.begin() as connection:
        connection.execute(select(func.pg_advisory_xact_lock(locks.SCHEMA)))
        command.upgrade(_config(connection), "head")


def check(engine: Engine) -> None:
    """Raise alembic's CommandError when the tables differ from `store/tables.py`."""
    from alembic import command

    with engine.begin() as connection:
        command.check(_config(connection))


def recreate(engine: Engine) -> None:
    """Throw everything away and make the tables anew; only the demonstration does this, to its own
    database.
    """
    with engine.begin() as connection:
        connection.execute(text("DROP SCHEMA public CASCADE"))
        connection.execute(text("CREATE SCHEMA public"))
    upgrade(engine)
