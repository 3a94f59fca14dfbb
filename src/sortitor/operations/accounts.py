"""Signing in, accounts, their sessions and tokens."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from dataclasses import dataclass, replace
from datetime import timedelta
from functools import cache
from hashlib import blake2b
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError

from sortitor.core.access import Permission, covers, lesser, may
from sortitor.core.accounts import check_account_name, check_password, name_key
from sortitor.core.errors import BadInput, Conflict, NotAllowed, NotFound, NotSignedIn, Stale
from sortitor.core.previews import plural
from sortitor.core.vocabulary import Purpose, Role
from sortitor.operations.context import Actor, Clock, Context, or_not_found
from sortitor.operations.sources import passwords
from sortitor.operations.sources.documents import SOURCES
from sortitor.store import accounts as store
from sortitor.store.accounts import AccountRow as AccountRow
from sortitor.store.accounts import SessionRow, TokenRow
from sortitor.store.engine import Connection, Engine, transaction

#: One lane and 46 MiB (the first choice of OWASP's password storage cheat sheet): several at once
#: would take more memory and processors than a stranger may.
_HASHER = PasswordHasher(time_cost=2, memory_cost=47_104, parallelism=1)
_SETUP = "administrator_secret_sha256"
_WRONG = (
    "wrong_name_or_password",
    "The name or the password is not right.",
    "Try again; an administrator can set a new password.",
)
#: A use is noted once in this time, so that reading does not become writing.
_NOTED_EVERY = timedelta(minutes=1)
#: Which failures in a row the journal tells: fewer and fewer, so that nobody can fill it.
_TOLD_FAILURES = frozenset({1, 3, 10, 30, 100, 300, 1_000, 3_000, 10_000})


@cache
def _nobody() -> str:
    """Checked when there is no such account, so that the time taken does not tell."""
    return _HASHER.hash(secrets.token_urlsafe())


def hash_secret(secret: str) -> str:
    """What is stored of a session or token secret: these are 256 random bits, so one round of
    SHA-256 does.
    """
    return hashlib.sha256(secret.encode()).hexdigest()


@dataclass(frozen=True, slots=True)
class Tried:
    """What became of a password: whether it is right, and which directory is still asked; that is
    so for every wrong one, too, where accounts sign in by a directory.
    """

    account: AccountRow | None
    right: bool
    asks: int | None
    #: The hash anew, where the kept one is of a weaker make.
    fresh: str | None = None


def try_password(ctx: Context, name: str, password: str) -> Tried:
    """Hold a password against what is kept of an account; in no transaction, since it takes a
    while.
    """
    with ctx.reading() as connection:
        account = store.by_name(connection, name)
        directory = account.source_id if account else None
        asks = directory or store.any_directory(connection)
    kept = account.password_hash if account else None
    right = _verify(kept or _nobody(), password) and kept is not None
    if kept is None or not right:
        return Tried(account, False, asks)
    fresh = _HASHER.hash(password) if _HASHER.check_needs_rehash(kept) else None
    return Tried(account, True, None, fresh)


def ask_directory(ctx: Context, tried: Tried, password: str) -> Tried:
    """Let the directory say whether the password is right, where it is the one to say so."""
    assert tried.asks is not None
    by_directory = tried.account is not None and tried.account.source_id == tried.asks
    login = tried.account.name if tried.account and by_directory else None
    return replace(tried, right=passwords.lets_in(ctx, tried.asks, login, password))


def open_session(ctx: Context, tried: Tried, address: str, failures: int) -> tuple[Actor, str]:
    """The account and a new session's secret. `failures` is how often this name failed from this
    address before.
    """
    account = tried.account
    if account is None or not tried.right or account.disabled_at is not None:
        _note_failure(ctx, account, address, failures + 1)
        raise NotSignedIn(*_WRONG)
    now, secret = ctx.clock.wall(), secrets.token_urlsafe(32)
    actor = Actor(account.name, account.role, account.id)
    with ctx.bookkeeping() as connection:
        again = store.one(connection, account.id, lock=True)
        if again is None or again.opened_by != account.opened_by or again.disabled_at:
            raise NotSignedIn(*_WRONG)
        if tried.fresh is not None:
            store.change(connection, account.id, {"password_hash": tried.fresh})
        session = {
            "secret_hash": hash_secret(secret),
            "account_id": account.id,
            "expires_at": now + timedelta(hours=ctx.limits.session_hours),
            "address": address,
        }
        store.open_session(connection, session, now)
        replace(ctx, actor=actor).record(
            connection,
            "account.sign_in",
            "account",
            f"{account.name} signed in from {address}",
            subject_id=account.id,
        )
    return actor, secret


def _note_failure(ctx: Context, account: AccountRow | None, address: str, failures: int) -> None:
    with ctx.bookkeeping() as connection:
        store.count_stranger(connection, "sign_in", ctx.clock.wall())
        if failures in _TOLD_FAILURES:
            # A name that nobody has may be a password typed into the wrong field.
            whom = account.name if account else "a name that nobody has"
            ctx.record(
                connection,
                "account.sign_in_failed",
                "account",
                f"A sign-in as {whom} from {address} failed ({plural(failures, 'time')} in a row)",
                subject_id=account.id if account else None,
            )


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
    idle_hours: int = 24 * 30,
) -> Actor:
    """Who a session's or token's secret belongs to; a session that was idle for longer has ended.

    A token never does more than its account may, and only what it is for.
    """
    now = clock.wall()
    hashed = hash_secret(token or session or "")
    with transaction(engine) as connection:
        if token is not None:
            found = store.by_token(connection, hashed, purpose, now)
        else:
            found = store.by_session(connection, hashed, now, timedelta(hours=idle_hours))
        if found is not None and (found.used_at is None or now - found.used_at > _NOTED_EVERY):
            store.note_use(connection, hashed, now)
    if found is None and token is not None:
        raise NotSignedIn(
            "bad_token",
            "This token is unknown here, revoked or has ended.",
            "Make a new token with `sortitor token add`.",
        )
    if found is None:
        raise NotSignedIn(
            "not_signed_in", "You are not signed in, or the session has ended.", "Sign in."
        )
    role = found.role if found.token_role is None else lesser(found.role, found.token_role)
    return Actor(found.name, role, found.id, by_token=token is not None)


def recognise_calendar(engine: Engine, clock: Clock, secret: str) -> TokenRow:
    """The token of a calendar's address. Raises NotSignedIn for one that is no more."""
    now = clock.wall()
    hashed = hash_secret(secret)
    with transaction(engine) as connection:
        found = store.by_token(connection, hashed, Purpose.CALENDAR, now)
        if found is None:
            raise NotSignedIn(
                "bad_token",
                "This address is unknown here, revoked or has ended.",
                "Make a new one on the page “What ends”.",
            )
        if found.used_at is None or now - found.used_at > _NOTED_EVERY:
            store.note_use(connection, hashed, now)
        return store.token(connection, hashed)


