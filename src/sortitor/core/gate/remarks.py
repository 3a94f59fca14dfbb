"""What is odd about a gate that can be saved: words nobody hears, passes that it defeats."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from sortitor.core.gate.facets import FIELDS, Statement, must, own, statements
from sortitor.core.gate.policies import Gate, Policy, Who
from sortitor.core.vocabulary import Facet, Ownership, Platform

#: A facet in a sentence, where its name is no word of the trade.
WORDS = {
    Facet.DOOR: "whether it may come in",
    Facet.VERSIONS: "the OS versions",
    Facet.MAKERS: "the makers",
    Facet.MODELS: "the models",
    Facet.OWNERSHIPS: "the ownerships let in",
    Facet.DECLARED_ONLY: "undeclared devices",
    Facet.QUOTA: "the quota",
    Facet.SIGN_IN: "sign-in",
    Facet.TERMS: "the terms",
    Facet.RETURNING: "returning devices",
}


@dataclass(frozen=True, slots=True)
class Remark:
    """One thing that is odd, and where: `pointer` is a JSON pointer (RFC 6901) into the gate."""

    pointer: str
    code: str
    detail: str


@dataclass(frozen=True, slots=True)
class Declaring:
    """A pass in force that declares whose its devices are; `who` is the one person it is for."""

    label: str
    ownership: Ownership
    who: Who


def remarks(gate: Gate, today: date, passes: Sequence[Declaring] = ()) -> list[Remark]:
    """Everything odd, in the order of the policies; then what defeats a pass."""
    found: list[Remark] = []
    for place, policy in enumerate(gate.policies):
        if policy.is_over(today):
            detail = f"“{policy.name}” ended on {policy.until}; it counts no more. Remove it."
            found.append(Remark(f"/policies/{place}/until", "has_ended", detail))
            continue
        found += _of_policy(place, policy)
        found += _unheard(place, policy, gate.policies[:place])
    return [*found, *_defeated(gate.on(today), passes)]


def _of_policy(place: int, policy: Policy) -> Iterator[Remark]:
    if not (policy.holds_everyone or policy.groups or policy.people or policy.devices):
        detail = f"“{policy.name}” holds nobody: it names no group, person or device."
        yield Remark(f"/policies/{place}/groups", "holds_nobody", detail)
    if not any(True for _ in statements(policy)):
        detail = f"“{policy.name}” states nothing; the policies behind it decide."
        yield Remark(f"/policies/{place}", "states_nothing", detail)


def _unheard(place: int, policy: Policy, earlier: Sequence[Policy]) -> Iterator[Remark]:
    # One that ends lets it be heard later.
    before = [one for one in earlier if one.until is None and _covers(one, policy)]
    for statement in statements(policy):
        first = next((one for one in before if _answers(one, statement)), None)
        if first is None:
            continue
        platform = statement.platform
        of = f" of {platform.label}" if platform else ""
        pointer = f"/policies/{place}" + (f"/platforms/{platform}" if platform else "")
        yield Remark(
            f"{pointer}/{FIELDS[statement.facet]}",
            "never_reached",
            f"What “{policy.name}” says about {WORDS[statement.facet]}{of} is never heard:"
            f" “{first.name}” stands before it and answers for everybody whom it holds.",
        )


def _covers(earlier: Policy, later: Policy) -> bool:
    """Whether whoever the later policy holds is held by the earlier one too."""
    if earlier.holds_everyone or later.holds_everyone:
        return earlier.holds_everyone
    if later.devices and later.devices != earlier.devices:
        return False
    return _folded(later.groups) <= _folded(earlier.groups) and _folded(later.people) <= _folded(
        earlier.people
    )


def _folded(names: Sequence[str] | None) -> set[str]:
    return {name.casefold() for name in names or ()}


def _answers(policy: Policy, statement: Statement) -> bool:
    general = own(policy, statement.facet, None) is not None
    if statement.platform is None:
        return general
    if own(policy, statement.facet, statement.platform) is not None:
        return True
    # A quota for all holds beside the platform's own, it does not stand in its way.
    return general and statement.facet is not Facet.QUOTA


def _defeated(gate: Gate, passes: Sequence[Declaring]) -> Iterator[Remark]:
    for one in passes:
        audience = gate.audience(one.who)
        if not any(_lets_in(audience, platform, one.ownership) for platform in Platform):
            detail = (
                f"The pass “{one.label}” declares {one.ownership} devices, and no platform lets"
                " them in: whoever uses it is refused."
            )
            yield Remark("/policies", "defeats_pass", detail)


def _lets_in(audience: Sequence[Policy], platform: Platform, ownership: Ownership) -> bool:
    if not must(audience, Facet.DOOR, platform).value:
        return False
    return ownership in must(audience, Facet.OWNERSHIPS, platform).value
