"""The gate."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.gate import Gate as Gate
from sortitor.core.gate import Listing as Listing
from sortitor.core.gate import PlatformRule as PlatformRule
from sortitor.core.gate import Policy as Policy
from sortitor.core.gate import Quota as Quota
from sortitor.core.gate import VersionBounds as VersionBounds
from sortitor.core.vocabulary import Facet, Outcome, Ownership, Platform
from sortitor.schemas.base import Answer, Apply, Request


class GateDetail(Gate):
    """The gate in force."""

    model_config = ConfigDict(extra="ignore")

    revision: int = Field(description="How often it was changed; the ETag of an edit.")


class GateApply(Apply):
    """Save the gate as previewed."""

    policies: tuple[Policy, ...] = Field(max_length=200)


class Try(Request):
    """An imagined device; `identifier` may name a real one, `policies` a gate that is not saved."""

    platform: Platform
    os_version: str | None = None
    ownership: Ownership | None = None
    person: str | None = None
    identifier: str | None = None
    maker: str | None = None
    model: str | None = None
    policies: tuple[Policy, ...] | None = None


class Reason(Answer):
    """Why not: whose rule, what was compared, what would change it, what the person may be told."""

    code: str
    policy: str
    actual: str
    wanted: str
    explanation: str = Field(default="", description="All of it, as a sentence.")
    remedy: str
    sentence: str = Field(description="What the person is told; it gives nothing away.")


class Step(Answer):
    """One line of the trace."""

    facet: str
    policy: str
    wanted: str
    actual: str
    passed: bool
    explanation: str = Field(default="", description="All of it, as a sentence.")


class Decision(Answer):
    """What the gate says, with every reason and the whole trace."""

    outcome: Outcome
    reasons: list[Reason]
    trace: list[Step]
    depends: str | None = Field(
        default=None, description="On what it depends, where what was not stated decides alone."
    )


class Saved(Answer):
    """The revision after saving."""

    revision: int


class PolicyRemark(Answer):
    """What is odd about a gate that can be saved."""

    pointer: str = Field(description="Where: a JSON pointer (RFC 6901) into the gate.")
    code: str
    detail: str


class EffectiveAsked(Request):
    """For whom or what: a person, a group, a device, or a person with a device; none: a stranger.

    `policies` is a gate that is not saved.
    """

    person: str | None = Field(default=None, description="User name or mail.")
    group: str | None = Field(default=None, description="Somebody who is in this group only.")
    device: str | None = Field(default=None, description="A serial number or IMEI.")
    policies: tuple[Policy, ...] | None = None


class Statement(Answer):
    """One facet's word, and the policy that has it."""

    facet: Facet
    platform: Platform | None = Field(description="Null: for all platforms.")
    policy: str
    words: str = Field(description="What it says: `from 12`, `only Kelmar`, `2 devices`.")
    own: bool = Field(
        description="Whether the policy says it of this platform alone, rather than of all."
    )


class Effective(Answer):
    """The gate as it meets somebody or something."""

    subject: str
    policies: list[str] = Field(description="The policies that hold it, in order.")
    statements: list[Statement]


class Tally(Answer):
    """How many a change turns, to which outcome and for which reason; one can have several."""

    outcome: Outcome
    code: str
    explanation: str = Field(description="The reason in words, of one of them.")
    number: int


class Replayed(Answer):
    """What a change turns among so many that were looked at."""

    looked_at: int
    refused: int
    parked: int
    admitted: int
    tallies: list[Tally]


class Replay(Answer):
    """What a changed gate would have said to today's fleet and to past arrivals as they were."""

    fleet: Replayed
    arrivals: Replayed
    days: int = Field(description="How far back arrivals were looked at.")
    without_facts: int = Field(
        description="Arrivals of these days of which too little was kept; not looked at."
    )


class Turned(Answer):
    """One device or arrival that a changed gate meets otherwise."""

    id: int
    device_id: int | None
    subject: str
    person: str | None
    site: str | None
    before: Outcome
    after: Outcome
    explanation: str
    remedy: str
