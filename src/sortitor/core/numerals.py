"""Whole numbers that strangers write."""

from __future__ import annotations

#: Whatever they are, the database holds so many (a bigint of PostgreSQL).
_MOST_DIGITS = 18


def number_in(text: str) -> int | None:
    """The number that a text of ASCII digits is; None for any other text, and for more digits than
    the database holds. Python itself takes `²` for a digit, and fails at numbers of 4,300.
    """
    is_one = text.isascii() and text.isdecimal() and len(text) <= _MOST_DIGITS
    return int(text) if is_one else None
