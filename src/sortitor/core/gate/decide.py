"""Which arriving devices may come in: every facet in order, with every reason and the trace."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sortitor.core.gate.facets import (
    Statement,
    counts,
    is_listed,
    lets_in,
    must,
    quota_said,
    quotas,
    said,
    stated,
)
from sortitor.core.gate.policies import Gate, Policy, Quota, VersionBounds, Who
from sortitor.core.previews import listed
from sortitor.core.vocabulary import (
    Activation,
    Facet,
    Listed,
    Need,
    Outcome,
    Ownership,
    Platform,
    Proof,
    Returning,
    Shortage,
    SignInWay,
    Stage,
)


@dataclass(frozen=True, slots=True)
class Pass:
    """What the gate needs to know of the pass that was shown; `trouble` is its reason code when it
    does not hold.
    """

    trouble: str | None = None
    activation: Activation = Activation.PERSON
    ownership: Ownership | None = None
    #: How the pass itself wants its person proven; the gate may want more.
    sign_in: SignInWay = SignInWay.NOBODY
    #: Whether it has a passcode, and whether that was shown.
    has_passcode: bool = False
    passcode_shown: bool = False
    #: Whether it asks the person whose the device is, and has no answer yet.
    asks_ownership: bool = False


@dataclass(frozen=True, slots=True)
class Holding:
    """How many devices of a person are in use: (platform, ownership) → number."""

    counts: Mapping[tuple[Platform | None, Ownership], int] = field(default_factory=dict)

    def counted(self, quota: Quota, platform: Platform | None) -> int:
        """Those that count to a quota, of one platform or (None) of all."""
        return sum(
            number
            for (whose, ownership), number in self.counts.items()
            if counts(quota, ownership) and platform in (None, whose)
        )

    @property
    def total(self) -> int:
        """All of them."""
        return sum(self.counts.values())

    def plus(self, platform: Platform | None, ownership: Ownership) -> Holding:
        """The same with one more device of this kind."""
        return Holding(
            {**self.counts, (platform, ownership): self.counts.get((platform, ownership), 0) + 1}
        )

    def without(self, platform: Platform | None, ownership: Ownership) -> Holding:
        """The same without one device of this kind."""
        left = {**self.counts, (platform, ownership): self.counts[platform, ownership] - 1}
        return Holding(left)


@dataclass(frozen=True, slots=True)
class Seats:
    """A licence pool that minds who comes, of which the arriving device would take a seat: how many
    are taken, how many there are, and what becomes of the device where none is free.
    """

    pool: str
    when_short: Shortage
    taken: int
    seats: int

    @property
    def are_out(self) -> bool:
        """Whether none is free."""
        return self.taken >= self.seats


@dataclass(frozen=True, slots=True)
class Arrival:
    """The facts of a knock, imagined or real.

    `platform` is None where nobody knows it: no platform's rule is applied then. `stage` is None
    for an unknown device; `ownership` is what would hold after the arrival; `declared` is whether
    somebody declared it; `person` is proven, by `proof`, not merely stated; `accepted` are the
    terms that were accepted, None: whatever is asked for; `holding` is what the person has beside
    this device; `known` is what was declared of it (attribute → value), None where nothing was.
    """

    platform: Platform | None
    os_version: str | None
    ownership: Ownership
    declared: bool
    person: str | None
    groups: frozenset[str]
    holding: Holding = Holding()
    maker: str | None = None
    model: str | None = None
    known: Mapping[str, Any] | None = None
    stage: Stage | None = None
    flag: str | None = None
    proof: Proof = Proof.NONE
    accepted: frozenset[str] | None = frozenset()
    signin_failed: bool = False
    #: It has a credential that is good, and did not show it.
    in_use: bool = False
    shown: Pass = Pass()
    seats: tuple[Seats, ...] = ()

    @property
    def who(self) -> Who:
        """By what a policy's audience judges it."""
        return Who(self.groups, self.person, self.known)


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
    """The outcome with every reason found and the whole trace; `asks` is what must be known first,
    `terms` which ones are asked for, `sign_in` how the person is to be proven.
    """

    outcome: Outcome
    reasons: tuple[Reason, ...]
    trace: tuple[Step, ...]
    asks: tuple[Need, ...] = ()
    terms: tuple[str, ...] = ()
    sign_in: SignInWay = SignInWay.NOBODY


