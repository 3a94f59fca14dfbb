"""Accounts, sessions and tokens. Secrets are stored as hashes only."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.store.engine import Line
from sortitor.store.tables import accounts, installation, sessions, tokens


def add(connection: Connection, name: str, password_hash: str, role: str, at: datetime) -> int:
    """A new account's id."""
    statement = insert(accounts).values(
        name=name, password_hash=password_hash, role=role, created_at=at
    )
    return connection.execute(statement.returning(accounts.c.id)).scalar_one()


def change(connection: Connection, account_id: int, values: Mapping[str, Any]) -> None:
    """Set columns of one account."""
    connection.execute(update(accounts).where(accounts.c.id == account_id).values(**values))


def by_name(connection: Connection, name: str, lock: bool = False) -> Line | None:
    """The account of a name, whatever its case; `lock` makes parallel guesses count one after the
    other.
    """
    query = select(accounts).where(func.lower(accounts.c.name) == name.strip().lower())
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def one(connection: Connection, account_id: int) -> Line | None:
    """One account."""
    return connection.execute(select(accounts).where(accounts.c.id == account_id)).one_or_none()


def every(connection: Connection) -> Sequence[Line]:
    """All accounts by name."""
    return connection.execute(select(accounts).order_by(func.lower(accounts.c.name))).all()


def open_session(
    connection: Connection, account_id: int, secret_hash: str, expires_at: datetime, now: datetime
) -> None:
    """Remember a session and forget those that ended."""
    connection.execute(delete(sessions).where(sessions.c.expires_at < now))
    connection.execute(
        insert(sessions).values(
            secret_hash=secret_hash, account_id=account_id, expires_at=expires_at
        )
    )


def close_session(connection: Connection, secret_hash: str) -> None:
    """Forget a session."""
    connection.execute(delete(sessions).where(sessions.c.secret_hash == secret_hash))


def close_all_sessions(connection: Connection, account_id: int) -> None:
    """Forget every session of an account."""
    connection.execute(delete(sessions).where(sessions.c.account_id == account_id))


def by_session(connection: Connection, secret_hash: str, now: datetime) -> Line | None:
    """`id, name, role` of a living session's account."""
    query = select(accounts.c.id, accounts.c.name, accounts.c.role).join(
        sessions, sessions.c.account_id == accounts.c.id
    )
    return connection.execute(
        query.where(
            sessions.c.secret_hash == secret_hash,
            sessions.c.expires_at > now,
            accounts.c.disabled_at.is_(None),
        )
    ).one_or_none()


def by_token(connection: Connection, secret_hash: str, purpose: str, now: datetime) -> Line | None:
    """`id, name, role, token_role` of a living token's account."""
    query = select(
        accounts.c.id, accounts.c.name, accounts.c.role, tokens.c.role.label("token_role")
    ).join(tokens, tokens.c.account_id == accounts.c.id)
    alive = (
        tokens.c.secret_hash == secret_hash,
        tokens.c.purpose == purpose,
        tokens.c.expires_at > now,
        tokens.c.revoked_at.is_(None),
        accounts.c.disabled_at.is_(None),
    )
    return connection.execute(query.where(*alive)).one_or_none()


def add_token(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new token's id."""
    return connection.execute(insert(tokens).values(**values).returning(tokens.c.id)).scalar_one()


def tokens_of(connection: Connection, account_id: int) -> Sequence[Line]:
    """The account's tokens that were not revoked."""
    return connection.execute(
        select(tokens)
        .where(tokens.c.account_id == account_id, tokens.c.revoked_at.is_(None))
        .order_by(tokens.c.id)
    ).all()


def revoke_token(
    connection: Connection, token_id: int, account_id: int, at: datetime
) -> str | None:
    """The name of the revoked token, or None if the account has no such token."""
    statement = update(tokens).where(
        tokens.c.id == token_id, tokens.c.account_id == account_id, tokens.c.revoked_at.is_(None)
    )
    return connection.execute(
        statement.values(revoked_at=at).returning(tokens.c.name)
    ).scalar_one_or_none()


def fact(connection: Connection, key: str, lock: bool = False) -> str | None:
    """One fact of the installation."""
    query = select(installation.c.value).where(installation.c.key == key)
    return connection.execute(query.with_for_update() if lock else query).scalar_one_or_none()


def set_fact(connection: Connection, key: str, value: str | None) -> None:
    """Set or (None) remove a fact of the installation."""
    if value is None:
        connection.execute(delete(installation).where(installation.c.key == key))
    else:
        connection.execute(
            upsert(installation)
            .values(key=key, value=value)
            .on_conflict_do_update(index_elements=["key"], set_={"value": value})
        )
