"""The installation's own key: a file of random bytes, from which every other key is made."""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
from contextlib import suppress
from pathlib import Path

from sortitor.core.errors import SortitorError
from sortitor.operations.vault import Vault, new_key

_BYTES = 32


def installation_key(file: Path) -> bytes:
    """The key in a file, which is made when there is none. Several processes share it."""
    file.parent.mkdir(parents=True, exist_ok=True)
    # Only one of several that start at once makes it.
    with suppress(FileExistsError):
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as stream:
            stream.write(secrets.token_hex(_BYTES))
    try:
        key = bytes.fromhex(file.read_text().strip())
    except (OSError, ValueError) as error:
        raise _unreadable(file) from error
    if len(key) != _BYTES:
        raise _unreadable(file)
    return key


def vault_keys(file: Path) -> list[bytes]:
    """The keys of the sources' credentials, newest first; one is made when there is none."""
    file.parent.mkdir(parents=True, exist_ok=True)
    with suppress(FileExistsError):
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as stream:
            stream.write(new_key() + b"\n")
    try:
        keys = file.read_bytes().split()
        Vault(keys)
    except (OSError, ValueError) as error:
        raise SortitorError(
            "bad_key",
            f"{file} holds no keys of credentials.",
            "Bring the file back from a backup; without it every source needs its credential anew.",
        ) from error
    return keys


def add_vault_key(file: Path) -> None:
    """Put a new key before the others, whole or not at all."""
    keys = [new_key(), *vault_keys(file)]
    beside = file.with_suffix(".new")
    beside.touch(mode=0o600)
    beside.write_bytes(b"\n".join(keys) + b"\n")
    beside.replace(file)


def derived(key: bytes, purpose: str) -> bytes:
    """A key of 32 bytes for one purpose (HMAC-SHA-256 as the expansion of RFC 5869 with one
    block).
    """
    return hmac.digest(key, purpose.encode() + b"\x01", hashlib.sha256)


def _unreadable(file: Path) -> SortitorError:
    return SortitorError(
        "bad_key",
        f"{file} holds no key of {_BYTES} bytes.",
        "Bring the file back from a backup. Without it the journal's head cannot be signed as"
        " before; remove it only to begin a new key.",
    )
