"""The vault: what other systems are opened with, encrypted at rest (Fernet: AES-CBC with
HMAC-SHA-256), readable by the installation's own key file alone.
"""

from __future__ import annotations

from collections.abc import Sequence

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

from sortitor.core.errors import Conflict


class Vault:
    """Encrypts with the first of its keys and opens with any of them, so that keys can be
    changed.
    """

    def __init__(self, keys: Sequence[bytes]) -> None:
        self._keys = MultiFernet([Fernet(key) for key in keys])

    def seal(self, secret: bytes) -> bytes:
        """A secret as it is kept."""
        return self._keys.encrypt(secret)

    def open(self, sealed: bytes) -> bytes:
        """A kept secret in clear. Raises Conflict where its key is gone."""
        try:
            return self._keys.decrypt(sealed)
        except InvalidToken as error:
            raise _lost() from error

    def renew(self, sealed: bytes) -> bytes:
        """A kept secret under the first key. Raises Conflict where its key is gone."""
        try:
            return self._keys.rotate(sealed)
        except InvalidToken as error:
            raise _lost() from error


def _lost() -> Conflict:
    return Conflict(
        "secret_unreadable",
        "This credential was encrypted with a key that is not in the key file.",
        "Bring the key file back from a backup, or give the credential again.",
    )


def new_key() -> bytes:
    """A key for a vault, as a line of its file."""
    return Fernet.generate_key()
