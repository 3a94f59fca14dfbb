"""Arrivals and the agent protocol."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, StringConstraints

from sortitor.core.vocabulary import Claim, Outcome, Platform, Stage
from sortitor.schemas.base import Answer, Request, SecretAnswer, Time
from sortitor.schemas.gate import Reason, Step

#: One line of text: no control characters, of which a version or a serial number has none.
Short = Annotated[
    str,
    StringConstraints(strip_whitespace=True, max_length=100, pattern=r"^[^\x00-\x1f\x7f]*$"),
]


class Arrival(Answer):
    """One knock and what the gate said to it."""

    id: int
    at: Time
    outcome: Outcome
    device_id: int | None
    device_name: str | None
    stage: Stage | None
    stage_at: Time | None
    maker: str | None
    model: str | None
    site: str | None
    person_name: str | None
    pass_label: str | None
    stated: dict[str, Any]
    reasons: list[Reason]
    claim: Claim | None = Field(
        description="What became of an arrival of a device that is in use; `open`: to be decided."
    )


class ArrivalDetail(Answer):
    """One arrival with its trace."""

    id: int
    at: Time
    outcome: Outcome
    device_id: int | None
    stated: dict[str, Any]
    reasons: list[Reason]
    trace: list[Step]
    claim: Claim | None


class Knock(Request):
    """What a device states when it arrives: the pass's code, its hardware, and who holds it."""

    code: Short
    platform: Platform
    os_version: Short | None = None
    maker: Short | None = None
    model: Short | None = None
    serial: Short | None = None
    imeis: list[Short] = Field(default=[], max_length=4)
    person: Short | None = None


class KnockAnswer(SecretAnswer):
    """What the device is told: plain sentences that give nothing away, its name, and its credential
    (this once).
    """

    arrival_id: int | None = Field(description="Null where the pass's code is not right.")
    outcome: Outcome
    messages: list[str]
    codes: list[str]
    device_id: int | None
    name: str | None
    credential: str | None


class CheckIn(Request):
    """A sign of life from one device, which shows its credential as a bearer token."""

    os_version: Short | None = None


class CheckInAnswer(Answer):
    """Received and committed."""

    device_id: int
    name: str | None
    stage: Stage


class RelayedCheckIn(Request):
    """One device's sign of life as a relay heard it."""

    credential: Short
    seen_at: Time
    os_version: Short | None = None


class Relay(Request):
    """Up to 1,000 check-ins in one request."""

    check_ins: list[RelayedCheckIn] = Field(min_length=1, max_length=1_000)


class RelayAnswer(Answer):
    """How many were written, and the places in the request of those whose credential is not
    good.
    """

    received: int
    unknown: list[int]
