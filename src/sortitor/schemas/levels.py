"""Levels: how the systems disagree, and what is done about it."""

from __future__ import annotations

from datetime import date

from pydantic import Field

from sortitor.core.vocabulary import Gap, GapState, Mend
from sortitor.schemas.base import Answer, Day, Request, Text, Time


class LevelRoster(Answer):
    """One system beside the others: how many devices it knows, and when it said so."""

    key: str
    name: str
    devices: int
    good_at: Time | None


class Pattern(Answer):
    """Which systems know how many of the same devices: bit n of the mask is the n-th roster."""

    mask: int
    devices: int


class GapCount(Answer):
    """How many disagreements of a kind with a source are in a state, and since when the oldest."""

    source_id: int
    source: str
    kind: Gap
    title: str
    state: GapState
    count: int
    since_at: Time


class Levels(Answer):
    """The comparison as it was last made."""

    at: Time | None
    rosters: list[LevelRoster]
    patterns: list[Pattern]
    gaps: list[GapCount]


class PresentDevice(Answer):
    """One device of a pattern; without a number here it is known only there."""

    device_id: int | None
    name: str | None
    serial: str | None
    model: str | None
    stage: str | None
    site: str | None


class Piece(Answer):
    """A piece of a number, and whether it differs from the other one."""

    text: str
    differs: bool


class Discrepancy(Answer):
    """One disagreement under a key that stays over the runs."""

    id: int
    key: str
    kind: Gap
    title: str
    source_id: int
    source: str
    label: str
    device_id: int | None
    device_name: str | None
    stage: str | None
    serial: str | None
    their_serial: str | None
    their_model: str | None
    field: str | None
    ours: str | None
    theirs: str | None
    near_id: int | None
    near_name: str | None
    near_percent: int | None = Field(description="How sure it is that both are one device.")
    near_ours: list[Piece] = Field(description="The similar device's serial number in pieces.")
    near_theirs: list[Piece] = Field(description="The source's serial number in pieces.")
    state: GapState
    until_on: date | None
    owner: str | None
    note: str | None
    first_at: Time
    seen_at: Time
    closed_at: Time | None
    done_at: Time | None
    done_by: str | None


class GapSelection(Request):
    """Which disagreements are meant: by number, or all of a kind, a source, a state, an owner."""

    ids: list[int] = Field(default=[], max_length=10_000)
    kind: Gap | None = None
    source_id: int | None = None
    state: GapState | None = None
    owner: Text | None = None
    device_id: int | None = None
    near_only: bool = False


class GapDecision(Request):
    """What is decided about disagreements; what is not said stays. An empty text takes owner or
    note away.
    """

    which: GapSelection
    state: GapState | None = None
    until_on: Day | None = None
    owner: str | None = Field(default=None, max_length=200)
    note: str | None = Field(default=None, max_length=2_000)
    reason: str | None = Field(default=None, max_length=500)


class Decided(Answer):
    """How many disagreements a decision was about."""

    count: int


class MendAsked(Request):
    """What is to close which disagreements."""

    which: GapSelection
    mend: Mend


class MendApply(MendAsked):
    """The same, as previewed."""

    digest: Text
    reason: str | None = Field(default=None, max_length=500)


class LevelDay(Answer):
    """How many disagreements of a kind stood open at the end of a day."""

    on_day: date
    kind: Gap
    open: int
