"""The gate: which arriving devices may come in, decided by policies in order, with every reason and
the trace.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sortitor.core import versions
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Platform, Returning, Stage

QUOTA_BOUNDS = (1, 50)


@dataclass(frozen=True, slots=True)
class PlatformRule:
    """Whether a platform is open; the version bounds are inclusive over the components they
    state.
    """

    open: bool
    os_min: str | None = None
    os_max: str | None = None


@dataclass(frozen=True, slots=True)
class Policy:
    """One gate policy. A facet that is None (or a platform that is absent) is not stated here.

    `groups` is the audience; None means everyone. `quota` is devices per person.
    """

    name: str
    groups: tuple[str, ...] | None
    platforms: dict[Platform, PlatformRule]
    ownerships: tuple[Ownership, ...] | None = None
    quota: int | None = None
    declared_only: bool | None = None
    returning: Returning | None = None

    def holds(self, groups: frozenset[str]) -> bool:
        """Whether the policy's audience holds a person with these groups."""
        return self.groups is None or not {name.casefold() for name in groups}.isdisjoint(
            name.casefold() for name in self.groups
        )


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

    `stage` is None for an unknown device; `ownership` is what would hold after the arrival;
    `declared` is whether somebody declared it; `holding` is how many other devices of the person
    count to the quota.
    """

    platform: Platform
    os_version: str | None
    ownership: Ownership
    declared: bool
    person: str | None
    groups: frozenset[str]
    holding: int
    stage: Stage | None = None
    flag: str | None = None
    signin_failed: bool = False
    shown: Pass = Pass()


@dataclass(frozen=True, slots=True)
class Reason:
    """Why not: the policy whose facet it is, what was compared, who can do what, and what the
    person may be told.
    """

    code: str
    policy: str
    actual: str
    wanted: str
    remedy: str
    sentence: str


@dataclass(frozen=True, slots=True)
class Step:
    """One line of the trace: a facet, the policy that states it, what was wanted, what was there,
    and whether it held.
    """

    facet: str
    policy: str
    wanted: str
    actual: str
    passed: bool


@dataclass(frozen=True, slots=True)
class Decision:
    """The outcome with every reason found and the whole trace."""

    outcome: Outcome
    reasons: tuple[Reason, ...]
    trace: tuple[Step, ...]


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
    "flagged": (
        "Find out where the device was; clear the report on the device's page.",
        "This device cannot be used. Please bring it to the help desk.",
    ),
}

REASON_CODES = tuple(_TEXTS)


def _reason(code: str, policy: str, actual: str, wanted: str) -> Reason:
    remedy, sentence = _TEXTS[code]
    return Reason(code, policy, actual, wanted, remedy, sentence)


def check_policies(policies: Sequence[Policy]) -> None:
    """Raise BadInput naming every fault: bounds, unknown versions, names twice, a baseline that
    leaves a facet open.
    """
    problems = [
        problem
        for place, policy in enumerate(policies)
        for problem in _policy_problems(place, policy)
    ]
    names = [policy.name.strip().casefold() for policy in policies]
    problems += [
        FieldProblem(
            f"/policies/{i}/name", "name_taken", f"Two policies are called {policies[i].name!r}."
        )
        for i, name in enumerate(names)
        if name in names[:i]
    ]
    if not policies:
        problems.append(
            FieldProblem("/policies", "no_baseline", "The gate needs at least its baseline policy.")
        )
    else:
        problems += _baseline_problems(len(policies) - 1, policies[-1])
    if problems:
        raise BadInput(
            "bad_policy",
            problems[0].detail,
            "Correct the policy; nothing was saved.",
            tuple(problems),
        )


def _policy_problems(place: int, policy: Policy) -> list[FieldProblem]:
    problems = []
    low, high = QUOTA_BOUNDS
    if policy.quota is not None and not low <= policy.quota <= high:
        detail = (
            f"The quota of {policy.name!r} is {policy.quota}; it must be {low} to {high} devices"
            " per person."
        )
        problems.append(FieldProblem(f"/policies/{place}/quota", "quota_bounds", detail))
    for platform, rule in policy.platforms.items():
        for side, bound in (("os_min", rule.os_min), ("os_max", rule.os_max)):
            try:
                versions.components(bound or "0")
            except ValueError as error:
                problems.append(
                    FieldProblem(
                        f"/policies/{place}/platforms/{platform}/{side}",
                        "bad_version",
                        f"{policy.name!r}, {platform}: {error}.",
                    )
                )
                break
        else:
            if rule.os_min and rule.os_max and versions.above(rule.os_min, rule.os_max):
                detail = (
                    f"{policy.name!r}, {platform}: the lower bound {rule.os_min} is above the upper"
                    f" bound {rule.os_max}."
                )
                problems.append(
                    FieldProblem(
                        f"/policies/{place}/platforms/{platform}", "bounds_crossed", detail
                    )
                )
    return problems


def _baseline_problems(place: int, baseline: Policy) -> list[FieldProblem]:
    missing = [
        name
        for name in ("ownerships", "quota", "declared_only", "returning")
        if getattr(baseline, name) is None
    ]
    missing += [
        f"platforms/{platform}" for platform in Platform if platform not in baseline.platforms
    ]
    problems = [
        FieldProblem(
            f"/policies/{place}/{name}",
            "baseline_open",
            f"The baseline must state {name}: nothing stands behind it.",
        )
        for name in missing
    ]
    if baseline.groups is not None:
        problems.append(
            FieldProblem(
                f"/policies/{place}/groups",
                "baseline_audience",
                "The last policy is the baseline; it holds everyone.",
            )
        )
    return problems


def decide(arrival: Arrival, policies: Sequence[Policy]) -> Decision:
    """Work through every facet; a reason refuses, except that a returning device may be parked
    instead.
    """
    audience = [policy for policy in policies if policy.holds(arrival.groups)]
    found = [
        _pass_step(arrival),
        _sign_in_step(arrival),
        _flag_step(arrival),
        *_platform_steps(arrival, audience),
        _ownership_step(arrival, audience),
        _declared_step(arrival, audience),
        _quota_step(arrival, audience),
        _returning_step(arrival, audience),
    ]
    trace = tuple(step for step, _ in found)
    reasons = tuple(reason for _, reason in found if reason)
    parks = [
        reason
        for step, reason in found
        if reason and reason.code == "returning" and step.wanted == Returning.PARK
    ]
    if len(reasons) > len(parks):
        return Decision(Outcome.REFUSED, reasons, trace)
    activation = arrival.shown.activation
    waits = activation is Activation.COORDINATOR or (
        activation is Activation.PERSON and arrival.person is None
    )
    return Decision(Outcome.PARKED if parks or waits else Outcome.ADMITTED, reasons, trace)


_Found = tuple[Step, Reason | None]


def _judge(facet: str, policy: str, wanted: str, actual: str, code: str | None) -> _Found:
    return Step(facet, policy, wanted, actual, code is None), (
        _reason(code, policy, actual, wanted) if code else None
    )


def _pass_step(arrival: Arrival) -> _Found:
    trouble = arrival.shown.trouble
    return _judge(
        "pass",
        "the pass",
        "a valid pass",
        trouble.replace("_", " ") if trouble else "valid",
        trouble,
    )


def _sign_in_step(arrival: Arrival) -> _Found:
    code = "signin_failed" if arrival.signin_failed else None
    return _judge(
        "person",
        "the pass",
        "the person of the pass, known and not left",
        arrival.person or "nobody",
        code,
    )


def _flag_step(arrival: Arrival) -> _Found:
    return _judge(
        "report",
        "every gate",
        "not reported missing or stolen",
        arrival.flag or "no report",
        "flagged" if arrival.flag else None,
    )


def _platform_steps(arrival: Arrival, audience: Sequence[Policy]) -> list[_Found]:
    policy = next(policy for policy in audience if arrival.platform in policy.platforms)
    rule = policy.platforms[arrival.platform]
    state = "open" if rule.open else "closed"
    steps = [
        _judge(
            f"platform {arrival.platform}",
            policy.name,
            "open",
            state,
            None if rule.open else "platform_closed",
        )
    ]
    actual = arrival.os_version or "not stated"
    if rule.os_min:
        old = not arrival.os_version or versions.below(arrival.os_version, rule.os_min)
        steps.append(
            _judge(
                "OS version",
                policy.name,
                f"{rule.os_min} or later",
                actual,
                "os_too_old" if old else None,
            )
        )
    if rule.os_max:
        new = not arrival.os_version or versions.above(arrival.os_version, rule.os_max)
        steps.append(
            _judge(
                "OS version",
                policy.name,
                f"up to {rule.os_max}",
                actual,
                "os_too_new" if new else None,
            )
        )
    return steps


def _ownership_step(arrival: Arrival, audience: Sequence[Policy]) -> _Found:
    policy = next(policy for policy in audience if policy.ownerships is not None)
    allowed = policy.ownerships or ()
    code = None if arrival.ownership in allowed else "ownership_denied"
    return _judge(
        "ownership", policy.name, ", ".join(allowed) or "none", arrival.ownership.value, code
    )


def _declared_step(arrival: Arrival, audience: Sequence[Policy]) -> _Found:
    policy = next(policy for policy in audience if policy.declared_only is not None)
    actual = "declared" if arrival.declared else "not declared"
    if not policy.declared_only:
        return _judge("declaration", policy.name, "not asked for", actual, None)
    return _judge(
        "declaration",
        policy.name,
        "declared before",
        actual,
        None if arrival.declared else "undeclared",
    )


def _quota_step(arrival: Arrival, audience: Sequence[Policy]) -> _Found:
    policy = next(policy for policy in audience if policy.quota is not None)
    quota = policy.quota or 0
    if arrival.person is None:
        return _judge("quota", policy.name, f"fewer than {quota} devices", "no person yet", None)
    code = "quota_reached" if arrival.holding >= quota else None
    return _judge(
        "quota",
        policy.name,
        f"fewer than {quota} devices",
        f"{arrival.person} has {arrival.holding}",
        code,
    )


def _returning_step(arrival: Arrival, audience: Sequence[Policy]) -> _Found:
    policy = next(policy for policy in audience if policy.returning is not None)
    if arrival.stage is not Stage.RETIRED:
        return _judge("returning", policy.name, "not retired before", arrival.stage or "new", None)
    wanted = (policy.returning or Returning.PARK).value
    return _judge(
        "returning",
        policy.name,
        wanted,
        "retired before",
        None if wanted == Returning.READMIT else "returning",
    )


def quota_for(groups: frozenset[str], policies: Sequence[Policy]) -> tuple[int, str]:
    """The quota of a person with these groups, and the policy that states it."""
    policy = next(
        policy for policy in policies if policy.holds(groups) and policy.quota is not None
    )
    return policy.quota or 0, policy.name


def starting_gate() -> list[Policy]:
    """The gate of a new installation: every platform and ownership open, five devices a person,
    returning devices parked.
    """
    platforms = {platform: PlatformRule(open=True) for platform in Platform}
    owners = (Ownership.CORPORATE, Ownership.PERSONAL, Ownership.PARTNER)
    return [Policy("Baseline", None, platforms, owners, 5, False, Returning.PARK)]
