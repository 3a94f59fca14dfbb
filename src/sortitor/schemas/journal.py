"""The journal."""

from __future__ import annotations

from typing import Any

from sortitor.schemas.base import Answer, Time


class Entry(Answer):
    """One change: who, when, what, why, before and after."""

    id: int
    at: Time
    actor: str
    request_id: str | None
    operation: str
    subject: str
    subject_id: int | None
    summary: str
    reason: str | None
    before: Any
    after: Any
    reverts: int | None
    reverted_by: int | None
    touches_devices: bool


class Effect(Answer):
    """What an entry did to one device; `before` null: created, `after` null: removed."""

    device_id: int
    before: dict[str, Any] | None
    after: dict[str, Any] | None


class EntryDetail(Entry):
    """An entry with its first hundred effects."""

    effects: list[Effect]


class Reverted(Answer):
    """The entry that took the change back."""

    entry_id: int
