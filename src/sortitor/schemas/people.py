"""People and groups."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.vocabulary import Parting, Platform
from sortitor.schemas.base import Answer, Apply, Name, Request, Time
from sortitor.schemas.devices import Device
from sortitor.schemas.sweeps import Hold


class Person(Answer):
    """A person; `holding` counts the devices that count to the quota."""

    id: int
    user_name: str
    name: str
    mail: str | None
    department: str | None
    site: str | None
    left_at: Time | None
    groups: list[str]
    holding: int


class PersonQuota(Answer):
    """One quota of a person and how many devices count to it."""

    platform: Platform | None = Field(description="Null: all platforms together.")
    devices: int = Field(description="How many the person may have.")
    counted: int = Field(description="How many the person has.")
    policy: str = Field(description="The gate policy that states it.")
    words: str = Field(description="The quota in words: `2 corporate Android devices`.")


class PersonDetail(Person):
    """A person with devices and quota."""

    devices: list[Device]
    holds: list[Hold] = Field(description="What keeps all of the person's devices from sweeps.")
    quotas: list[PersonQuota] = Field(
        description="The quota for all platforms first, then those of single platforms."
    )


class Group(Answer):
    """A group: how many people belong to it, how many of them by name, and which groups are
    in it.
    """

    id: int
    name: str
    people: int
    direct: int
    groups: list[str]
    revision: int = Field(description="Counts its changes; `If-Match` quotes it.")


class Leaving(Request):
    """Whether somebody has left."""

    left: bool = True
    reason: str | None = Field(default=None, max_length=500)


class PartingOf(Request):
    """What becomes of some devices of somebody who leaves."""

    ids: list[int] = Field(min_length=1, max_length=10_000, description="The devices.")
    act: Parting
    person: Name | None = Field(
        default=None, description="Who gets them, where they are given: user name or mail."
    )


class Departure(Request):
    """What is decided when somebody leaves. A device that is not named stays theirs."""

    devices: list[PartingOf] = Field(default=[], max_length=1_000)
    passes: bool = Field(default=True, description="Revoke the passes made for them.")
    holds: bool = Field(default=True, description="End the holds on all of their devices.")


class DepartureApply(Apply, Departure):
    """Let them leave as previewed."""


class InnerGroups(Request):
    """The groups that are in a group, by number or name."""

    groups: list[int | str] = Field(max_length=1_000)
