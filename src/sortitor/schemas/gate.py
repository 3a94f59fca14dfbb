"""The gate."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.gate import Gate as Gate
from sortitor.core.gate import PlatformRule as PlatformRule
from sortitor.core.gate import Policy as Policy
from sortitor.core.vocabulary import Outcome, Ownership, Platform
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


class Saved(Answer):
    """The revision after saving."""

    revision: int
