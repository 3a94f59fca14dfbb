"""Which arriving devices may come in: every facet in order, with every reason and the trace."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sortitor.core import versions
from sortitor.core.gate.policies import Gate, Policy
from sortitor.core.previews import listed
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Platform, Returning, Stage


@dataclass(frozen=True, slots=True)
class Pass:
    """What the gate needs to know of the pass that was shown; `trouble` is its reason code when it
    does not hold.
    """

    trouble: str | None = None
    activation: Activation = Activation.PERSON
    ownership: Ownership | None = None


@dataclass(frozen=True, slots=True)
class Arrival:
    """The facts of a knock, imagined or real.

    `platform` is None where nobody knows it: no platform's rule is applied then. `stage` is None
    for an unknown device; `ownership` is what would hold after the arrival; `declared` is whether
    somebody declared it; `holding` is how many other devices of the person count to the quota.
    """

    platform: Platform | None
    os_version: str | None
    ownership: Ownership
    declared: bool
    person: str | None
    groups: frozenset[str]
    holding: int
    stage: Stage | None = None
    flag: str | None = None
    signin_failed: bool = False
    #: It has a credential that is good, and did not show it.
    in_use: bool = False
    shown: Pass = Pass()


@dataclass(frozen=True, slots=True)
class Reason:
    """Why not. `explanation` is for the coordinator, `sentence` for the person: it gives nothing
    away.
    """

    code: str
    policy: str
    actual: str
    wanted: str
    explanation: str
    remedy: str
    sentence: str


@dataclass(frozen=True, slots=True)
class Step:
    """One line of the trace: a facet, the policy that states it, what was wanted, what was there,
    whether that passed, and all of it as a sentence.
    """

    facet: str
    policy: str
    wanted: str
    actual: str
    passed: bool
    explanation: str
    code: str | None = None


@dataclass(frozen=True, slots=True)
class Decision:
    """The outcome with every reason found and the whole trace."""

    outcome: Outcome
    reasons: tuple[Reason, ...]
    trace: tuple[Step, ...]


#: Reason code → what the coordinator can do, and what the person is told.
_TEXTS: dict[str, tuple[str, str]] = {
    "platform_closed": (
        "Open the platform in the policy, or hand out a device of another platform.",
        "This kind of device cannot be used here.",
    ),
    "os_too_old": (
        "Have the device updated, or lower the bound.",
        "This device needs a newer system version. Update it and try again.",
    ),
    "os_too_new": (
        "Raise the bound once the version has been tried.",
        "This device's system version is not supported yet.",
    ),
    "ownership_denied": (
        "Declare the device, or let the ownership in.",
        "This device has not been prepared for use here.",
    ),
    "undeclared": (
        "Import or declare the device first.",
        "This device has not been prepared for use here.",
    ),
    "quota_reached": (
        "Retire one of the person's devices, or raise the quota.",
        "You have as many devices as you may have. Ask your help desk.",
    ),
    "signin_failed": (
        "Use the person for whom the pass was made, or make a new pass.",
        "That name does not go with this code.",
    ),
    "pass_unknown": (
        "Check the code, or make a new pass.",
        "This code is not right. Check it and type it again.",
    ),
    "pass_expired": ("Make a new pass.", "This code is no longer valid. Ask for a new one."),
    "pass_spent": (
        "Make a new pass, or one with more uses.",
        "This code has been used up. Ask for a new one.",
    ),
    "returning": (
        "Assign the device to bring it back into use.",
        "This device was in use before. Your help desk will let you know.",
    ),
    "in_use": (
        "Ask the person who has the device; then hand it over, or turn the arrival away.",
        "This device is known here already. Your help desk will let you know.",
    ),
    "flagged": (
        "Find out where the device was; clear the report on the device's page.",
        "This device cannot be used. Please bring it to the help desk.",
    ),
}

REASON_CODES = tuple(_TEXTS)
_PASS_TROUBLES = {
    "pass_unknown": "No pass has this code.",
    "pass_expired": "The pass has ended, was revoked, or does not hold yet.",
    "pass_spent": "The pass has been used as often as it allows.",
}


def remedy_for(code: str) -> str:
    """What a coordinator can do about a reason."""
    return _TEXTS[code][0]


def decide(arrival: Arrival, gate: Gate) -> Decision:
    """Work through every facet; a reason refuses, except that a returning device may be parked
    instead.
    """
    audience = [policy for policy in gate.policies if policy.holds(arrival.groups)]
    trace = (
        _pass_step(arrival),
        _sign_in_step(arrival),
        _flag_step(arrival),
        _in_use_step(arrival),
        *_platform_steps(arrival, audience),
        _ownership_step(arrival, audience),
        _declared_step(arrival, audience),
        _quota_step(arrival, audience),
        _returning_step(arrival, audience),
    )
    failed = [step for step in trace if not step.passed]
    parking = [step for step in failed if _only_parks(step)]
    reasons = tuple(map(_reason, failed))
    if len(failed) > len(parking):
        return Decision(Outcome.REFUSED, reasons, trace)
    waits = parking or _waits_for_a_person(arrival)
    return Decision(Outcome.PARKED if waits else Outcome.ADMITTED, reasons, trace)


def unknown_pass() -> Decision:
    """What a code that nobody gave out gets: this, whatever else is true of the device."""
    arrival = Arrival(
        platform=None,
        os_version=None,
        ownership=Ownership.UNKNOWN,
        declared=False,
        person=None,
        groups=frozenset(),
        holding=0,
        shown=Pass(trouble="pass_unknown"),
    )
    step = _pass_step(arrival)
    return Decision(Outcome.REFUSED, (_reason(step),), (step,))


def _reason(step: Step) -> Reason:
    assert step.code is not None
    remedy, sentence = _TEXTS[step.code]
    return Reason(
        code=step.code,
        policy=step.policy,
        actual=step.actual,
        wanted=step.wanted,
        explanation=step.explanation,
        remedy=remedy,
        sentence=sentence,
    )


def _only_parks(step: Step) -> bool:
    return step.code == "in_use" or (step.code == "returning" and step.wanted == Returning.PARK)


def _waits_for_a_person(arrival: Arrival) -> bool:
    activation = arrival.shown.activation
    if activation is Activation.PERSON:
        return arrival.person is None
    return activation is Activation.COORDINATOR


def _passed(facet: str, policy: str, wanted: str, actual: str, explanation: str) -> Step:
    return Step(facet, policy, wanted, actual, passed=True, explanation=explanation)


def _failing(step: Step, code: str) -> Step:
    """The same step, failed for a reason."""
    return replace(step, passed=False, code=code)


def _pass_step(arrival: Arrival) -> Step:
    trouble = arrival.shown.trouble
    step = _passed(
        facet="pass",
        policy="the pass",
        wanted="a valid pass",
        actual=trouble.replace("_", " ") if trouble else "valid",
        explanation=_PASS_TROUBLES[trouble] if trouble else "The pass is valid.",
    )
    return _failing(step, trouble) if trouble else step


def _sign_in_step(arrival: Arrival) -> Step:
    if arrival.signin_failed:
        words = "The person who was named is unknown, has left, or is not the pass's own person."
    elif arrival.person is None:
        words = "Nobody is named."
    else:
        words = f"{arrival.person} is known and has not left."
    step = _passed(
        facet="person",
        policy="the pass",
        wanted="the person of the pass, known and not left",
        actual=arrival.person or "nobody",
        explanation=words,
    )
    return _failing(step, "signin_failed") if arrival.signin_failed else step


def _flag_step(arrival: Arrival) -> Step:
    step = _passed(
        facet="report",
        policy="every gate",
        wanted="not reported missing or stolen",
        actual=arrival.flag or "no report",
        explanation=(
            f"It is reported {arrival.flag}."
            if arrival.flag
            else "It is not reported missing or stolen."
        ),
    )
    return _failing(step, "flagged") if arrival.flag else step


def _in_use_step(arrival: Arrival) -> Step:
    words = "It is not in use, or has shown that it is the device in use."
    if arrival.in_use:
        words = "A device with these identifiers is in use, and this one did not show its key."
    step = _passed(
        facet="in use",
        policy="every gate",
        wanted="new here, or with the key of the device in use",
        actual="in use, without its key" if arrival.in_use else "no other in use",
        explanation=words,
    )
    return _failing(step, "in_use") if arrival.in_use else step


def _platform_steps(arrival: Arrival, audience: Sequence[Policy]) -> list[Step]:
    platform = arrival.platform
    if platform is None:
        return [
            _passed(
                facet="platform",
                policy="every gate",
                wanted="a known platform",
                actual="not known",
                explanation="Its platform is not known, so no rule for a platform is applied.",
            )
        ]
    policy = next(policy for policy in audience if platform in policy.platforms)
    rule = policy.platforms[platform]
    opened = _passed(
        facet=f"platform {platform}",
        policy=policy.name,
        wanted="open",
        actual="open" if rule.open else "closed",
        explanation=(
            f"{policy.name} lets {platform.label} in."
            if rule.open
            else f"{policy.name} keeps {platform.label} out."
        ),
    )
    steps = [opened if rule.open else _failing(opened, "platform_closed")]
    if rule.os_min:
        old = not arrival.os_version or versions.below(arrival.os_version, rule.os_min)
        step = _version_step(arrival, policy, platform, f"{rule.os_min} or later")
        steps.append(_failing(step, "os_too_old") if old else step)
    if rule.os_max:
        new = not arrival.os_version or versions.above(arrival.os_version, rule.os_max)
        step = _version_step(arrival, policy, platform, f"up to {rule.os_max}")
        steps.append(_failing(step, "os_too_new") if new else step)
    return steps


def _version_step(arrival: Arrival, policy: Policy, platform: Platform, wanted: str) -> Step:
    actual = arrival.os_version
    there = f"this one has {actual}" if actual else "this one does not say which it has"
    return _passed(
        facet="OS version",
        policy=policy.name,
        wanted=wanted,
        actual=actual or "not stated",
        explanation=f"{policy.name} lets in {platform.label} {wanted}; {there}.",
    )


def _ownership_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    policy = next(policy for policy in audience if policy.ownerships is not None)
    allowed = policy.ownerships or ()
    words = listed(allowed) or "no"
    step = _passed(
        facet="ownership",
        policy=policy.name,
        wanted=", ".join(allowed) or "none",
        actual=arrival.ownership.value,
        explanation=f"{policy.name} lets in {words} devices; this one is {arrival.ownership}.",
    )
    return step if arrival.ownership in allowed else _failing(step, "ownership_denied")


def _declared_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    policy = next(policy for policy in audience if policy.declared_only is not None)
    actual = "declared" if arrival.declared else "not declared"
    if not policy.declared_only:
        return _passed(
            facet="declaration",
            policy=policy.name,
            wanted="not asked for",
            actual=actual,
            explanation=f"{policy.name} lets in devices that nobody declared, too.",
        )
    was = "was" if arrival.declared else "was not"
    step = _passed(
        facet="declaration",
        policy=policy.name,
        wanted="declared before",
        actual=actual,
        explanation=f"{policy.name} lets in only devices that were declared; this one {was}.",
    )
    return step if arrival.declared else _failing(step, "undeclared")


def _quota_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    policy = next(policy for policy in audience if policy.quota is not None)
    quota = policy.quota or 0
    allows = f"{policy.name} allows {quota} {'device' if quota == 1 else 'devices'} per person"
    if arrival.person is None:
        return _passed(
            facet="quota",
            policy=policy.name,
            wanted=f"fewer than {quota} devices",
            actual="no person yet",
            explanation=f"{allows}; this one has no person yet.",
        )
    step = _passed(
        facet="quota",
        policy=policy.name,
        wanted=f"fewer than {quota} devices",
        actual=f"{arrival.person} has {arrival.holding}",
        explanation=f"{allows}; {arrival.person} has {arrival.holding}.",
    )
    return _failing(step, "quota_reached") if arrival.holding >= quota else step


_RETURNING_WORDS = {
    Returning.READMIT: "lets retired devices back in",
    Returning.PARK: "parks retired devices that come back",
    Returning.REFUSE: "refuses retired devices that come back",
}


def _returning_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    policy = next(policy for policy in audience if policy.returning is not None)
    if arrival.stage is not Stage.RETIRED:
        return _passed(
            facet="returning",
            policy=policy.name,
            wanted="not retired before",
            actual=arrival.stage or "new",
            explanation="It does not come back from retirement.",
        )
    wanted = policy.returning or Returning.PARK
    step = _passed(
        facet="returning",
        policy=policy.name,
        wanted=wanted.value,
        actual="retired before",
        explanation=f"{policy.name} {_RETURNING_WORDS[wanted]}; this one was retired.",
    )
    return step if wanted is Returning.READMIT else _failing(step, "returning")
