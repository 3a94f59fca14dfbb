"""What is known of a device, as the text that a template takes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from typing import Any

from sortitor.core.naming.templates import FIELDS, TAG


def texts_of(facts: Mapping[str, Any], fields: Iterable[str]) -> dict[str, str | None]:
    """Field → text or None, from the facts of one device (attribute → value, as filters know it).
    Of several values the first in order counts.
    """
    return {field: text_of(facts, field) for field in fields}


def text_of(facts: Mapping[str, Any], field: str) -> str | None:
    """One field's text."""
    if field.startswith(TAG):
        return tagged(facts.get("tags") or (), field.removeprefix(TAG))
    value = facts.get(FIELDS[field])
    if isinstance(value, list | tuple):
        value = min(value, default=None)
    if isinstance(value, date):
        return value.isoformat()
    return str(value) if value not in (None, "") else None


def tagged(tags: Iterable[str], prefix: str) -> str | None:
    """What follows the prefix and a colon in the first tag that begins so."""
    beginning = f"{prefix}:".lower()
    for tag in tags:
        if tag.lower().startswith(beginning) and len(tag) > len(beginning):
            return tag[len(beginning) :]
    return None
