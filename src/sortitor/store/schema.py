"""Bringing the database's tables to the state that this version expects."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, func, select, text

_LOCK = 7_300


def _config(connection: Connection) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def upgrade(engine: Engine) -> None:
    """Run the migrations that are missing; several processes starting at once do it one after the
    other.
    """
    with engine.begin() as connection:
        connection.execute(select(func.pg_advisory_xact_lock(_LOCK)))
        command.upgrade(_config(connection), "head")


def check(engine: Engine) -> None:
    """Raise alembic's CommandError when the tables differ from `store/tables.py`."""
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
