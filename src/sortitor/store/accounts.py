"""Accounts, sessions and tokens. Secrets are stored as hashes only."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection, Select, delete, func, insert, null, select, update
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.vocabulary import Purpose, Role
from sortitor.store import locks
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import (
    accounts,
    installation,
    sessions,
    sources,
    strangers,
    tokens,
)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new account's id; its `name_key` is alike for names that look alike."""
    statement = insert(accounts).values(**values)
    return number(connection, statement.returning(accounts.c.id))


def change(connection: Connection, account_id: int, values: Mapping[str, Any]) -> None:
    """Set columns of one account."""
    connection.execute(update(accounts).where(accounts.c.id == account_id).values(**values))


@dataclass(frozen=True, slots=True)
class AccountRow:
    """An account."""

    id: int
    name: str
    #: None: it signs in with the password of the directory.
    password_hash: str | None
    source_id: int | None
    directory: str | None
    role: Role
    created_at: datetime
    disabled_at: datetime | None

    @property
    def opened_by(self) -> tuple[str | None, int | None]:
        """What lets it in."""
        return self.password_hash, self.source_id


@dataclass(frozen=True, slots=True)
class KnownRow:
    """Whose a living session or token is; `token_role` bounds what a token may do."""

    id: int
    name: str
    role: Role
    token_role: Role | None
    used_at: datetime | None


@dataclass(frozen=True, slots=True)
class TokenRow:
    """A token without its secret."""

    id: int
    name: str
    role: Role
    purpose: Purpose
    created_at: datetime
    expires_at: datetime
    used_at: datetime | None


@dataclass(frozen=True, slots=True)
class SessionRow:
    """Somebody who is signed in to the console, without the session's secret."""

    id: int
    created_at: datetime
    used_at: datetime
    expires_at: datetime
    address: str | None


def _rows() -> Select[Any]:
    return select(accounts, sources.c.name.label("directory")).outerjoin(
        sources, sources.c.id == accounts.c.source_id
    )


def by_name(connection: Connection, name: str) -> AccountRow | None:
    """The account of a name, whatever its case."""
    query = _rows().where(func.lower(accounts.c.name) == name.strip().lower())
    return read_one(connection, query, AccountRow)


def one(connection: Connection, account_id: int, lock: bool = False) -> AccountRow | None:
    """One account; `lock` holds its row."""
    query = _rows().where(accounts.c.id == account_id)
    held = query.with_for_update(of=accounts) if lock else query
    return read_one(connection, held, AccountRow)


def every(connection: Connection) -> list[AccountRow]:
    """All accounts by name."""
    return read_all(connection, _rows().order_by(func.lower(accounts.c.name)), AccountRow)


def any_directory(connection: Connection) -> int | None:
    """A directory by which accounts sign in; None where none do."""
    return connection.execute(select(func.min(accounts.c.source_id))).scalar()


def of_directory(connection: Connection, source_id: int) -> list[str]:
    """The names of the accounts that sign in by a directory."""
    query = select(accounts.c.name).where(accounts.c.source_id == source_id)
    return list(connection.execute(query.order_by(accounts.c.name)).scalars())


def lock_administrators(connection: Connection) -> list[int]:
    """The numbers of the administrators who can sign in, held: two cannot disable each other."""
    query = select(accounts.c.id).where(
        accounts.c.role == Role.ADMINISTRATOR, accounts.c.disabled_at.is_(None)
    )
    return list(connection.execute(query.order_by(accounts.c.id).with_for_update()).scalars())


def open_session(connection: Connection, values: Mapping[str, Any], now: datetime) -> None:
    """Remember a session and forget those that ended."""
    connection.execute(delete(sessions).where(sessions.c.expires_at < now))
    connection.execute(insert(sessions).values(created_at=now, used_at=now, **values))


def close_session(connection: Connection, secret_hash: str) -> None:
    """Forget a session."""
    connection.execute(delete(sessions).where(sessions.c.secret_hash == secret_hash))


def close_sessions(
    connection: Connection,
    account_id: int,
    session_id: int | None = None,
    except_hash: str | None = None,
) -> int:
    """Forget the sessions of an account: one, or all (but that of a secret); says how many."""
    statement = delete(sessions).where(sessions.c.account_id == account_id)
    if session_id is not None:
        statement = statement.where(sessions.c.id == session_id)
    if except_hash is not None:
        statement = statement.where(sessions.c.secret_hash != except_hash)
    return connection.execute(statement).rowcount


