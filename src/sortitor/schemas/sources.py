"""Sources: what they are, how old what they said is, their runs and credentials."""

from __future__ import annotations

from typing import Any

from pydantic import ConfigDict, Field

from sortitor.core.sources import Source as Source
from sortitor.core.vocabulary import RegistryAct, RunState, SecretKind, SourceState
from sortitor.schemas.base import Answer, Request, Text, Time
from sortitor.schemas.documents import Kept


class SourceSecret(Answer):
    """What may be seen of what opens a source."""

    kind: SecretKind
    waiting: bool = Field(description="Whether a key waits for the registry's answer.")
    ends_at: Time | None
    days_left: int | None = Field(description="Whole days until its end; negative once past.")
    made_at: Time
    made_by: str
    words: str


class SourceDetail(Source, Kept):
    """A source with its state: never read, fresh, late, or failing."""

    model_config = ConfigDict(extra="ignore")

    state: SourceState
    good_at: Time | None = Field(description="When it was last read to its end.")
    next_at: Time | None = Field(description="When it runs by itself next.")
    at_work: int | None = Field(description="The run that is under way.")
    last_run_id: int | None
    last_problem: dict[str, Any] | None
    devices: int = Field(description="How many devices it knows.")
    unknown: int = Field(description="How many of them are no device here.")
    people: int
    groups: int
    keys: int = Field(description="Of an issuer: how many public keys it has now.")
    secrets: list[SourceSecret]


class RunAsked(Request):
    """How a source is to be read."""

    whole: bool = Field(default=True, description="Everything, or what changed since the last run.")
    unbraked: bool = Field(default=False, description="Go on although it would drop many.")


class RunRemark(Answer):
    """One thing that a run left out or took with a doubt."""

    code: str
    words: str
    count: int
    examples: list[str] = []


class SourceRun(Answer):
    """One run of a source, with what it changed; `entry_id` and `lot_id` are what takes it back."""

    id: int
    source_id: int
    source_name: str
    whole: bool
    by: str
    asked_at: Time
    ended_at: Time | None
    state: RunState
    counts: dict[str, int]
    words: dict[str, str] = Field(default={}, description="What each count is of.")
    remarks: list[RunRemark]
    problem: dict[str, Any] | None
    entry_id: int | None
    lot_id: int | None
    job_id: int | None


class RosterLine(Answer):
    """What a source says of one device, and which device of the fleet that is."""

    key: str
    serial: str | None
    imei: str | None
    imei2: str | None
    mac: str | None
    uuid: str | None
    maker: str | None
    model: str | None
    platform: str | None
    order_name: str | None
    person: str | None
    site: str | None
    name: str | None
    extra: dict[str, Any]
    device_id: int | None
    device_name: str | None
    stage: str | None


class Credential(Request):
    """Something that opens a source, as it was given out: a registry's token, a signed certificate,
    a key file, a password. What it is, is seen by its form.
    """

    text: str = Field(min_length=1, max_length=64_000)
    kind: SecretKind | None = Field(
        default=None, description="What it is, where its form does not say it."
    )


class CredentialTaken(Answer):
    """What was made of a credential, in sentences."""

    kind: SecretKind
    words: list[str]
    ends_at: Time | None


class SourceLook(Answer):
    """What a test of a source found: sentences, and up to three entries as it gives them."""

    words: list[str]
    entries: list[dict[str, list[str]]]


class HeldDevice(Answer):
    """A device as a registry holds it."""

    key: str
    serial: str
    maker: str
    model: str
    reseller: str
    order: str | None
    imei: str | None
    added_at: str
    assigned_to: str | None
    sheet_digest: str | None


class RegistryActAsked(Request):
    """What a registry is to do: with devices by their numbers there or serial numbers, or, for
    assigning, with all that a reseller delivered and will deliver.
    """

    act: RegistryAct
    devices: list[Text] = Field(default=[], max_length=10_000)
    reseller: Text | None = None
    sheet: dict[str, Any] | None = Field(default=None, description="The setup sheet to give.")


class RegistryActApply(RegistryActAsked):
    """The same, as previewed."""

    digest: Text
    reason: str | None = Field(default=None, max_length=500)
