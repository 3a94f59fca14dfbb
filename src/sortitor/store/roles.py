"""Rights in the database: an owner who migrates, and an application role that can neither rewrite
the journal nor change a table, a trigger or a right.
"""

from __future__ import annotations

from psycopg import sql
from sqlalchemy import Connection

from sortitor.store import locks
from sortitor.store.engine import raw

APPLICATION = "sortitor_application"
_GROWS_ONLY = ("journal", "journal_effects", "journal_creations", "journal_seals")


def grant(connection: Connection, role: str, password: str | None = None) -> None:
    """Make the role if there is none (with a password, where one is given) and give it what the
    service needs, no more; by the owner, after every migration.
    """
    name = sql.Identifier(role)
    with raw(connection).cursor() as cursor:
        cursor.execute(f"SELECT pg_advisory_xact_lock({locks.ROLES})")
        known = cursor.execute("SELECT FROM pg_roles WHERE rolname = %s", [role]).fetchone()
        if known is None:
            cursor.execute(sql.SQL("CREATE ROLE {} LOGIN").format(name))
        if password is not None:
            cursor.execute(
                sql.SQL("ALTER ROLE {} NOSUPERUSER NOCREATEDB NOCREATEROLE PASSWORD {}").format(
                    name, sql.Literal(password)
                )
            )
        for statement in (
            "GRANT USAGE ON SCHEMA public TO {}",
            "REVOKE ALL ON ALL TABLES IN SCHEMA public FROM {}",
            "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO {}",
            "GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO {}",
            "REVOKE INSERT, UPDATE, DELETE ON alembic_version FROM {}",
            "GRANT EXECUTE ON FUNCTION erase_from_journal(bigint[], bigint) TO {}",
            *(f"REVOKE UPDATE, DELETE ON {table} FROM {{}}" for table in _GROWS_ONLY),
        ):
            cursor.execute(sql.SQL(statement).format(name))


def is_granted(connection: Connection, role: str) -> bool:
    """Whether the role exists and may use the newest table."""
    row = (
        raw(connection)
        .execute(
            "SELECT coalesce((SELECT has_table_privilege(oid, 'journal_seals', 'INSERT')"
            " FROM pg_roles"
            " WHERE rolname = %s), false)",
            [role],
        )
        .fetchone()
    )
    return bool(row and row[0])
