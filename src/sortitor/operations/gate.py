"""The gate's policies: reading, trying, changing them."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection

from sortitor.core import gate as core
from sortitor.core.errors import BadInput, FieldProblem, Stale
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import (
    Basis,
    IdentifierKind,
    Outcome,
    Ownership,
    Platform,
    Returning,
    Stage,
)
from sortitor.operations.context import Context, must, must_match
from sortitor.store import devices as store_devices
from sortitor.store import groups, people, rulebooks

BOOK = "gate"


def as_document(policy: core.Policy) -> dict[str, Any]:
    """A policy as JSON."""
    document = dataclasses.asdict(policy)
    return {
        **document,
        "groups": None if policy.groups is None else list(policy.groups),
        "ownerships": None if policy.ownerships is None else list(policy.ownerships),
    }


def from_document(document: dict[str, Any]) -> core.Policy:
    """A policy from JSON."""
    return core.Policy(
        name=document["name"],
        groups=None if document["groups"] is None else tuple(document["groups"]),
        platforms={
            Platform(name): core.PlatformRule(**rule)
            for name, rule in document["platforms"].items()
        },
        ownerships=(
            None
            if document["ownerships"] is None
            else tuple(map(Ownership, document["ownerships"]))
        ),
        quota=document["quota"],
        declared_only=document["declared_only"],
        returning=Returning(document["returning"]) if document["returning"] else None,
    )


def policies(connection: Connection, lock: bool = False) -> tuple[int, list[core.Policy]]:
    """The gate's revision and policies; those of a new installation before any were saved."""
    book = rulebooks.read(connection, BOOK, lock)
    return (book[0], [from_document(d) for d in book[1]]) if book else (0, core.starting_gate())


def read(ctx: Context) -> tuple[int, list[core.Policy]]:
    """The gate's revision and policies."""
    with ctx.reading() as connection:
        return policies(connection)


def preview(ctx: Context, proposed: Sequence[core.Policy]) -> Preview:
    """Whom of today's fleet the proposed gate would refuse or let in otherwise, and who would be
    over quota.
    """
    with ctx.reading() as connection:
        return _plan(connection, proposed)


def _plan(connection: Connection, proposed: Sequence[core.Policy]) -> Preview:
    core.check_policies(proposed)
    known = {row.name.lower() for row in groups.every(connection)}
    for place, policy in enumerate(proposed):
        for group in policy.groups or ():
            if group.lower() not in known:
                detail = f"Policy {policy.name!r} is for the group {group!r}, which nobody is in."
                raise BadInput(
                    "unknown_group",
                    detail,
                    "Import people with that group, or correct its name.",
                    (FieldProblem(f"/policies/{place}/groups", "unknown_group", detail),),
                )
    revision, current = policies(connection)
    refused = admitted = 0
    examples = []
    for combination in people.combinations(connection):
        before, after = _verdict(combination, current), _verdict(combination, proposed)
        if before.outcome == after.outcome:
            continue
        reasons = after.reasons if after.outcome is Outcome.REFUSED else before.reasons
        refused += combination.devices if after.outcome is Outcome.REFUSED else 0
        admitted += combination.devices if before.outcome is Outcome.REFUSED else 0
        what = (
            f"{combination.platform or 'platform unknown'} {combination.os_version or ''},"
            f" {combination.ownership}".replace(" ,", ",")
        )
        examples.append(
            Example(
                plural(combination.devices, "device"),
                what,
                before.outcome.value,
                after.outcome.value,
                "; ".join(f"{r.policy}: wants {r.wanted}, is {r.actual}" for r in reasons),
                combination.example_id,
            )
        )
    over_before, over_after = _over_quota(connection, current), _over_quota(connection, proposed)
    for name, (held, quota) in over_after.items():
        if name not in over_before:
            examples.append(
                Example(
                    name,
                    "quota",
                    f"{held} devices",
                    f"at most {quota}",
                    "keeps them; the next is refused",
                )
            )
    counts = (
        Count(
            "refused",
            "devices of today that would be refused at the door",
            refused,
            "warn" if refused else "plain",
        ),
        Count(
            "admitted",
            "devices of today that would no longer be refused",
            admitted,
            "good" if admitted else "plain",
        ),
        Count(
            "over_quota",
            "people over their quota",
            len(over_after),
            "warn" if over_after else "plain",
        ),
    )
    warnings = ("Nobody loses a device: the gate decides on devices that knock from now on.",)
    shown = Preview(
        "Change the gate", "Save the gate", counts, tuple(examples[:50]), len(examples), warnings
    )
    return sealed(
        shown, [revision, [as_document(p) for p in proposed], refused, admitted, sorted(over_after)]
    )


