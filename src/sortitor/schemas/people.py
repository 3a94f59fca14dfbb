"""People and groups."""

from __future__ import annotations

from sortitor.schemas.base import Answer, Time
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


class PersonWhole(Person):
    """A person with devices and quota."""

    devices: list[Device]
    quota: int
    quota_policy: str


class Group(Answer):
    """A group and how many people are in it."""

    name: str
    people: int