def sessions_of(
    connection: Connection, account_id: int, now: datetime, idle: timedelta
) -> list[SessionRow]:
    """The living sessions of an account, used last first."""
    alive = (sessions.c.expires_at > now, sessions.c.used_at > now - idle)
    query = select(sessions).where(sessions.c.account_id == account_id, *alive)
    return read_all(connection, query.order_by(sessions.c.used_at.desc()), SessionRow)


def by_session(
    connection: Connection, secret_hash: str, now: datetime, idle: timedelta
) -> KnownRow | None:
    """Whose a living session is, and when it was used."""
    query = select(
        accounts.c.id,
        accounts.c.name,
        accounts.c.role,
        null().label("token_role"),
        sessions.c.used_at,
    ).join(sessions, sessions.c.account_id == accounts.c.id)
    alive = (
        sessions.c.secret_hash == secret_hash,
        sessions.c.expires_at > now,
        sessions.c.used_at > now - idle,
        accounts.c.disabled_at.is_(None),
    )
    return read_one(connection, query.where(*alive), KnownRow)


def by_token(
    connection: Connection, secret_hash: str, purpose: str, now: datetime
) -> KnownRow | None:
    """Whose a living token is, and when it was used."""
    query = select(
        accounts.c.id,
        accounts.c.name,
        accounts.c.role,
        tokens.c.role.label("token_role"),
        tokens.c.used_at,
    ).join(tokens, tokens.c.account_id == accounts.c.id)
    alive = (
        tokens.c.secret_hash == secret_hash,
        tokens.c.purpose == purpose,
        tokens.c.expires_at > now,
        tokens.c.revoked_at.is_(None),
        accounts.c.disabled_at.is_(None),
    )
    return read_one(connection, query.where(*alive), KnownRow)


def note_use(connection: Connection, secret_hash: str, now: datetime) -> None:
    """A session or a token was used; one that another request is noting is left to it."""
    for table in (sessions, tokens):
        held = (
            select(table.c.secret_hash)
            .where(table.c.secret_hash == secret_hash)
            .with_for_update(skip_locked=True)
        )
        connection.execute(update(table).where(table.c.secret_hash.in_(held)).values(used_at=now))


def add_token(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new token's id."""
    return number(connection, insert(tokens).values(**values).returning(tokens.c.id))


def tokens_of(connection: Connection, account_id: int) -> list[TokenRow]:
    """The account's tokens that were not revoked."""
    own = (tokens.c.account_id == account_id, tokens.c.revoked_at.is_(None))
    return read_all(connection, select(tokens).where(*own).order_by(tokens.c.id), TokenRow)


def token(connection: Connection, secret_hash: str) -> TokenRow:
    """The token of a secret."""
    query = select(tokens).where(tokens.c.secret_hash == secret_hash)
    [found] = read_all(connection, query, TokenRow)
    return found


def revoke_tokens(
    connection: Connection, account_id: int, at: datetime, token_id: int | None = None
) -> list[str]:
    """The names of the revoked tokens of an account: one, or all."""
    statement = update(tokens).where(
        tokens.c.account_id == account_id, tokens.c.revoked_at.is_(None)
    )
    if token_id is not None:
        statement = statement.where(tokens.c.id == token_id)
    return list(
        connection.execute(statement.values(revoked_at=at).returning(tokens.c.name)).scalars()
    )


def count_stranger(connection: Connection, what: str, now: datetime) -> None:
    """Count somebody without an account who was turned away."""
    hour = now.replace(minute=0, second=0, microsecond=0)
    statement = upsert(strangers).values(what=what, hour=hour, count=1)
    connection.execute(
        statement.on_conflict_do_update(
            index_elements=["what", "hour"], set_={"count": strangers.c.count + 1}
        )
    )


def strangers_since(connection: Connection, since: datetime) -> dict[str, int]:
    """How many were turned away, by what they tried."""
    query = (
        select(strangers.c.what, func.sum(strangers.c.count))
        .where(strangers.c.hour >= since)
        .group_by(strangers.c.what)
    )
    return {what: int(count) for what, count in connection.execute(query).all()}


def fact(connection: Connection, key: str, lock: bool = False) -> str | None:
    """One fact of the installation; `lock` holds it, also where nobody has set it yet."""
    if lock:
        held = func.pg_advisory_xact_lock(locks.FACTS, func.hashtext(key))
        connection.execute(select(held))
    query = select(installation.c.value).where(installation.c.key == key)
    return connection.execute(query).scalar_one_or_none()


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