def _verdict(combination: Any, gate: Sequence[core.Policy]) -> core.Decision:
    """How the gate would meet devices like these, the quota aside."""
    arrival = core.Arrival(
        Platform(combination.platform or Platform.LINUX),
        combination.os_version,
        Ownership(combination.ownership),
        True,
        "somebody",
        frozenset(combination.groups or ()),
        0,
    )
    return core.decide(arrival, gate)


def _over_quota(connection: Connection, gate: Sequence[core.Policy]) -> dict[str, tuple[int, int]]:
    """Who holds more devices than the quota: user name → (devices, quota)."""
    lowest = min(policy.quota for policy in gate if policy.quota is not None)
    people_over = {}
    for row in people.holders(connection, lowest + 1):
        quota, _ = core.quota_for(frozenset(row.groups), gate)
        if row.holding > quota:
            people_over[row.user_name] = (row.holding, quota)
    return people_over


def over_quota(ctx: Context) -> dict[str, tuple[int, int]]:
    """Who holds more devices than the gate's quota: user name → (devices, quota)."""
    with ctx.reading() as connection:
        return _over_quota(connection, policies(connection)[1])


def apply(
    ctx: Context,
    proposed: Sequence[core.Policy],
    digest: str,
    reason: str | None,
    revision: int | None = None,
) -> int:
    """Save the gate as previewed; gives its revision.

    `revision` (If-Match) must be the one that was read.
    """
    with ctx.changing() as connection:
        current_revision, current = policies(connection, lock=True)
        if revision is not None and revision != current_revision:
            raise Stale("the gate")
        must_match(_plan(connection, proposed), digest)
        rulebooks.write(connection, BOOK, [as_document(p) for p in proposed])
        ctx.record(
            connection,
            "gate.apply",
            BOOK,
            f"Gate saved with {len(proposed)} policies",
            reason=reason,
            before=[as_document(p) for p in current],
            after=[as_document(p) for p in proposed],
        )
        return current_revision + 1


@dataclasses.dataclass(frozen=True, slots=True)
class Imagined:
    """A device to try the gate with; `identifier` may name a real one."""

    platform: Platform
    os_version: str | None
    ownership: Ownership | None
    person: str | None
    identifier: str | None


def attempt(
    ctx: Context, imagined: Imagined, proposed: Sequence[core.Policy] | None
) -> core.Decision:
    """What the gate (or a proposed one) would say to an imagined device, with the whole trace.

    Nothing is written.
    """
    with ctx.reading() as connection:
        if proposed is not None:
            core.check_policies(proposed)
        gate = proposed if proposed is not None else policies(connection)[1]
        person = (
            must(people.by_name(connection, imagined.person), "person", imagined.person)
            if imagined.person
            else None
        )
        known = None
        if imagined.identifier:
            found = store_devices.find(
                connection,
                [(kind.value, imagined.identifier.strip().upper()) for kind in IdentifierKind],
                "",
            )
            known = store_devices.one(connection, found[0]) if found else None
        declared = imagined.ownership or (Ownership(known.ownership) if known else None)
        stage = Stage(known.stage) if known else None
        arrival = core.Arrival(
            imagined.platform,
            imagined.os_version,
            declared or Ownership.PERSONAL,
            declared is not None,
            person.user_name if person else None,
            frozenset(person.groups) if person else frozenset(),
            people.lock(connection, person.id) if person else 0,
            stage,
            known.flag if known else None,
        )
        return core.decide(arrival, gate)


def declared(device: Any) -> bool:
    """Whether somebody said whose the device is (rather than the gate inferring it)."""
    return bool(device.ownership_basis != Basis.INFERRED and device.ownership != Ownership.UNKNOWN)
