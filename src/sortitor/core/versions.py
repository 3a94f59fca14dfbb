"""OS versions, compared by their numeric components."""

from __future__ import annotations

import re

_VERSION = re.compile(r"[0-9]{1,9}(\.[0-9]{1,9}){0,7}")


def is_version(text: str) -> bool:
    """Whether it is 1 to 8 numbers joined by dots."""
    return _VERSION.fullmatch(text.strip()) is not None


def components(text: str) -> tuple[int, ...]:
    """`"13.0.1"` → `(13, 0, 1)`. Raises ValueError for anything but 1–8 numbers joined by dots."""
    if not is_version(text):
        raise ValueError(
            f"{text!r} is not a version; write numbers joined by dots, such as 13 or 10.0.1"
        )
    return tuple(int(part) for part in text.strip().split("."))


def compare(left: str, right: str) -> int:
    """-1, 0 or 1 over all components; a missing component counts as 0, so 10 equals 10.0."""
    a, b = components(left), components(right)
    width = max(len(a), len(b))
    a, b = a + (0,) * (width - len(a)), b + (0,) * (width - len(b))
    return (a > b) - (a < b)


def _cut(version: str, bound: str) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Both as many components long as the bound states."""
    limit = components(bound)
    actual = components(version)
    return (actual + (0,) * len(limit))[: len(limit)], limit


def below(version: str, minimum: str) -> bool:
    """Whether `version` is older than `minimum`, compared over the components that the bound
    states.
    """
    actual, limit = _cut(version, minimum)
    return actual < limit


def above(version: str, maximum: str) -> bool:
    """Whether `version` is newer than `maximum`: max 13 admits 13.9, max 13.0 does not admit
    13.1.
    """
    actual, limit = _cut(version, maximum)
    return actual > limit
