"""The chain over the journal: each digest covers an entry and the digest before it, so that nothing
can be changed, left out or put in between without a trace.

A digest is SHA-256 over the one before and the entry as canonical JSON (RFC 8785).
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import rfc8785

#: What the first entry is chained to.
BEGINNING = bytes(32)
_SAFE = 2**53 - 1


def next_digest(previous: bytes, entry: Mapping[str, Any]) -> bytes:
    """The digest of an entry after the digest before it. entry: its columns, and
    `effects_sha256`, hex digests of what it did to devices.
    """
    return hashlib.sha256(previous + rfc8785.dumps(_plain(entry))).digest()


def _plain(value: Any) -> Any:
    """JSON that every reader takes for the same: moments in UTC, numbers that a double holds."""
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat(timespec="microseconds")
    if isinstance(value, Mapping):
        return {str(key): _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    if isinstance(value, int) and not isinstance(value, bool) and abs(value) > _SAFE:
        return str(value)
    return value
