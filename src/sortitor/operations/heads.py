"""The end of the journal's chain, signed for whoever wants to prove later that it still holds."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from joserfc import jws
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from sortitor.core.errors import BadInput
from sortitor.core.seals import BEGINNING
from sortitor.operations.context import Context
from sortitor.store import seals as store


@dataclass(frozen=True, slots=True)
class Head:
    """The end of the chain, and how many entries wait for their seal."""

    place: int
    entry_id: int | None
    digest: str
    sealed_at: datetime | None
    waiting: int
    signed: str
    key: dict[str, Any]


def head(ctx: Context, seed: bytes) -> Head:
    """The end of the chain, signed (JWS, RFC 7515, with Ed25519): whoever keeps it can prove later
    that nothing up to there was changed.
    """
    with ctx.reading() as connection:
        end = store.last(connection)
        waiting = store.count_unsealed(connection)
    digest = (end.digest if end else BEGINNING).hex()
    told = {
        "place": end.place if end else 0,
        "entry_id": end.entry_id if end else None,
        "digest": digest,
        "at": ctx.clock.wall().isoformat(timespec="seconds"),
    }
    return Head(
        place=end.place if end else 0,
        entry_id=end.entry_id if end else None,
        digest=digest,
        sealed_at=end.sealed_at if end else None,
        waiting=waiting,
        **signed(json.dumps(told), seed),
    )


def check_head(ctx: Context, signed: str, seed: bytes) -> str | None:
    """What stands against a head that was given out earlier: why the chain does not hold it, or
    None. Raises BadInput for one that this installation did not sign.
    """
    try:
        found = jws.deserialize_compact(signed.strip(), _key(seed), algorithms=["Ed25519"])
        told = json.loads(found.payload)
        place, digest = int(told["place"]), str(told["digest"])
    except (JoseError, ValueError, KeyError, TypeError) as error:
        raise BadInput(
            "bad_head",
            "This head was not signed by this installation, or was changed.",
            "Give the file as `sortitor journal head` wrote it.",
        ) from error
    if place == 0:
        return None
    with ctx.reading() as connection:
        kept = store.at(connection, place)
    if kept is None:
        return f"Place {place}, which was signed, is missing."
    if kept.digest.hex() != digest:
        return f"Place {place} has another digest than the one that was signed."
    return None


def signed(text: str, seed: bytes) -> dict[str, Any]:
    """A text signed as the head of the chain is, and the key with which to check it."""
    key = _key(seed)
    header = {"alg": "Ed25519", "kid": key.thumbprint()}
    compact = jws.serialize_compact(header, text, key, algorithms=["Ed25519"])
    return {"signed": compact, "key": dict(key.as_dict(private=False))}


def _key(seed: bytes) -> OKPKey:
    private = Ed25519PrivateKey.from_private_bytes(seed)
    pem = private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return OKPKey.import_key(pem)
