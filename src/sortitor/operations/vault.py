"""The vault: what other systems are opened with, encrypted at rest (Fernet: AES-CBC with
HMAC-SHA-256), readable by the installation's own key file alone.
"""

from __future__ import annotations

import hmac
from collections.abc import Callable, Sequence

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

from sortitor.core.errors import Conflict


class Vault:
    """Encrypts with the first of its keys and opens with any of them, so that keys can be
    changed.
    """

    def __init__(
        self, keys: Sequence[bytes], again: Callable[[], Sequence[bytes]] | None = None
    ) -> None:
        self._keys = _several(keys)
        self._first = keys[0]
        self._again = again

    def seal(self, secret: bytes) -> bytes:
        """A secret as it is kept."""
        return self._keys.encrypt(secret)

    def open(self, sealed: bytes) -> bytes:
        """A kept secret in clear. Raises Conflict where its key is gone."""
        return self._with_keys(lambda keys: keys.decrypt(sealed))

    def mark(self, secret: bytes) -> str:
        """By which a secret is known again without telling it (HMAC-SHA-256, RFC 2104)."""
        return hmac.new(self._first, secret, "sha256").hexdigest()[:24]

    def renew(self, sealed: bytes) -> bytes:
        """A kept secret under the first key. Raises Conflict where its key is gone."""
        return self._with_keys(lambda keys: keys.rotate(sealed))

    def _with_keys(self, act: Callable[[MultiFernet], bytes]) -> bytes:
        try:
            return act(self._keys)
        except InvalidToken as error:
            if self._again is None:
                raise _lost() from error
        # The keys may have been changed while this process ran.
        self._keys = _several(self._again())
        try:
            return act(self._keys)
        except InvalidToken as error:
            raise _lost() from error


def _several(keys: Sequence[bytes]) -> MultiFernet:
    return MultiFernet([Fernet(key) for key in keys])


def _lost() -> Conflict:
    return Conflict(
        "secret_unreadable",
        "This credential was encrypted with a key that is not in the key file.",
        "Bring the key file back from a backup, or give the credential again.",
    )


def new_key() -> bytes:
    """A key for a vault, as a line of its file."""
    return Fernet.generate_key()
