"""One-time codes: six digits, for ten minutes and five tries."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable
from datetime import datetime, timedelta

LIFE = timedelta(minutes=10)
MOST_TRIES = 5
#: Before another one is sent to the same arrival.
PAUSE = timedelta(seconds=30)
#: For one arrival; whoever needs more begins anew.
MOST_CODES = 6
#: How long an arrival waits for what it was asked.
WAY_LIFE = timedelta(minutes=30)


def new_code(choice: Callable[[int], int]) -> str:
    """Six random digits."""
    return f"{choice(1_000_000):06d}"


def hash_code(code: str, arrival_id: int) -> bytes:
    """What is stored of a code."""
    return hashlib.sha256(f"code:{arrival_id}:{code}".encode()).digest()


def matches(typed: str, arrival_id: int, kept: bytes) -> bool:
    """Whether a typed code is the one that was sent; blanks and hyphens do not matter."""
    # The digits of every script mean the same.
    digits = "".join(str(int(sign)) for sign in typed if sign.isdecimal())
    return hmac.compare_digest(hash_code(digits, arrival_id), kept)


def is_living(sent_at: datetime, tries: int, now: datetime) -> bool:
    """Whether a code can still be typed."""
    return tries < MOST_TRIES and now < sent_at + LIFE
