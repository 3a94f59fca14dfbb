"""The journal."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from sortitor.schemas.base import Answer, Change, Request, Time


class Entry(Answer):
    """One change: who, when, what, why, before and after."""

    id: int
    at: Time
    recorded_at: Time = Field(
        description="Real time; `at` is the business's clock, which may be frozen."
    )
    actor: str
    account_id: int | None = Field(description="The account's number; null for the service itself.")
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
    changes: list[Change] = Field(description="What it changed in a document, in words.")


class Effect(Answer):
    """What an entry did to one device; `before` null: created, `after` null: removed."""

    device_id: int
    label: str = Field(description="What people call the device.")
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    changes: list[Change] = Field(description="The same in words.")


class EntryDetail(Entry):
    """An entry with its first hundred effects."""

    effects: list[Effect]


class Head(Answer):
    """The end of the sealed chain. Keep `signed` (JWS, RFC 7515): it proves later that nothing up
    to there was changed.
    """

    place: int = Field(description="How many entries are sealed.")
    entry_id: int | None
    digest: str = Field(description="SHA-256, hexadecimal.")
    sealed_at: Time | None
    waiting: int = Field(description="Entries that wait for their seal.")
    signed: str
    key: dict[str, Any] = Field(description="The public key (JWK, RFC 7517).")


class Verification(Answer):
    """A part of the chain as it was checked."""

    place: int = Field(description="The last place that is right; go on after it.")
    digest: str
    checked: int
    over: bool
    broken_entry: int | None = Field(description="The first entry that is not what was sealed.")
    why: str


class HeadGiven(Request):
    """A head that was given out earlier."""

    signed: str = Field(max_length=4_000)


class HeadChecked(Answer):
    """Whether the chain still holds a head; `why` says what stands against it."""

    holds: bool
    why: str


class Reverted(Answer):
    """The entry that took the change back."""

    entry_id: int