def offer_setup(engine: Engine, secret: str) -> bool:
    """On an installation without accounts: let this secret make the first administrator, once. Says
    whether it does.
    """
    with transaction(engine) as connection:
        if store.every(connection):
            return False
        store.set_fact(connection, _SETUP, hash_secret(secret))
        return True


def set_up(ctx: Context, secret: str, name: str, password: str) -> int:
    """Make the first administrator with the one-time secret, which is spent by it."""
    with ctx.reading() as connection:
        _check_setup(store.fact(connection, _SETUP), secret)
    made = _new(name, password)
    with ctx.changing() as connection:
        _check_setup(store.fact(connection, _SETUP, lock=True), secret)
        store.set_fact(connection, _SETUP, None)
        return _add(ctx, connection, *made, Role.ADMINISTRATOR)


def _check_setup(stored: str | None, secret: str) -> None:
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


def add(
    ctx: Context, name: str, password: str | None, role: Role, directory: str | None = None
) -> int:
    """A new account's id; it signs in with a password of its own or with that of a directory."""
    if (password is None) == (directory is None):
        raise _one_of_two()
    if password is not None:
        kept, hashed = _new(name, password)
        with ctx.changing() as connection:
            return _add(ctx, connection, kept, hashed, role)
    kept = check_account_name(name)
    with ctx.changing() as connection:
        source_id = _directory(connection, directory)
        return _add(ctx, connection, kept, None, role, source_id)


