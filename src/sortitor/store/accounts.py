"""Accounts, sessions and tokens. Secrets are stored as hashes only."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, func, insert, null, select, update
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.vocabulary import Purpose, Role
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import accounts, installation, sessions, tokens


def add(connection: Connection, name: str, password_hash: str, role: str, at: datetime) -> int:
    """A new account's id."""
    statement = insert(accounts).values(
        name=name, password_hash=password_hash, role=role, created_at=at
    )
    return number(connection, statement.returning(accounts.c.id))


def change(connection: Connection, account_id: int, values: Mapping[str, Any]) -> None:
    """Set columns of one account."""
    connection.execute(update(accounts).where(accounts.c.id == account_id).values(**values))


@dataclass(frozen=True, slots=True)
class AccountRow:
    """An account."""

    id: int
    name: str
    password_hash: str
    role: Role
    created_at: datetime
    disabled_at: datetime | None
    failures: int
    failed_at: datetime | None


@dataclass(frozen=True, slots=True)
class KnownRow:
    """Whose a living session or token is; `token_role` bounds what a token may do."""

    id: int
    name: str
    role: Role
    token_role: Role | None


@dataclass(frozen=True, slots=True)
class TokenRow:
    """A token without its secret."""

    id: int
    name: str
    role: Role
    purpose: Purpose
    created_at: datetime
    expires_at: datetime


def by_name(connection: Connection, name: str, lock: bool = False) -> AccountRow | None:
    """The account of a name, whatever its case; `lock` makes parallel guesses count one after the
    other.
    """
    query = select(accounts).where(func.lower(accounts.c.name) == name.strip().lower())
    return read_one(connection, query.with_for_update() if lock else query, AccountRow)


def one(connection: Connection, account_id: int) -> AccountRow | None:
    """One account."""
    return read_one(connection, select(accounts).where(accounts.c.id == account_id), AccountRow)


def every(connection: Connection) -> list[AccountRow]:
    """All accounts by name."""
    return read_all(connection, select(accounts).order_by(func.lower(accounts.c.name)), AccountRow)


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


def by_session(connection: Connection, secret_hash: str, now: datetime) -> KnownRow | None:
    """Whose a living session is."""
    query = select(
        accounts.c.id, accounts.c.name, accounts.c.role, null().label("token_role")
    ).join(sessions, sessions.c.account_id == accounts.c.id)
    alive = (
        sessions.c.secret_hash == secret_hash,
        sessions.c.expires_at > now,
        accounts.c.disabled_at.is_(None),
    )
    return read_one(connection, query.where(*alive), KnownRow)


def by_token(
    connection: Connection, secret_hash: str, purpose: str, now: datetime
) -> KnownRow | None:
    """Whose a living token is."""
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
    return read_one(connection, query.where(*alive), KnownRow)


def add_token(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new token's id."""
    return number(connection, insert(tokens).values(**values).returning(tokens.c.id))


def tokens_of(connection: Connection, account_id: int) -> list[TokenRow]:
    """The account's tokens that were not revoked."""
    own = (tokens.c.account_id == account_id, tokens.c.revoked_at.is_(None))
    return read_all(connection, select(tokens).where(*own).order_by(tokens.c.id), TokenRow)


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
