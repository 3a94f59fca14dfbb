"""The gate and naming."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.vocabulary import Outcome, Ownership, Platform, Returning
from sortitor.schemas.base import Answer, Apply, Name, Request
from sortitor.schemas.devices import Selection


class PlatformRule(Request):
    """Whether a platform is open; the bounds are inclusive over the components they state."""

    model_config = {"extra": "forbid", "from_attributes": True}
    open: bool = True
    os_min: str | None = None
    os_max: str | None = None


class Policy(Request):
    """One gate policy; what it leaves null (or a platform it leaves out) it does not state.

    `groups` null means everyone.
    """

    model_config = {"extra": "forbid", "from_attributes": True}
    name: Name
    groups: list[Name] | None = None
    platforms: dict[Platform, PlatformRule] = {}
    ownerships: list[Ownership] | None = None
    quota: int | None = None
    declared_only: bool | None = None
    returning: Returning | None = None


class Gate(Answer):
    """The policies in order; the last is the baseline and states everything."""

    revision: int
    policies: list[Policy]


class GateChange(Request):
    """The whole gate as it should be."""

    policies: list[Policy] = Field(max_length=200)


class GateApply(Apply, GateChange):
    """Save the gate as previewed."""


class Try(Request):
    """An imagined device; `identifier` may name a real one, `policies` a gate that is not saved."""

    platform: Platform
    os_version: str | None = None
    ownership: Ownership | None = None
    person: str | None = None
    identifier: str | None = None
    policies: list[Policy] | None = None


class Reason(Answer):
    """Why not: whose rule, what was compared, what would change it, what the person may be told."""

    code: str
    policy: str
    actual: str
    wanted: str
    remedy: str
    sentence: str


class Step(Answer):
    """One line of the trace."""

    facet: str
    policy: str
    wanted: str
    actual: str
    passed: bool


class Decision(Answer):
    """What the gate says, with every reason and the whole trace."""

    outcome: Outcome
    reasons: list[Reason]
    trace: list[Step]


class Template(Request):
    """A naming template, such as `{site|upper|first 3}-{n|pad 4}`; no platforms means all."""

    model_config = {"extra": "forbid", "from_attributes": True}
    name: Name
    pattern: str = Field(min_length=1, max_length=200)
    platforms: list[Platform] = []


class Naming(Answer):
    """The templates in order; the first that fits names a device.

    `next_numbers` are the counters.
    """

    revision: int
    templates: list[Template]
    next_numbers: dict[str, int]
    fields: list[str]


class NamingSave(Request):
    """The templates as they should be."""

    templates: list[Template] = Field(max_length=200)
    reason: str | None = None


class NamingPreview(Request):
    """Names over a selection, by proposed templates or (null) by those in force."""

    selection: Selection = Selection()
    templates: list[Template] | None = None


class RenameApply(Apply):
    """Rename as previewed, by the templates in force."""

    selection: Selection = Selection()


class Saved(Answer):
    """The revision after saving."""

    revision: int