def _one_of_two() -> BadInput:
    return BadInput(
        "password_or_directory",
        "An account has a password of its own, or signs in with that of a directory.",
        "Give one of the two.",
    )


def _directory(connection: Connection, name: str | None) -> int | None:
    """The number of a directory whose people sign in with their password; None for no name."""
    if name is None:
        return None
    # Held, so that nobody takes this away while the account is written.
    found = SOURCES.find(connection, name).id
    kept = or_not_found(SOURCES.shelf.one(connection, found, lock=True), "source", name)
    if kept.document.signs_in_by is None:
        raise Conflict(
            "no_directory",
            f"The people of “{kept.document.name}” do not sign in with their password.",
            "Say of the source by what they do.",
        )
    return kept.id


def _new(name: str, password: str) -> tuple[str, str]:
    """The name as it is kept, and the password's hash."""
    kept = check_account_name(name)
    check_password(kept, password)
    return kept, _HASHER.hash(password)


def _add(
    ctx: Context,
    connection: Connection,
    name: str,
    hashed: str | None,
    role: Role,
    source_id: int | None = None,
) -> int:
    values = {
        "name": name,
        "name_key": name_key(name),
        "password_hash": hashed,
        "source_id": source_id,
        "role": role,
        "created_at": ctx.now,
    }
    account_id = store.add(connection, values)
    ctx.record(
        connection,
        "account.add",
        "account",
        f"Account {name} added as {role}",
        subject_id=account_id,
        after={"name": name, "role": role, "by_directory": source_id is not None},
    )
    return account_id


def edit(
    ctx: Context,
    account_id: int,
    *,
    role: Role | None = None,
    password: str | None = None,
    directory: str | None = None,
    disabled: bool | None = None,
    version: str | None = None,
) -> AccountRow:
    """Change an account; gives it as it is then. A new role ends its sessions; a new password,
    another way to sign in and disabling revoke its tokens, too. Raises Stale where it is no longer
    of the `version` that was read.
    """
    if role is None and password is None and directory is None and disabled is None:
        raise BadInput(
            "nothing_to_change", "Nothing of the account is changed.", "Name what to change."
        )
    if password is not None and directory is not None:
        raise _one_of_two()
    with ctx.reading() as connection:
        name = or_not_found(store.one(connection, account_id), "account", account_id).name
    hashed = None
    if password is not None:
        check_password(name, password)
        hashed = _HASHER.hash(password)
    with ctx.changing() as connection:
        administrators = store.lock_administrators(connection)
        account = or_not_found(store.one(connection, account_id, lock=True), "account", account_id)
        if version is not None and version != version_of(account):
            raise Stale(f"account {account.name}")
        demoted = disabled or (role is not None and role is not Role.ADMINISTRATOR)
        if demoted:
            _keep_an_administrator(ctx, account_id, administrators)
        values: dict[str, Any] = {"role": role or account.role}
        if hashed is not None:
            values |= {"password_hash": hashed, "source_id": None}
        if directory is not None:
            source_id = _directory(connection, directory)
            values |= {"password_hash": None, "source_id": source_id}
        if disabled is not None:
            values["disabled_at"] = ctx.now if disabled else None
        store.change(connection, account_id, values)
        store.close_sessions(connection, account_id)
        revoked = []
        if "password_hash" in values or disabled:
            revoked = store.revoke_tokens(connection, account_id, ctx.clock.wall())
        _record_edit(ctx, connection, account, values, revoked)
        return or_not_found(store.one(connection, account_id), "account", account_id)


