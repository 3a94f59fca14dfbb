"""Arrivals and the agent protocol."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, SecretStr, StringConstraints

from sortitor.core.vocabulary import (
    Claim,
    Need,
    Outcome,
    Ownership,
    Platform,
    Proof,
    SignInWay,
    Speaker,
    Stage,
    WayStage,
)
from sortitor.schemas.base import Answer, GivenTime, Request, SecretAnswer, Time
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
    way: WayStage = Field(description="How far it is.")
    moved_at: Time = Field(description="When it last went on.")
    lapses_at: Time | None = Field(description="When it gives up waiting for the person.")
    asks: list[Need] = Field(description="What it waits for the person to answer.")
    proof: Proof = Field(description="How its person was proven.")
    progress: dict[str, Any] | None = Field(description="What the device told of its setting up.")
    pass_id: int | None


class Message(Answer):
    """One message of the way in."""

    at: Time
    who: Speaker
    what: str


class ArrivalDetail(Arrival):
    """One arrival with its trace and every message that went to and fro."""

    trace: list[Step]
    messages: list[Message]


class WayCounts(Answer):
    """How many arrivals of the last days stand at each stage of the way in."""

    days: int
    counts: dict[WayStage, int]


class Knock(Request):
    """What a device states when it arrives: the pass's code, its hardware, and who holds it."""

    code: Short
    platform: Platform
    os_version: Short | None = None
    maker: Short | None = None
    model: Short | None = None
    serial: Short | None = None
    imeis: list[Short] = Field(default=[], max_length=4)
    person: Short | None = Field(
        default=None, description="Who holds it, as it says: offered to the coordinator, no proof."
    )
    passcode: Short | None = Field(default=None, description="Where the pass has one.")
    protocol: int = Field(
        default=1, ge=1, le=100, description="The version of the protocol that the device speaks."
    )


class Announced(Request):
    """What a machine tells of itself before it arrives, with the code of a pass."""

    code: Short
    passcode: Short | None = Field(default=None, description="Where the pass has one.")
    machine: Short | None = Field(default=None, description="What it is called on its network.")
    serial: Short | None = None
    uuid: Short | None = None
    macs: list[Short] = Field(default=[], max_length=32)
    maker: Short | None = None
    model: Short | None = None
    fingerprint: Short | None = None


class AnnouncedLot(Answer):
    """The draft lot that waits for a coordinator."""

    lot_id: int


class KnockAnswer(SecretAnswer):
    """What the device is told: plain sentences that give nothing away, its name, and its credential
    (this once). `asked`: something must be answered first, with the secret, within half an hour.
    """

    arrival_id: int | None = Field(description="Null where the pass's code is not right.")
    outcome: Outcome
    messages: list[str]
    codes: list[str]
    device_id: int | None
    name: str | None
    credential: str | None
    secret: str | None = Field(default=None, description="With which the arrival is answered.")
    asks: list[Need] = Field(default=[], description="What must be answered.")
    welcome_url: str | None = Field(
        default=None, description="The page on which the person answers; it holds the secret."
    )


class TermsShown(Answer):
    """Terms that are asked for, in clean HTML."""

    name: str
    revision: int = Field(description="Their version, which an answer quotes.")
    language: str
    html: str


class WayIn(Answer):
    """How far an arrival is, for the device and its person."""

    arrival_id: int
    outcome: Outcome
    asks: list[Need]
    terms: list[TermsShown]
    messages: list[str] = Field(description="What the person is told.")
    codes: list[str]
    lapses_at: Time
    code_sent: bool = Field(description="Whether a code was sent that still holds.")
    sign_in: SignInWay | None = Field(
        description="How the person signs in: by a code by `mail`, by password of the `directory`."
    )
    device_name: str | None
    person_name: str | None = Field(description="Whoever has signed in.")
    progress: dict[str, Any] | None


class CodeWanted(Request):
    """Send a code to the mail address that is known of this person."""

    person: Short = Field(description="User name or mail address.")


class CodeTyped(Request):
    """The six digits that were sent."""

    code: Short


class PasswordTyped(Request):
    """What the person signs in with at the directory."""

    person: Short = Field(description="User name or mail address, as the directory has it.")
    password: SecretStr = Field(max_length=1_000)


class WayAnswers(Request):
    """What the person answers; each may come by itself."""

    passcode: Short | None = None
    ownership: Ownership | None = None
    accepted: dict[Short, int] = Field(
        default={}, max_length=10, description="Name of terms → the version that was accepted."
    )


class ProgressTold(Request):
    """How far a device's setting up is."""

    done: int = Field(ge=0, le=10_000)
    total: int = Field(ge=0, le=10_000)
    doing: Short | None = Field(default=None, description="What is happening now.")
    failed: Short | None = Field(default=None, description="Why it does not go on.")
    finished: bool = False


class CheckIn(Request):
    """A sign of life from one device, which shows its credential as a bearer token."""

    os_version: Short | None = None


class CheckInAnswer(Answer):
    """Received and committed."""

    device_id: int
    name: str | None
    stage: Stage
    kit: str | None = Field(
        default=None,
        description="The revision of what the device gets: another than it knows, or null, says"
        " that it has to fetch it.",
    )


class RelayedCheckIn(Request):
    """One device's sign of life as a relay heard it."""

    credential: Short
    seen_at: GivenTime
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
