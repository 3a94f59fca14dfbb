"""What a changed gate would have said to devices and arrivals that are known."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any

from sortitor.core import filters
from sortitor.core.filters import ATTRIBUTES, Filter, Kind
from sortitor.core.flat import flat
from sortitor.core.gate.decide import Arrival, Decision, Holding, Pass, Reason, Seats, decide_by
from sortitor.core.gate.facets import FIELDS, own
from sortitor.core.gate.policies import Gate, Policy
from sortitor.core.vocabulary import (
    Activation,
    Facet,
    Outcome,
    Ownership,
    Platform,
    Proof,
    Shortage,
    SignInWay,
    Stage,
)

#: Whoever a person was, to the gate of a kind of devices it is somebody.
SOMEBODY = "the person"


@dataclass(frozen=True, slots=True)
class Audience:
    """Whom a policy holds, in lower case: two policies for the same have one."""

    label: str
    groups: frozenset[str]
    people: frozenset[str]
    filter: Filter | None


@dataclass(frozen=True, slots=True)
class Spoken:
    """What some gates speak of: only that tells two devices apart. `platforms` are those of which
    they speak differently (None: devices whose platform nobody knows), `counted` those of which
    they say other quotas, of whom nobody with fewer devices than `lowest_quota` is kept out; no
    other device turns. `audiences` by the policy's (groups, people,
    filter).
    """

    platforms: frozenset[Platform | None]
    counted: frozenset[Platform | None]
    lowest_quota: int
    versions: bool
    makers: bool
    models: bool
    by_policy: Mapping[tuple[Any, Any, Any], Audience]

    @property
    def audiences(self) -> list[Audience]:
        """The audiences, each once."""
        return list(self.by_policy.values())

    @property
    def attributes(self) -> list[str]:
        """The declared facts by which devices are chosen."""
        found: set[str] = set()
        for one in self.audiences:
            if one.filter is not None:
                found |= filters.attributes(one.filter)
        return sorted(found)

    def of(self, policy: Policy) -> Audience | None:
        """A policy's audience; None: everyone."""
        return None if policy.holds_everyone else self.by_policy[_audience_key(policy)]


def spoken_of(*gates: Gate) -> Spoken:
    """What these gates speak of."""
    policies = [policy for gate in gates for policy in gate.policies]
    rules = [rule for policy in policies for rule in policy.platforms.values()]
    by_policy: dict[tuple[Any, Any, Any], Audience] = {}
    for policy in policies:
        if not policy.holds_everyone:
            key = _audience_key(policy)
            by_policy.setdefault(
                key, Audience(f"audience_{len(by_policy)}", key[0], key[1], policy.device_filter)
            )
    beside_quotas = [facet for facet in FIELDS if facet is not Facet.QUOTA]
    return Spoken(
        platforms=_differing(gates, beside_quotas),
        counted=_differing(gates, [Facet.QUOTA]),
        lowest_quota=min(gate.lowest_quota for gate in gates),
        versions=any(rule.versions is not None for rule in rules),
        makers=any(rule.makers is not None for rule in rules),
        models=any(rule.models is not None for rule in rules),
        by_policy=by_policy,
    )


def _differing(gates: Sequence[Gate], facets: Sequence[Facet]) -> frozenset[Platform | None]:
    """The platforms to which the gates say different things by these facets."""

    def words(gate: Gate, platform: Platform | None) -> list[Any]:
        said = (
            (
                (policy.holds_everyone, _audience_key(policy)),
                [own(policy, facet, place) for facet in facets for place in (None, platform)],
            )
            for policy in gate.policies
        )
        # Whoever says nothing of it changes nothing by being there.
        return [(whom, what) for whom, what in said if any(one is not None for one in what)]

    return frozenset(
        platform
        for platform in (*Platform, None)
        if any(words(gate, platform) != words(gates[0], platform) for gate in gates)
    )


def _audience_key(policy: Policy) -> tuple[frozenset[str], frozenset[str], str | None]:
    groups = frozenset(filters.lower(name) for name in policy.groups or ())
    people = frozenset(filters.lower(name) for name in policy.people or ())
    return groups, people, policy.devices


# ---- the facts of an arrival, kept