def one(ctx: Context, account_id: int) -> AccountRow:
    """One account. Raises NotFound."""
    with ctx.reading() as connection:
        return or_not_found(store.one(connection, account_id), "account", account_id)


def version_of(account: AccountRow) -> str:
    """What tells an account from what it was before an edit, or will be after one."""
    told = (account.name, account.role, account.source_id, account.disabled_at)
    return blake2b(repr((*told, account.password_hash)).encode(), digest_size=12).hexdigest()


def _keep_an_administrator(ctx: Context, account_id: int, administrators: list[int]) -> None:
    if account_id == ctx.actor.account_id:
        raise Conflict(
            "own_account",
            "You cannot disable your own account or take your own role away.",
            "Let another administrator do it.",
        )
    if ctx.actor.account_id is not None and ctx.actor.account_id not in administrators:
        raise NotAllowed(
            "role_too_low",
            "You are no administrator any more: another one has just changed your account.",
            "Ask an administrator.",
        )
    if administrators == [account_id]:
        raise Conflict(
            "last_administrator",
            "This is the last administrator who can sign in.",
            "Make another administrator first.",
        )


def _record_edit(
    ctx: Context,
    connection: Connection,
    account: AccountRow,
    values: dict[str, Any],
    revoked: list[str],
) -> None:
    changes = []
    if values["role"] != account.role:
        changes.append(f"role {account.role} → {values['role']}")
    if values.get("source_id"):
        changes.append("signs in by a directory")
    elif "password_hash" in values:
        changes.append("a new password")
    if "disabled_at" in values:
        changes.append("disabled" if values["disabled_at"] else "enabled")
    if revoked:
        changes.append(f"{plural(len(revoked), 'token')} revoked")
    disabled = bool(values.get("disabled_at", account.disabled_at))
    ctx.record(
        connection,
        "account.edit",
        "account",
        f"Account {account.name} changed: {', '.join(changes) or 'saved as it was'}",
        subject_id=account.id,
        before={"role": account.role, "disabled": account.disabled_at is not None},
        after={
            "role": values["role"],
            "disabled": disabled,
            "new_password": bool(values.get("password_hash")),
            "by_directory": bool(values.get("source_id", account.source_id)),
            "revoked_tokens": revoked,
        },
    )


def change_own_password(
    ctx: Context, current: str, fresh: str, session: str | None, keep_tokens: bool
) -> None:
    """Set one's own password: the other sessions end, and tokens unless they are to stay."""
    _require_password_session(ctx)
    with ctx.reading() as connection:
        account = or_not_found(
            store.one(connection, ctx.actor.account_id or 0), "account", ctx.actor.name
        )
    if account.password_hash is None:
        raise Conflict(
            "other_password",
            "This account signs in with the password of a directory.",
            "Change it there.",
        )
    if not _verify(account.password_hash, current):
        raise NotAllowed("wrong_password", "The present password is not right.", "Type it again.")
    check_password(account.name, fresh)
    hashed = _HASHER.hash(fresh)
    with ctx.changing() as connection:
        store.change(connection, account.id, {"password_hash": hashed})
        kept = hash_secret(session) if session else None
        store.close_sessions(connection, account.id, except_hash=kept)
        revoked = []
        if not keep_tokens:
            revoked = store.revoke_tokens(connection, account.id, ctx.clock.wall())
        _record_edit(
            ctx, connection, account, {"role": account.role, "password_hash": hashed}, revoked
        )


