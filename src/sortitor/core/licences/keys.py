"""The public keys of an issuer: a JWK Set (RFC 7517) of Ed25519 keys (RFC 8037)."""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from collections.abc import Mapping
from typing import Any

from sortitor.core.errors import BadInput
from sortitor.core.json_texts import json_in

_MOST_KEYS = 50
_MOST_CHARACTERS = 200
_LENGTH = 32


def keys_of(content: bytes) -> dict[str, dict[str, str]]:
    """Number (`kid`) → public key. A key without a number goes by its thumbprint (RFC 7638); keys
    of other kinds are passed over. Raises BadInput for what is no JWK Set, holds no key that can
    sign vouchers, or gives a private key away.
    """
    try:
        found = json_in(content)
        listed = found["keys"]
    except (ValueError, KeyError, TypeError) as error:
        raise BadInput(
            "no_keys", "This is no JWK Set (RFC 7517).", "Take the issuer's public keys."
        ) from error
    if not isinstance(listed, list) or len(listed) > _MOST_KEYS:
        raise BadInput(
            "no_keys", f"A JWK Set has a list of up to {_MOST_KEYS} keys.", "Ask the issuer."
        )
    keys = {}
    for one in listed:
        if not isinstance(one, Mapping) or one.get("kty") != "OKP" or one.get("crv") != "Ed25519":
            continue
        if "d" in one:
            raise BadInput(
                "private_key",
                "A private key is among them: whoever has it can make vouchers.",
                "Tell the issuer, and take keys that were made anew.",
            )
        if one.get("use", "sig") != "sig":
            continue
        key = {"kty": "OKP", "crv": "Ed25519", "x": _checked(one.get("x"))}
        kid = one.get("kid") or _thumbprint(key)
        if not isinstance(kid, str) or len(kid) > _MOST_CHARACTERS or kid in keys:
            raise BadInput("bad_key", "Two keys have one number.", "Ask the issuer.")
        keys[kid] = key
    if not keys:
        raise BadInput(
            "no_keys",
            "There is no Ed25519 key among them, with which vouchers are signed.",
            "Ask the issuer for its public keys.",
        )
    return keys


def _checked(x: Any) -> str:
    try:
        raw = base64.urlsafe_b64decode(f"{x}=" if isinstance(x, str) else b"!")
    except (binascii.Error, ValueError):
        raw = b""
    if len(raw) != _LENGTH:
        raise BadInput("bad_key", "A key among them is not of 32 bytes.", "Ask the issuer.")
    return str(x)


def _thumbprint(key: Mapping[str, str]) -> str:
    canonical = json.dumps(key, sort_keys=True, separators=(",", ":")).encode()
    return base64.urlsafe_b64encode(hashlib.sha256(canonical).digest()).rstrip(b"=").decode()
