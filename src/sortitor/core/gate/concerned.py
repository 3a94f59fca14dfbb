"""For whom a change of the gate changes what: people counted by what counts for them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from sortitor.core.gate.facets import effective, statement_said
from sortitor.core.gate.policies import Gate, Policy
from sortitor.core.gate.replay import Spoken
from sortitor.core.vocabulary import Facet, Platform


@dataclass(frozen=True, slots=True)
class Change:
    """What changes of a facet for so many people. A platform without a word of its own has none
    before or after; `policy` says it from now on.
    """

    facet: Facet
    platform: Platform | None
    before: str | None
    after: str | None
    policy: str | None
    people: int


@dataclass(frozen=True, slots=True)
class Concerned:
    """For how many people anything changes, and the changes, the widest first."""

    people: int
    changes: tuple[Change, ...]


#: Where a word stands → the word and the policy that says it.
_Words = dict[tuple[Facet, Platform | None], tuple[str, str]]


def concerned(
    current: Gate, proposed: Gate, spoken: Spoken, kinds: Iterable[tuple[frozenset[str], int]]
) -> Concerned:
    """kinds: the labels of the audiences (see `Spoken`) that people are in, and how many are in
    just these. Policies for devices are nobody's in particular and are left out.
    """
    total = 0
    found: Counter[tuple[Facet, Platform | None, str | None, str | None, str | None]] = Counter()
    for labels, number in kinds:
        before, after = (_words(gate, spoken, labels) for gate in (current, proposed))
        changed = [
            place
            for place in before.keys() | after.keys()
            if before.get(place, ("",))[0] != after.get(place, ("",))[0]
        ]
        total += number if changed else 0
        for facet, platform in changed:
            was, _ = before.get((facet, platform), (None, None))
            now, policy = after.get((facet, platform), (None, None))
            found[facet, platform, was, now, policy] += number
    order = list(Facet)
    changes = [Change(*key, number) for key, number in found.items()]
    changes.sort(key=lambda one: (-one.people, order.index(one.facet), one.platform or ""))
    return Concerned(total, tuple(changes))


def _words(gate: Gate, spoken: Spoken, labels: frozenset[str]) -> _Words:
    audience = [policy for policy in gate.policies if _holds(policy, spoken, labels)]
    return {
        (line.statement.facet, line.statement.platform): (
            statement_said(line.statement),
            line.statement.policy,
        )
        for line in effective(audience)
    }


def _holds(policy: Policy, spoken: Spoken, labels: frozenset[str]) -> bool:
    audience = spoken.of(policy)
    return audience is None or audience.label in labels