def recover(ctx: Context, name: str, password: str) -> int:
    """Let an administrator in again, or make one, by whoever can reach the database: with a new
    password, enabled, all sessions and tokens ended.
    """
    kept, hashed = _new(name, password)
    with ctx.changing() as connection:
        account = store.by_name(connection, kept)
        if account is None:
            return _add(ctx, connection, kept, hashed, Role.ADMINISTRATOR)
        values = {
            "role": Role.ADMINISTRATOR,
            "password_hash": hashed,
            "source_id": None,
            "disabled_at": None,
        }
        store.change(connection, account.id, values)
        store.close_sessions(connection, account.id)
        revoked = store.revoke_tokens(connection, account.id, ctx.clock.wall())
        _record_edit(ctx, connection, account, values, revoked)
        return account.id


def every(ctx: Context) -> list[AccountRow]:
    """All accounts."""
    with ctx.reading() as connection:
        return store.every(connection)


def _require_password_session(ctx: Context) -> None:
    """A token that leaked must not make itself a longer life."""
    if ctx.actor.by_token or ctx.actor.account_id is None:
        raise NotAllowed(
            "password_needed",
            "A token cannot do this; it takes a session that was opened with the password.",
            "Sign in with the account's password.",
        )


def add_token(
    ctx: Context, name: str, role: Role, days: int, purpose: Purpose = Purpose.INTERFACE
) -> tuple[int, str]:
    """A new token's id and its secret, which is shown this once."""
    _require_password_session(ctx)
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
            f"Token {name} added as {role} for {plural(days, 'day')}",
            subject_id=token_id,
            after={"name": name, "role": role, "days": days, "purpose": purpose},
        )
    return token_id, secret


def _whose(ctx: Context, account_id: int | None) -> int:
    """The account whose sessions or tokens are meant: one's own, or for administrators any."""
    own = ctx.actor.account_id or 0
    if account_id is None or account_id == own:
        return own
    if not may(ctx.actor.role, Permission.ADMINISTER):
        raise NotAllowed(
            "role_too_low",
            "Only an administrator sees and ends the sessions and tokens of another account.",
            "Ask an administrator.",
        )
    return account_id


def sessions(ctx: Context, account_id: int | None) -> list[SessionRow]:
    """The living sessions of an account; None: one's own."""
    whose = _whose(ctx, account_id)
    idle = timedelta(hours=ctx.limits.session_idle_hours)
    with ctx.reading() as connection:
        or_not_found(store.one(connection, whose), "account", whose)
        return store.sessions_of(connection, whose, ctx.clock.wall(), idle)


def end_session(ctx: Context, session_id: int, account_id: int | None) -> None:
    """End a session of an account at once."""
    whose = _whose(ctx, account_id)
    with ctx.changing() as connection:
        if not store.close_sessions(connection, whose, session_id=session_id):
            raise NotFound("session", session_id)
        account = or_not_found(store.one(connection, whose), "account", whose)
        words = f"Session {session_id} of {account.name} ended"
        ctx.record(connection, "session.end", "account", words, subject_id=whose)


def tokens(ctx: Context, account_id: int | None) -> list[TokenRow]:
    """The living tokens of an account; None: one's own."""
    whose = _whose(ctx, account_id)
    with ctx.reading() as connection:
        or_not_found(store.one(connection, whose), "account", whose)
        return store.tokens_of(connection, whose)


def token(ctx: Context, token_id: int, account_id: int | None) -> TokenRow:
    """One living token of an account; None: one's own. Raises NotFound."""
    found = next((row for row in tokens(ctx, account_id) if row.id == token_id), None)
    return or_not_found(found, "token", token_id)


def revoke_token(ctx: Context, token_id: int, account_id: int | None) -> None:
    """End a token of an account at once."""
    whose = _whose(ctx, account_id)
    with ctx.changing() as connection:
        names = store.revoke_tokens(connection, whose, ctx.clock.wall(), token_id)
        if not names:
            raise NotFound("token", token_id)
        ctx.record(
            connection, "token.revoke", "token", f"Token {names[0]} revoked", subject_id=token_id
        )
