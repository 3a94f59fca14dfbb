"""Devices."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from pydantic import Field

from sortitor.core.vocabulary import Basis, IdentifierKind, Ownership, Stage
from sortitor.schemas.base import Answer, Apply, Change, Name, Request, Time
from sortitor.schemas.selection import Selection as Selection
from sortitor.schemas.sweeps import Hold


class Device(Answer):
    """A device as a line of a list. `idle_days` counts from its last sign of life."""

    id: int
    name: str | None
    stage: Stage
    platform: str | None
    os_version: str | None
    maker: str | None
    model: str | None
    ownership: Ownership
    person_id: int | None
    person_name: str | None
    site: str | None
    serial: str | None
    imei: str | None
    asset_tag: str | None
    flag: str | None
    retire_on: date | None = Field(description="Of a dormant device: when it is retired.")
    last_seen_at: Time | None
    idle_days: int
    columns: dict[str, str | None] | None = Field(
        default=None, description="The attributes asked for with `column`, as text."
    )


class Identifier(Answer):
    """One identifier, normalised and as given; masked for personal devices where the reader may not
    see it.
    """

    kind: IdentifierKind
    value: str
    given: str | None


class Fact(Answer):
    """One thing known of a device, with its basis: who says so."""

    field: str
    value: str
    basis: str


class CohortOfDevice(Answer):
    """A cohort that the device is in."""

    id: int
    name: str


class Happening(Answer):
    """One line of a device's timeline."""

    entry_id: int
    at: Time
    actor: str
    operation: str
    summary: str
    reason: str | None
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    changes: list[Change] = Field(description="The same in words.")
    reverted_by: int | None


class SeatOfDevice(Answer):
    """A licence seat that the device takes."""

    pool_id: int
    pool: str
    since: Time = Field(description="Since it is in use, or known where it has not arrived.")


class SweepOfDevice(Answer):
    """The rule that counts for a device: of those that watch it, the one with the longest
    window.
    """

    rule_id: int
    rule: str
    idle_window_days: int
    others: list[str] = Field(description="Rules that watch it too.")
    dormant_on: date | None = Field(description="When it becomes dormant unless it wakes.")
    retire_on: date = Field(description="When it is retired unless it wakes or is held.")


class DeviceDetail(Device):
    """A device with all that is known of it."""

    ownership_basis: Basis
    name_basis: str | None
    person_user_name: str | None
    stage_at: Time
    enrolled_at: Time | None
    lot_id: int | None
    lot_row: int | None
    identifiers: list[Identifier]
    facts: list[Fact]
    details: dict[str, Any]
    holds: list[Hold]
    cohorts: list[CohortOfDevice]
    seats: list[SeatOfDevice]
    sweep: SweepOfDevice | None
    timeline: list[Happening]


class ListedLine(Answer):
    """A row of a list, with its number and what it says first."""

    row: int
    text: str


class FoundDevices(Answer):
    """The devices that a list means, and its rows that mean none or more than one."""

    rows: int
    ids: list[int]
    unknown: list[ListedLine]
    several: list[ListedLine]


class Declare(Request):
    """Say whose the selected devices are."""

    selection: Selection
    ownership: Ownership


class DeclareApply(Apply, Declare):
    """Declare as previewed."""


class Turn(Request):
    """Devices that are to be retired, or brought back, by hand."""

    selection: Selection


class TurnApply(Apply, Turn):
    """Do it as previewed."""


class Give(Turn):
    """Devices that go to a person (user name or mail); null: that nobody has any more."""

    person: Name | None


class GiveApply(Apply, Give):
    """Give as previewed."""


class Assign(Request):
    """Give a device to a person (user name or mail); null brings it into use without one."""

    person: Name | None


class AssignApply(Apply, Assign):
    """Assign as previewed."""


class SetName(Request):
    """Name a device by hand."""

    name: Name
    reason: str | None = Field(default=None, max_length=500)


class EraseApply(TurnApply):
    """Erase as previewed, confirmed a second time."""

    confirm: int = Field(description="How many devices are erased, as the preview says.")


class Report(Turn):
    """Devices, and what is reported of them; null: they are found again."""

    flag: Literal["missing", "stolen"] | None


class ReportApply(Report):
    """The same, as previewed."""

    digest: str
    reason: str | None = Field(default=None, max_length=500)
