"""What a source is opened with: made here, taken in, tested, forgotten; never shown again."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from joserfc import jwe
from joserfc.errors import JoseError
from joserfc.jwk import RSAKey

from sortitor.core import source_tokens as tokens
from sortitor.core.errors import BadInput, Conflict
from sortitor.core.previews import plural
from sortitor.core.sources import OPENED_WITH, Source
from sortitor.core.vocabulary import SecretKind, SourceKind
from sortitor.operations.context import Context
from sortitor.operations.documents import Key
from sortitor.operations.sources import certificates
from sortitor.operations.sources.documents import SOURCES, is_elsewhere
from sortitor.operations.sources.ports import Looked
from sortitor.operations.sources.secrets import secrets_of
from sortitor.store import kits, passwords
from sortitor.store import sources as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection

#: What a token may be encrypted with (RFC 7518 §4.3, §5.3): nothing that is known to be weak.
_ALGORITHMS = ["RSA-OAEP-256", "A256GCM", "A128GCM"]
_MOST_BYTES = 64_000


@dataclass(frozen=True, slots=True)
class Accepted:
    """What was made of something that was given, in sentences."""

    kind: SecretKind
    words: tuple[str, ...]
    ends_at: datetime | None


def make_key(ctx: Context, key: Key) -> bytes:
    """Make a key pair for a registry; gives the certificate that is taken there. The key in use
    stays in use until the registry has answered.
    """
    with ctx.reading() as connection:
        kept = _of_kind(connection, key, SecretKind.KEY)
    private = certificates.new_key()
    common = f"Sortitor {kept.document.name}"
    pem = certificates.own_certificate(private, common, "Sortitor", ctx.now)
    read = certificates.read_certificate(pem, ctx.now)
    with ctx.changing() as connection:
        kept = _of_kind(connection, key, SecretKind.KEY)
        about = {"certificate": pem.decode(), "fingerprint": read.fingerprint}
        _put(ctx, connection, kept, SecretKind.KEY, private, about, read.ends_at, waiting=True)
        _record(ctx, connection, kept, "a key pair was made")
    return pem


def certificate(ctx: Context, key: Key) -> bytes:
    """The certificate that is to be taken to the registry: that of the key that waits, else of the
    one in use.
    """
    with ctx.reading() as connection:
        kept = _of_kind(connection, key, SecretKind.KEY)
        found = _keys(connection, kept.id)
        if not found:
            raise Conflict("no_key", "No key pair was made yet.", "Make one first.")
        return str(found[0].about["certificate"]).encode()


def request(ctx: Context, key: Key) -> bytes:
    """A certificate signing request for the key that waits, else for the one in use."""
    with ctx.reading() as connection:
        kept = _of_kind(connection, key, SecretKind.KEY)
        found = _keys(connection, kept.id)
        if not found:
            raise Conflict("no_key", "No key pair was made yet.", "Make one first.")
        private = ctx.vault.open(found[0].sealed)
    return certificates.signing_request(private, f"Sortitor {kept.document.name}", "Sortitor")


def _keys(connection: Connection, source_id: int) -> list[store.SecretRow]:
    """The keys of a source, the one that waits first."""
    found = [row for row in store.secrets(connection, source_id) if row.kind is SecretKind.KEY]
    return sorted(found, key=lambda row: not row.waiting)


def take(ctx: Context, key: Key, given: str, kind: SecretKind | None = None) -> Accepted:
    """Take in what somebody pastes or drops: a registry's token, a signed certificate, a key file,
    a password; what it is, is seen by its form. Raises BadInput that says what is wrong with it.
    """
    text = given.strip()
    if not text:
        raise BadInput("empty", "Nothing was given.", "Paste it, or choose the file.")
    if len(text.encode()) > _MOST_BYTES:
        raise BadInput("too_long", "This is longer than any credential.", "Give the right file.")
    with ctx.changing() as connection:
        kept = SOURCES.find(connection, key, lock=True)
        allowed = OPENED_WITH[kept.document.kind]
        if not allowed:
            raise _unwanted(kept.document)
        if text.count(".") == 4 and SecretKind.KEY in allowed:
            return _take_token(ctx, connection, kept, text)
        if "-----BEGIN" in text and SecretKind.KEY in allowed:
            return _take_certificate(ctx, connection, kept, text)
        if text.startswith("{") and SecretKind.TOKEN in allowed:
            return _take_key_file(ctx, connection, kept, text)
        if SecretKind.KEY in allowed:
            raise BadInput(
                "not_recognised",
                "This is no token of a registry, no certificate and no key file.",
                "A registry's token is one long line of five parts with points between them.",
            )
        return _take_plain(ctx, connection, kept, kind or allowed[0], given)


def _take_plain(
    ctx: Context, connection: Connection, kept: Kept[Source], kind: SecretKind, given: str
) -> Accepted:
    if kind not in OPENED_WITH[kept.document.kind]:
        raise _unwanted(kept.document)
    secret = given.strip("\r\n").encode()
    _put(ctx, connection, kept, kind, secret, {}, None)
    _record(ctx, connection, kept, f"a {kind} was given")
    return Accepted(kind, (f"The {kind} is kept, encrypted.",), None)


def _take_key_file(ctx: Context, connection: Connection, kept: Kept[Source], text: str) -> Accepted:
    found = tokens.read_key_file(text)
    if found.address.rstrip("/") != (kept.document.address or "").rstrip("/"):
        raise BadInput(
            "another_address",
            f"This key file is for {found.address}; the source is at {kept.document.address}.",
            "Take the right file, or correct the source's address first.",
        )
    if found.ends_at <= ctx.now:
        raise BadInput(
            "key_file_ended",
            f"This key file ended on {found.ends_at:%Y-%m-%d}.",
            "Ask for a new one.",
        )
    _put(ctx, connection, kept, SecretKind.TOKEN, found.token.encode(), {}, found.ends_at)
    _record(ctx, connection, kept, "a key file was given")
    words = (f"A key file, good until {found.ends_at:%Y-%m-%d}.",)
    return Accepted(SecretKind.TOKEN, words, found.ends_at)


def _take_token(ctx: Context, connection: Connection, kept: Kept[Source], text: str) -> Accepted:
    """A registry's token, encrypted for a key that was made here (JWE, RFC 7516). Whether it is the
    key that waits or the one in use, it is in use from now on.
    """
    keys = _keys(connection, kept.id)
    if not keys:
        raise Conflict(
            "no_key",
            "No key pair was made here, so no token can be for it.",
            "Make a key pair, take its certificate to the registry, and come back with its token.",
        )
    for row in keys:
        claims = _decrypted(ctx.vault.open(row.sealed), text)
        if claims is not None:
            break
    else:
        raise BadInput(
            "token_of_another_key",
            "This token was encrypted for another key.",
            "Take the certificate that is shown here to the registry, and let it make a new one.",
        )
    opened = tokens.read_claims(claims, ctx.now)
    former = next(
        (one for one in store.secrets(connection, kept.id) if one.kind is SecretKind.TOKEN), None
    )
    tokens.require_newer(opened, former.about if former else None)
    if row.waiting:
        private = ctx.vault.open(row.sealed)
        store.drop_secrets(connection, kept.id, [SecretKind.KEY], waiting=True)
        _put(ctx, connection, kept, SecretKind.KEY, private, row.about, row.ends_at)
    secret = opened.secret.encode()
    _put(ctx, connection, kept, SecretKind.TOKEN, secret, opened.about, opened.ends_at)
    _record(ctx, connection, kept, f"a token was taken in, good until {opened.ends_at:%Y-%m-%d}")
    words = (
        f"A token of {opened.issuer} for {opened.server}.",
        f"It is good until {opened.ends_at:%Y-%m-%d}.",
    )
    return Accepted(SecretKind.TOKEN, words, opened.ends_at)


def _decrypted(private: bytes, text: str) -> bytes | None:
    """What a token holds, or None where it is for another key."""
    try:
        key = RSAKey.import_key(private)
        return jwe.decrypt_compact(text, key, algorithms=_ALGORITHMS).plaintext
    except (JoseError, ValueError):
        return None


def _take_certificate(
    ctx: Context, connection: Connection, kept: Kept[Source], text: str
) -> Accepted:
    """A signed certificate for a key that was made here."""
    read = certificates.read_certificate(text.encode(), ctx.clock.wall())
    for row in _keys(connection, kept.id):
        if certificates.belongs(read, ctx.vault.open(row.sealed)):
            break
    else:
        raise BadInput(
            "certificate_of_another_key",
            f"This certificate ({read.subject}) is of another key.",
            "Let the signing request that is shown here be signed.",
        )
    about = {
        **row.about,
        "certificate": read.pem.decode(),
        "fingerprint": read.fingerprint,
        "issuer": read.issuer,
    }
    _put(
        ctx,
        connection,
        kept,
        SecretKind.KEY,
        ctx.vault.open(row.sealed),
        about,
        read.ends_at,
        waiting=row.waiting,
    )
    _record(ctx, connection, kept, f"a certificate was taken in, good until {read.ends_at:%F}")
    words = (f"A certificate by {read.issuer}, good until {read.ends_at:%F}.", *read.remarks)
    return Accepted(SecretKind.CERTIFICATE, words, read.ends_at)


def forget(ctx: Context, key: Key, kind: SecretKind, reason: str | None) -> None:
    """Forget what a source is opened with."""
    with ctx.changing() as connection:
        kept = SOURCES.find(connection, key, lock=True)
        gone = store.drop_secrets(connection, kept.id, [kind], waiting=False)
        gone += store.drop_secrets(connection, kept.id, [kind], waiting=True)
        if not gone:
            raise Conflict("no_secret", f"There is no {kind} to forget.", "Nothing has to be done.")
        _record(ctx, connection, kept, f"the {kind} was forgotten", reason)


def look(ctx: Context, key: Key, proposed: Source | None = None) -> Looked:
    """Whether a source can be reached and opened; with up to three real entries. With `proposed`,
    as that document says; what opens the source is shown to no other place.
    """
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
        document = kept.document
        secrets = secrets_of(ctx, connection, kept.id)
    if proposed is not None:
        proposed.check()
        if is_elsewhere(document, proposed):
            secrets = {}
        document = proposed
    if document.kind is SourceKind.PUSH or document.address is None:
        raise Conflict(
            "not_asked", f"“{document.name}” is told, not asked.", "There is nothing to test."
        )
    return ctx.outside.look(document, secrets)


def renew_all(ctx: Context) -> int:
    """Encrypt every kept secret with the first key of the key file; gives how many there are."""
    with ctx.changing() as connection:
        rows = store.secrets(connection)
        for row in rows:
            store.reseal(connection, row.id, ctx.vault.renew(row.sealed))
        inside = kits.secrets(connection)
        for mark, sealed in inside.items():
            kits.reseal(connection, mark, ctx.vault.renew(sealed))
        kept = passwords.every(connection)
        for one in kept:
            former = None if one.former is None else ctx.vault.renew(one.former)
            passwords.reseal(connection, one.device_id, ctx.vault.renew(one.sealed), former)
        number = len(rows) + len(inside) + len(kept)
        if number:
            said = f"{plural(number, 'secret')} of sources, items and devices encrypted anew"
            ctx.record(connection, "secrets.renew", "source", said)
        return number


def _of_kind(connection: Connection, key: Key, kind: SecretKind) -> Kept[Source]:
    kept = SOURCES.find(connection, key)
    if kind not in OPENED_WITH[kept.document.kind]:
        raise _unwanted(kept.document)
    return kept


def _unwanted(source: Source) -> Conflict:
    wanted = ", ".join(OPENED_WITH[source.kind])
    return Conflict(
        "not_opened_so",
        f"A {source.kind} is not opened with this.",
        f"It takes a {wanted}." if wanted else "Its provider has a token of its own.",
    )


def _put(
    ctx: Context,
    connection: Connection,
    kept: Kept[Source],
    kind: SecretKind,
    secret: bytes,
    about: dict[str, Any],
    ends_at: datetime | None,
    waiting: bool = False,
) -> None:
    store.put_secret(
        connection,
        {
            "source_id": kept.id,
            "kind": kind,
            "sealed": ctx.vault.seal(secret),
            "about": about,
            "ends_at": ends_at,
            "made_at": ctx.now,
            "made_by": ctx.actor.name,
            "waiting": waiting,
        },
    )


def _record(
    ctx: Context,
    connection: Connection,
    kept: Kept[Source],
    what: str,
    reason: str | None = None,
) -> None:
    ctx.record(
        connection,
        "source.secret",
        "source",
        f"“{kept.document.name}”: {what}",
        subject_id=kept.id,
        reason=reason,
    )
