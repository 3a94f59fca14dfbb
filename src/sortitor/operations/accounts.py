"""Signing in, accounts and tokens."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from datetime import timedelta
from functools import cache
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError

from sortitor.core.access import Permission, covers, lesser, may
from sortitor.core.errors import BadInput, Conflict, FieldProblem, NotFound, NotSignedIn, SlowDown
from sortitor.core.vocabulary import Purpose, Role
from sortitor.operations.context import Actor, Clock, Context, or_not_found
from sortitor.store import accounts as store
from sortitor.store.accounts import AccountRow, TokenRow
from sortitor.store.engine import Connection, Engine, transaction

_HASHER = PasswordHasher()
_FREE_FAILURES = 3
_LONGEST_WAIT_SECONDS = 300
_SETUP = "administrator_secret_sha256"
_WRONG = (
    "wrong_name_or_password",
    "The name or the password is not right.",
    "Try again; an administrator can set a new password.",
)


@cache
def _nobody() -> str:
    """Checked when there is no such account, so that the time taken does not tell."""
    return _HASHER.hash(secrets.token_urlsafe())


def hash_secret(secret: str) -> str:
    """What is stored of a session or token secret: these are 256 random bits, so one round of
    SHA-256 does.
    """
    return hashlib.sha256(secret.encode()).hexdigest()


def sign_in(ctx: Context, name: str, password: str) -> tuple[Actor, str]:
    """The account and a new session's secret.

    Each failure after the third doubles the wait, up to five minutes.
    """
    now = ctx.clock.wall()
    with ctx.bookkeeping() as connection:
        account = store.by_name(connection, name, lock=True)
        if account and account.failed_at and account.failures > _FREE_FAILURES:
            ends = account.failed_at + timedelta(
                seconds=min(2 ** (account.failures - _FREE_FAILURES), _LONGEST_WAIT_SECONDS)
            )
            if ends > now:
                raise SlowDown(int((ends - now).total_seconds()) + 1)
        good = (
            _verify(account.password_hash if account else _nobody(), password)
            and account is not None
        )
        if account is not None and good and account.disabled_at is None:
            secret = secrets.token_urlsafe(32)
            store.change(connection, account.id, {"failures": 0, "failed_at": None})
            store.open_session(
                connection,
                account.id,
                hash_secret(secret),
                now + timedelta(hours=ctx.limits.session_hours),
                now,
            )
            return Actor(account.name, account.role, account.id), secret
        if account is not None:
            store.change(
                connection, account.id, {"failures": account.failures + 1, "failed_at": now}
            )
    raise NotSignedIn(*_WRONG)


def _verify(password_hash: str, password: str) -> bool:
    try:
        return _HASHER.verify(password_hash, password)
    except VerificationError:
        return False


def sign_out(ctx: Context, secret: str) -> None:
    """End a session."""
    with ctx.bookkeeping() as connection:
        store.close_session(connection, hash_secret(secret))


def recognise(
    engine: Engine,
    clock: Clock,
    *,
    session: str | None = None,
    token: str | None = None,
    purpose: Purpose = Purpose.INTERFACE,
) -> Actor:
    """Who a session's or token's secret belongs to.

    A token never does more than its account may, and only what it is for.
    """
    with transaction(engine) as connection:
        if token is not None:
            found = store.by_token(connection, hash_secret(token), purpose, clock.wall())
            if found is None:
                raise NotSignedIn(
                    "bad_token",
                    "This token is unknown here, revoked or has ended.",
                    "Make a new token with `sortitor account add-token`.",
                )
            assert found.token_role is not None
            return Actor(found.name, lesser(found.role, found.token_role), found.id)
        found = store.by_session(connection, hash_secret(session or ""), clock.wall())
        if found is None:
            raise NotSignedIn(
                "not_signed_in", "You are not signed in, or the session has ended.", "Sign in."
            )
        return Actor(found.name, found.role, found.id)


def offer_setup(engine: Engine, clock: Clock) -> str | None:
    """On an installation without accounts: a new one-time administrator secret. Else None."""
    with transaction(engine) as connection:
        if store.every(connection):
            return None
        secret = secrets.token_urlsafe(18)
        store.set_fact(connection, _SETUP, hash_secret(secret))
        return secret


def set_up(ctx: Context, secret: str, name: str, password: str) -> int:
    """Make the first administrator with the one-time secret, which is spent by it."""
    _check_password(name, password)
    with ctx.changing() as connection:
        stored = store.fact(connection, _SETUP, lock=True)
        if stored is None:
            raise Conflict(
                "already_set_up",
                "This installation has its first administrator already.",
                "Sign in, or ask an administrator.",
            )
        if not hmac.compare_digest(stored, hash_secret(secret)):
            raise NotSignedIn(
                "wrong_setup_secret",
                "The one-time administrator secret is not right.",
                "It lies in the state directory, in the file first-administrator.txt.",
            )
        store.set_fact(connection, _SETUP, None)
        return _add(ctx, connection, name, password, Role.ADMINISTRATOR)


def add(ctx: Context, name: str, password: str, role: Role) -> int:
    """A new account's id."""
    _check_password(name, password)
    with ctx.changing() as connection:
        return _add(ctx, connection, name, password, role)