def kept(arrival: Arrival) -> dict[str, Any]:
    """The facts of an arrival as they are written down beside it, for a later replay."""
    facts = flat(arrival)
    facts["shown"] = flat(arrival.shown)
    facts["groups"] = sorted(filters.lower(name) for name in arrival.groups)
    facts["holding"] = [
        [platform, ownership, number]
        for (platform, ownership), number in sorted(arrival.holding.counts.items(), key=str)
        if number
    ]
    # Only those that were out, without numbers: what is alike stays alike.
    facts["seats"] = [[one.pool, one.when_short] for one in arrival.seats if one.are_out] or None
    if arrival.accepted is not None:
        facts["accepted"] = sorted(arrival.accepted)
    if arrival.known is not None:
        facts["known"] = {name: _as_json(value) for name, value in arrival.known.items()}
    return {name: value for name, value in facts.items() if value is not None}


def _as_json(value: Any) -> Any:
    return value.isoformat() if isinstance(value, date) else value


def _from_json(name: str, value: Any) -> Any:
    kind = ATTRIBUTES[name].kind
    if value is None or kind not in (Kind.DAY, Kind.TIME):
        return value
    if kind is Kind.DAY:
        return date.fromisoformat(value)
    return datetime.fromisoformat(value).astimezone(UTC)


def remembered(facts: Mapping[str, Any]) -> Arrival:
    """The arrival as it was, from what was kept of it."""
    known = facts.get("known")
    return Arrival(
        platform=_platform(facts.get("platform")),
        os_version=facts.get("os_version"),
        ownership=Ownership(facts["ownership"]),
        declared=bool(facts["declared"]),
        person=facts.get("person"),
        groups=frozenset(facts.get("groups") or ()),
        holding=_holding(facts.get("holding") or ()),
        maker=facts.get("maker"),
        model=facts.get("model"),
        known=known and {name: _from_json(name, value) for name, value in known.items()},
        stage=Stage(facts["stage"]) if facts.get("stage") else None,
        flag=facts.get("flag"),
        proof=Proof(facts.get("proof") or Proof.NONE),
        accepted=frozenset(facts["accepted"]) if "accepted" in facts else None,
        signin_failed=bool(facts.get("signin_failed")),
        in_use=bool(facts.get("in_use")),
        shown=_pass(facts.get("shown") or {}),
        seats=tuple(Seats(pool, Shortage(act), 0, 0) for pool, act in facts.get("seats") or ()),
    )


def _platform(word: str | None) -> Platform | None:
    return Platform(word) if word else None


def _holding(lines: Iterable[Any]) -> Holding:
    return Holding({(_platform(line[0]), Ownership(line[1])): int(line[2]) for line in lines})


def _pass(kept_pass: Mapping[str, Any]) -> Pass:
    ownership = kept_pass.get("ownership")
    return Pass(
        trouble=kept_pass.get("trouble"),
        activation=Activation(kept_pass.get("activation") or Activation.PERSON),
        ownership=Ownership(ownership) if ownership else None,
        sign_in=SignInWay(kept_pass.get("sign_in") or SignInWay.NOBODY),
        has_passcode=bool(kept_pass.get("has_passcode")),
        passcode_shown=bool(kept_pass.get("passcode_shown")),
        asks_ownership=bool(kept_pass.get("asks_ownership")),
    )


# ---- kinds of devices and of arrivals


def of_the_fleet(facts: Mapping[str, Any]) -> Arrival:
    """Devices in use, as if they knocked today with a good pass. Their person's quota is counted
    by person, not by kind.
    """
    ownership, declared = Ownership(facts["ownership"]), bool(facts["declared"])
    if ownership is Ownership.UNKNOWN:
        ownership, declared = Ownership.PERSONAL, False
    return Arrival(
        platform=_platform(facts["platform"]),
        os_version=facts.get("os_version"),
        ownership=ownership,
        declared=declared,
        person=None,
        groups=frozenset(),
        maker=facts.get("maker"),
        model=facts.get("model"),
        accepted=None,
        shown=Pass(activation=Activation.SHARED),
    )


def of_the_past(facts: Mapping[str, Any]) -> Arrival:
    """Arrivals that were alike, with what was kept of them."""
    return remembered({**facts, "person": SOMEBODY if facts["has_person"] else None})


