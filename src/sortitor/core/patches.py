"""A change that names what becomes another, and leaves the rest (RFC 7396)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def patched(value: Any, patch: Any) -> Any:
    """The value with what the patch names: null removes a member, an object changes the members of
    one, anything else takes its place (RFC 7396 §2).
    """
    if not isinstance(patch, Mapping):
        return patch
    told = dict(value) if isinstance(value, Mapping) else {}
    for key, part in patch.items():
        if part is None:
            told.pop(key, None)
        else:
            told[key] = patched(told.get(key), part)
    return told