def _add(ctx: Context, connection: Connection, name: str, password: str, role: Role) -> int:
    account_id = store.add(connection, name.strip(), _HASHER.hash(password), role, ctx.now)
    ctx.record(
        connection,
        "account.add",
        "account",
        f"Account {name} added as {role}",
        subject_id=account_id,
        after={"name": name, "role": role},
    )
    return account_id


def _check_password(name: str, password: str) -> None:
    if len(password) < 12 or password.casefold() == name.casefold():
        detail = "A password has at least 12 characters and is not the name."
        raise BadInput(
            "weak_password",
            detail,
            "Choose a longer password.",
            (FieldProblem("/password", "weak_password", detail),),
        )


def edit(
    ctx: Context,
    account_id: int,
    *,
    role: Role | None = None,
    password: str | None = None,
    disabled: bool | None = None,
) -> None:
    """Change an account; a new password, role or disabling ends its sessions."""
    with ctx.changing() as connection:
        account = or_not_found(store.one(connection, account_id), "account", account_id)
        if account_id == ctx.actor.account_id and (
            disabled or (role and role is not Role.ADMINISTRATOR)
        ):
            raise Conflict(
                "own_account",
                "You cannot disable your own account or take your own role away.",
                "Let another administrator do it.",
            )
        values: dict[str, Any] = {}
        if role:
            values["role"] = role
        if password:
            _check_password(account.name, password)
            values |= {"password_hash": _HASHER.hash(password), "failures": 0, "failed_at": None}
        if disabled is not None:
            values["disabled_at"] = ctx.now if disabled else None
        store.change(connection, account_id, values)
        store.close_all_sessions(connection, account_id)
        shown = {
            "role": role or account.role,
            "disabled": bool(values.get("disabled_at", account.disabled_at)),
            "new_password": password is not None,
        }
        ctx.record(
            connection,
            "account.edit",
            "account",
            f"Account {account.name} changed",
            subject_id=account_id,
            before={"role": account.role, "disabled": account.disabled_at is not None},
            after=shown,
        )


def every(ctx: Context) -> list[AccountRow]:
    """All accounts."""
    with ctx.reading() as connection:
        return store.every(connection)


def add_token(
    ctx: Context, name: str, role: Role, days: int, purpose: Purpose = Purpose.INTERFACE
) -> tuple[int, str]:
    """A new token's id and its secret, which is shown this once."""
    if not covers(ctx.actor.role, role):
        raise BadInput(
            "role_too_high",
            f"Your own role is {ctx.actor.role}; a token cannot do more.",
            "Choose a lower role.",
        )
    if purpose is Purpose.PEOPLE and not may(role, Permission.MANAGE_PEOPLE):
        raise BadInput(
            "role_too_low",
            "Pushing people and groups changes them, which takes a coordinator.",
            "Choose the role coordinator.",
        )
    secret = "sortitor_" + secrets.token_urlsafe(32)
    with ctx.changing() as connection:
        now = ctx.clock.wall()
        token_id = store.add_token(
            connection,
            {
                "account_id": ctx.actor.account_id,
                "name": name,
                "secret_hash": hash_secret(secret),
                "role": role,
                "purpose": purpose,
                "created_at": now,
                "expires_at": now + timedelta(days=days),
            },
        )
        ctx.record(
            connection,
            "token.add",
            "token",
            f"Token {name} added as {role} for {days} days",
            subject_id=token_id,
            after={"name": name, "role": role, "days": days, "purpose": purpose},
        )
    return token_id, secret


def tokens(ctx: Context) -> list[TokenRow]:
    """The actor's own living tokens."""
    with ctx.reading() as connection:
        return store.tokens_of(connection, ctx.actor.account_id or 0)


def revoke_token(ctx: Context, token_id: int) -> None:
    """End one of the actor's tokens at once."""
    with ctx.changing() as connection:
        name = store.revoke_token(connection, token_id, ctx.actor.account_id or 0, ctx.clock.wall())
        if name is None:
            raise NotFound("token", token_id)
        ctx.record(
            connection, "token.revoke", "token", f"Token {name} revoked", subject_id=token_id
        )