def audience(gate: Gate, spoken: Spoken, facts: Mapping[str, Any]) -> list[Policy]:
    """The policies that hold a kind."""
    return [policy for policy in gate.policies if _holds(spoken.of(policy), facts)]


def _holds(wanted: Audience | None, facts: Mapping[str, Any]) -> bool:
    if wanted is None or facts.get(wanted.label):
        return True
    if wanted.filter is None:
        return False
    fits = facts.get(f"{wanted.label}_fits")
    if fits is not None or not facts.get("is_known"):
        return bool(fits)
    known = {
        name: _from_json(name, facts.get(f"known_{name}"))
        for name in filters.attributes(wanted.filter)
    }
    return filters.matches(wanted.filter, known)[0]


# ---- what a change turns


@dataclass(frozen=True, slots=True)
class Turn:
    """A kind that a changed gate meets otherwise: from what to what, and for which reasons."""

    before: Outcome
    after: Outcome
    reasons: tuple[Reason, ...]


def _worse(outcome: Outcome) -> int:
    return (Outcome.ADMITTED, Outcome.ASKED, Outcome.PARKED, Outcome.REFUSED).index(outcome)


def turned(before: Decision, after: Decision) -> Turn | None:
    """What the change does to a kind; None: nothing. The reasons are those that come, or those that
    go where it is let in.
    """
    if before.outcome is after.outcome:
        return None
    worse = _worse(after.outcome) > _worse(before.outcome)
    gained, lost = (after, before) if worse else (before, after)
    stays = {reason.code for reason in lost.reasons}
    reasons = tuple(reason for reason in gained.reasons if reason.code not in stays)
    return Turn(before.outcome, after.outcome, reasons or gained.reasons)


@dataclass(frozen=True, slots=True)
class Tally:
    """How many turn, to which outcome and for which reason; one can have several reasons."""

    outcome: Outcome
    code: str
    explanation: str
    number: int


@dataclass(slots=True)
class Replay:
    """What a change turns among so many that were looked at: key of a kind → its turn."""

    looked_at: int
    turns: dict[str, Turn] = field(default_factory=dict)
    numbers: dict[str, int] = field(default_factory=dict)
    examples: dict[str, int] = field(default_factory=dict)

    def add(self, key: str, number: int, example_id: int, turn: Turn) -> None:
        """Take in one kind that turns."""
        self.turns[key] = turn
        self.numbers[key] = number
        self.examples[key] = example_id

    def count(self, after: Outcome) -> int:
        """How many turn to an outcome."""
        return sum(self.numbers[key] for key, turn in self.turns.items() if turn.after is after)

    def tallies(self) -> list[Tally]:
        """By outcome and reason, the most first."""
        numbers: dict[tuple[Outcome, str], int] = {}
        words: dict[tuple[Outcome, str], str] = {}
        for key, turn, reason in self._lines():
            place = (turn.after, reason.code)
            numbers[place] = numbers.get(place, 0) + self.numbers[key]
            words.setdefault(place, reason.explanation)
        found = [Tally(after, code, words[after, code], n) for (after, code), n in numbers.items()]
        return sorted(found, key=lambda one: (list(Outcome).index(one.outcome), -one.number))

    def keys(self, after: Outcome | None, code: str | None) -> Sequence[str]:
        """The kinds that turn to an outcome, for a reason."""
        return [
            key
            for key, turn in self.turns.items()
            if after in (None, turn.after)
            and (code is None or any(reason.code == code for reason in turn.reasons))
        ]

    def _lines(self) -> Iterator[tuple[str, Turn, Reason]]:
        for key, turn in self.turns.items():
            # Two quotas can have been reached: one reason, told once.
            for reason in {reason.code: reason for reason in reversed(turn.reasons)}.values():
                yield key, turn, reason


def compared(
    arrival: Arrival, facts: Mapping[str, Any], spoken: Spoken, current: Gate, proposed: Gate
) -> Turn | None:
    """What becomes of a kind by the change from one gate to another."""
    return turned(
        decide_by(arrival, audience(current, spoken, facts)),
        decide_by(arrival, audience(proposed, spoken, facts)),
    )
