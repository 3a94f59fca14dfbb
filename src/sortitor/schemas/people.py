"""People and groups."""

from __future__ import annotations

from pydantic import Field

from sortitor.schemas.base import Answer, Request, Time
from sortitor.schemas.devices import Device


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


class PersonDetail(Person):
    """A person with devices and quota."""

    devices: list[Device]
    quota: int
    quota_policy: str


class Group(Answer):
    """A group: how many people belong to it, how many of them by name, and which groups are
    in it.
    """

    id: int
    name: str
    people: int
    direct: int
    groups: list[str]


class Leaving(Request):
    """Whether somebody has left."""

    left: bool = True
    reason: str | None = Field(default=None, max_length=500)


class InnerGroups(Request):
    """The groups that are in a group, by number or name."""

    groups: list[int | str] = Field(max_length=1_000)