NOT_STATED = "not stated"
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
    "maker_denied": (
        "Let the maker in, or hand out a device of another make.",
        "This kind of device cannot be used here.",
    ),
    "model_denied": (
        "Let the model in, or hand out another one.",
        "This kind of device cannot be used here.",
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
    "no_seat": (
        "Use a voucher for more seats, or retire devices that nobody uses.",
        "There is no licence left for this device. Your help desk will let you know.",
    ),
    "signin_failed": (
        "Use the person for whom the pass was made, or make a new pass.",
        "That name does not go with this code.",
    ),
    "no_passcode": (
        "Make a pass with a passcode, or ask for another proof.",
        "This code cannot be used for this device. Ask for a new one.",
    ),
    "protocol_old": (
        "Have the device's agent updated, or make a pass for the person.",
        "The program on this device that lets it in is too old. Update it and try again.",
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
    return decide_by(arrival, gate.audience(arrival.who))


def decide_by(arrival: Arrival, audience: Sequence[Policy]) -> Decision:
    """The same where it is known already which policies hold the arrival."""
    trace = (
        _pass_step(arrival),
        _person_step(arrival),
        *_sign_in_steps(arrival, audience),
        _flag_step(arrival),
        _in_use_step(arrival),
        *_platform_steps(arrival, audience),
        _ownership_step(arrival, audience),
        _declared_step(arrival, audience),
        *(_quota_step(arrival, quota) for quota in quotas(audience, arrival.platform)),
        *map(_seat_step, arrival.seats),
        _returning_step(arrival, audience),
    )
    failed = [step for step in trace if not step.passed]
    asks = _asks(arrival, audience)
    terms = _terms_missing(arrival, audience)
    reasons = tuple(map(_reason, failed))
    parking = [step for step in failed if _only_parks(step)]
    if any(step.code in _FINAL for step in failed):
        return Decision(Outcome.REFUSED, reasons, trace)
    asked = Decision(Outcome.ASKED, (), trace, asks, terms, _sign_in(arrival, audience))
    if Need.SIGN_IN in asks or Need.PASSCODE in asks:
        # Who it is may change every answer: nothing is said before it is known.
        return asked
    if len(failed) > len(parking):
        return Decision(Outcome.REFUSED, reasons, trace)
    if asks:
        return asked
    waits = parking or _waits_for_a_person(arrival)
    return Decision(Outcome.PARKED if waits else Outcome.ADMITTED, reasons, trace)


#: Reasons that nobody's sign-in changes.
_FINAL = frozenset(
    {"pass_unknown", "pass_expired", "pass_spent", "no_passcode", "signin_failed", "flagged"}
)
#: How strong a proof must be for each way of signing in.
_ENOUGH = {
    SignInWay.NOBODY: Proof.NONE,
    SignInWay.PASSCODE: Proof.NONE,
    SignInWay.MAIL: Proof.MAIL,
    SignInWay.DIRECTORY: Proof.DIRECTORY,
}


def _asks(arrival: Arrival, audience: Sequence[Policy]) -> tuple[Need, ...]:
    """What is not known yet and must be, in the order in which it is asked."""
    shown = arrival.shown
    needs = []
    if shown.has_passcode and not shown.passcode_shown:
        needs.append(Need.PASSCODE)
    if _must_sign_in(arrival, audience):
        needs.append(Need.SIGN_IN)
    if shown.asks_ownership and not arrival.declared:
        needs.append(Need.OWNERSHIP)
    if _terms_missing(arrival, audience):
        needs.append(Need.TERMS)
    return tuple(needs)


def _must_sign_in(arrival: Arrival, audience: Sequence[Policy]) -> bool:
    if arrival.shown.activation is Activation.SHARED:
        return False
    return arrival.proof.strength < _ENOUGH[_sign_in(arrival, audience)].strength


def _sign_in(arrival: Arrival, audience: Sequence[Policy]) -> SignInWay:
    """The stronger of what the pass and the gate want."""
    found = stated(audience, Facet.SIGN_IN, arrival.platform)
    wanted = (arrival.shown.sign_in, found.value if found else SignInWay.NOBODY)
    return max(wanted, key=lambda way: _ENOUGH[way].strength)


def _terms_missing(arrival: Arrival, audience: Sequence[Policy]) -> tuple[str, ...]:
    found = stated(audience, Facet.TERMS, arrival.platform)
    if found is None or arrival.accepted is None:
        return ()
    there = {name.casefold() for name in arrival.accepted}
    return tuple(name for name in found.value if name.casefold() not in there)


def old_protocol() -> Reason:
    """What a device is told that cannot be asked what must be known."""
    remedy, sentence = _TEXTS["protocol_old"]
    return Reason(
        code="protocol_old",
        policy="every gate",
        actual="an old version of the device protocol",
        wanted="one that can be asked",
        explanation="Something must be asked of its person, and its agent is too old to ask it.",
        remedy=remedy,
        sentence=sentence,
    )


def quota_reasons(arrival: Arrival, audience: Sequence[Policy]) -> tuple[Reason, ...]:
    """Why a person may not have one more device like this; nothing: they may."""
    steps = (_quota_step(arrival, quota) for quota in quotas(audience, arrival.platform))
    return tuple(_reason(step) for step in steps if not step.passed)


def unknown_pass() -> Decision:
    """What a code that nobody gave out gets: this, whatever else is true of the device."""
    arrival = Arrival(
        platform=None,
        os_version=None,
        ownership=Ownership.UNKNOWN,
        declared=False,
        person=None,
        groups=frozenset(),
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
    if step.code == "no_seat":
        return step.wanted == _SEAT_WANTED[Shortage.PARK]
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


def _person_step(arrival: Arrival) -> Step:
    if arrival.signin_failed:
        words = "The person who was named has left, or is not the pass's own person."
    elif arrival.person is None:
        words = "Nobody is proven to be its person."
    else:
        words = f"{arrival.person} is its person, {_PROOFS[arrival.proof]}."
    step = _passed(
        facet="person",
        policy="the pass",
        wanted="nobody, or the pass's own person",
        actual=arrival.person or "nobody",
        explanation=words,
    )
    return _failing(step, "signin_failed") if arrival.signin_failed else step


_PROOFS = {
    Proof.NONE: "by what is known of the device",
    Proof.PASSCODE: "by a passcode",
    Proof.PASS: "by a pass made for them",
    Proof.MAIL: "by their mail address",
    Proof.DIRECTORY: "by the directory",
    Proof.KEY: "by the device's own key",
}


def _sign_in_steps(arrival: Arrival, audience: Sequence[Policy]) -> list[Step]:
    """What must be shown of the person; being asked for it is no failure."""
    found = stated(audience, Facet.SIGN_IN, arrival.platform)
    if found is None or found.value is SignInWay.NOBODY:
        return []
    words = said(found.value)
    step = _passed(
        facet="sign-in",
        policy=found.policy,
        wanted=words,
        actual=arrival.proof.value,
        explanation=f"{found.policy} wants the person to sign in {words}.",
    )
    lacks = found.value is SignInWay.PASSCODE and not arrival.shown.has_passcode
    if lacks and arrival.shown.activation is not Activation.SHARED:
        why = f"{found.policy} wants a passcode, and the pass has none."
        return [_failing(replace(step, explanation=why), "no_passcode")]
    return [step]


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
    steps = [_door_step(must(audience, Facet.DOOR, platform), platform)]
    bounds = stated(audience, Facet.VERSIONS, platform)
    if bounds is not None:
        steps += _version_steps(arrival, bounds, platform)
    for facet, there in ((Facet.MAKERS, arrival.maker), (Facet.MODELS, arrival.model)):
        listing = stated(audience, facet, platform)
        if listing is not None:
            steps.append(_listing_step(listing, platform, there))
    return steps


def _door_step(found: Statement, platform: Platform) -> Step:
    keeps = f"{found.policy} keeps {platform.label} out."
    step = _passed(
        facet=f"platform {platform}",
        policy=found.policy,
        wanted="open",
        actual="open" if found.value else "closed",
        explanation=f"{found.policy} lets {platform.label} in." if found.value else keeps,
    )
    return step if found.value else _failing(step, "platform_closed")


def open_question(decision: Decision) -> str | None:
    """What decides, where nothing but the version that was not stated is against it."""
    wanted = [
        f"{one.wanted} ({one.policy})"
        for one in decision.reasons
        if one.code in ("os_too_old", "os_too_new") and one.actual == NOT_STATED
    ]
    if not wanted or len(wanted) < len(decision.reasons):
        return None
    return f"It depends on the system version: {' and '.join(wanted)} is let in."


def _version_steps(arrival: Arrival, found: Statement, platform: Platform) -> list[Step]:
    bounds: VersionBounds = found.value
    new_enough, not_too_new = lets_in(bounds, arrival.os_version)
    steps = []
    if bounds.oldest:
        step = _version_step(arrival, found.policy, platform, f"{bounds.oldest} or later")
        steps.append(step if new_enough else _failing(step, "os_too_old"))
    if bounds.newest:
        step = _version_step(arrival, found.policy, platform, f"up to {bounds.newest}")
        steps.append(step if not_too_new else _failing(step, "os_too_new"))
    return steps


def _version_step(arrival: Arrival, policy: str, platform: Platform, wanted: str) -> Step:
    actual = arrival.os_version
    there = f"this one has {actual}" if actual else "this one does not say which it has"
    return _passed(
        facet="OS version",
        policy=policy,
        wanted=wanted,
        actual=actual or NOT_STATED,
        explanation=f"{policy} lets in {platform.label} {wanted}; {there}.",
    )


def _listing_step(found: Statement, platform: Platform, there: str | None) -> Step:
    maker = found.facet is Facet.MAKERS
    what, whose = ("maker", "by") if maker else ("model", "called")
    names = " or ".join(found.value.names)
    only = found.value.listed is Listed.ONLY
    does = (
        f"lets in only {platform.label} {whose}" if only else f"keeps out {platform.label} {whose}"
    )
    this = f"this one is {whose} {there}" if there else f"this one does not state its {what}"
    step = _passed(
        facet=what,
        policy=found.policy,
        wanted=said(found.value),
        actual=there or NOT_STATED,
        explanation=f"{found.policy} {does} {names}; {this}.",
    )
    return step if is_listed(found.value, there) else _failing(step, f"{what}_denied")


def _ownership_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    found = must(audience, Facet.OWNERSHIPS, arrival.platform)
    allowed = found.value
    words = " ".join(filter(None, (listed(allowed) or "no", _of(found))))
    step = _passed(
        facet="ownership",
        policy=found.policy,
        wanted=", ".join(allowed) or "none",
        actual=arrival.ownership.value,
        explanation=f"{found.policy} lets in {words} devices; this one is {arrival.ownership}.",
    )
    return step if arrival.ownership in allowed else _failing(step, "ownership_denied")


def _of(found: Statement) -> str:
    """The platform of which alone something is said, in a sentence."""
    return found.platform.label if found.platform else ""


def _declared_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    found = must(audience, Facet.DECLARED_ONLY, arrival.platform)
    what = f"{_of(found)} devices".strip()
    actual = "declared" if arrival.declared else "not declared"
    if not found.value:
        return _passed(
            facet="declaration",
            policy=found.policy,
            wanted="not asked for",
            actual=actual,
            explanation=f"{found.policy} lets in {what} that nobody declared, too.",
        )
    was = "was" if arrival.declared else "was not"
    step = _passed(
        facet="declaration",
        policy=found.policy,
        wanted="declared before",
        actual=actual,
        explanation=f"{found.policy} lets in only {what} that were declared; this one {was}.",
    )
    return step if arrival.declared else _failing(step, "undeclared")


def _quota_step(arrival: Arrival, found: Statement) -> Step:
    quota: Quota = found.value
    allows = f"{found.policy} allows {quota_said(quota, found.platform)} per person"
    step = _passed(
        facet="quota" if found.platform is None else f"quota {found.platform}",
        policy=found.policy,
        wanted=f"fewer than {quota_said(quota, found.platform)}",
        actual="no person yet",
        explanation=f"{allows}; this one has no person yet.",
    )
    if arrival.person is None:
        return step
    if not counts(quota, arrival.ownership):
        words = f"{allows}; this one is {arrival.ownership} and does not count."
        return replace(step, actual="does not count", explanation=words)
    holding = arrival.holding.counted(quota, found.platform)
    step = replace(
        step,
        actual=f"{arrival.person} has {holding}",
        explanation=f"{allows}; {arrival.person} has {holding}.",
    )
    return _failing(step, "quota_reached") if holding >= quota.devices else step


#: What becomes of a device without a seat → what the trace says was wanted.
_SEAT_WANTED = {
    Shortage.PARK: "a free seat; else it waits",
    Shortage.REFUSE: "a free seat",
    Shortage.ADMIT: "nothing",
}


def _seat_step(seats: Seats) -> Step:
    there = f"{seats.pool} has {seats.seats:,} and {seats.taken:,} are taken"
    step = _passed(
        facet="licence",
        policy=seats.pool,
        wanted=_SEAT_WANTED[seats.when_short],
        actual=f"{max(0, seats.seats - seats.taken):,} free",
        explanation=f"The device would take a licence seat; {there}.",
    )
    is_let_in = seats.when_short is Shortage.ADMIT
    return _failing(step, "no_seat") if seats.are_out and not is_let_in else step


_RETURNING_WORDS = {
    Returning.READMIT: ("lets", "back in"),
    Returning.PARK: ("parks", "that come back"),
    Returning.REFUSE: ("refuses", "that come back"),
}


def _returning_step(arrival: Arrival, audience: Sequence[Policy]) -> Step:
    found = must(audience, Facet.RETURNING, arrival.platform)
    if arrival.stage is not Stage.RETIRED:
        return _passed(
            facet="returning",
            policy=found.policy,
            wanted="not retired before",
            actual=arrival.stage or "new",
            explanation="It does not come back from retirement.",
        )
    wanted: Returning = found.value
    does, what = _RETURNING_WORDS[wanted]
    devices = f"retired {_of(found)} devices".replace("  ", " ")
    step = _passed(
        facet="returning",
        policy=found.policy,
        wanted=wanted.value,
        actual="retired before",
        explanation=f"{found.policy} {does} {devices} {what}; this one was retired.",
    )
    return step if wanted is Returning.READMIT else _failing(step, "returning")
