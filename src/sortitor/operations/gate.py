"""The gate: reading, trying, previewing and changing it."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core import gate as core
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.gate import Gate
from sortitor.core.previews import Count, Example, plural
from sortitor.core.vocabulary import IdentifierKind, Outcome, Ownership, Platform
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import DocumentKind, Effect, Wanted
from sortitor.store import devices as store_devices
from sortitor.store import groups, people, tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection

GATE_ID = 1


class GateBook(DocumentKind[Gate]):
    """The gate as a document, of which there is one."""

    def called(self, document: Gate) -> str:
        """There is only one."""
        return "the gate"

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Gate]) -> None:
        """Every group that a policy names is known."""
        assert wanted.proposed is not None
        known = {row.name.lower() for row in groups.every(connection)}
        for place, policy in enumerate(wanted.proposed.policies):
            for group in policy.groups or ():
                if group.lower() not in known:
                    raise _unknown_group(place, policy.name, group)

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Gate]) -> Effect:
        """Whom of today's fleet the gate would meet otherwise, and who would be over quota."""
        assert wanted.former is not None
        assert wanted.proposed is not None
        return _replayed(connection, wanted.former.document, wanted.proposed)


GATE = GateBook("gate", "gate", Shelf(Gate, tables.rulebooks))


def _unknown_group(place: int, policy: str, group: str) -> BadInput:
    detail = f"Policy {policy!r} is for the group {group!r}, which nobody is in."
    problem = FieldProblem(f"/policies/{place}/groups", "unknown_group", detail)
    remedy = "Import people with that group, or correct its name."
    return BadInput("unknown_group", detail, remedy, (problem,))


def read(ctx: Context) -> Kept[Gate]:
    """The gate with its revision."""
    return GATE.one(ctx, GATE_ID)


def in_force(connection: Connection) -> Gate:
    """The gate that decides now."""
    return GATE.find(connection, GATE_ID).document


def _replayed(connection: Connection, current: Gate, proposed: Gate) -> Effect:
    refused = admitted = 0
    examples = []
    for alike in people.combinations(connection):
        before, after = _decision(alike, current), _decision(alike, proposed)
        if before.outcome == after.outcome:
            continue
        if after.outcome is Outcome.REFUSED:
            refused += alike.devices
        if before.outcome is Outcome.REFUSED:
            admitted += alike.devices
        reasons = after.reasons if after.outcome is Outcome.REFUSED else before.reasons
        examples.append(
            Example(
                subject=plural(alike.devices, "device"),
                field=_kind_of_devices(alike),
                before=before.outcome.value,
                after=after.outcome.value,
                note=" ".join(reason.explanation for reason in reasons),
                device_id=alike.example_id,
            )
        )
    over_before, over_after = _over_quota(connection, current), _over_quota(connection, proposed)
    for person, (owned, quota) in over_after.items():
        if person not in over_before:
            examples.append(_newly_over(person, owned, quota))
    return Effect(
        counts=(
            _count("refused", "devices of today that would be refused at the door", refused),
            _count(
                "admitted", "devices of today that would no longer be refused", admitted, "good"
            ),
            _count("over_quota", "people over their quota", len(over_after)),
        ),
        examples=tuple(examples[:50]),
        examples_total=len(examples),
        warnings=("Nobody loses a device: the gate decides on devices that knock from now on.",),
        label="Save the gate",
        facts=[refused, admitted, sorted(over_after)],
    )


def _count(key: str, label: str, number: int, tone: str = "warn") -> Count:
    return Count(key, label, number, tone if number else "plain")


def _kind_of_devices(alike: people.AlikeRow) -> str:
    platform = alike.platform.label if alike.platform else "platform unknown"
    return f"{' '.join(filter(None, (platform, alike.os_version)))}, {alike.ownership}"


def _newly_over(person: str, owned: int, quota: int) -> Example:
    return Example(
        subject=person,
        field="quota",
        before=plural(owned, "device"),
        after=f"at most {quota}",
        note="keeps them; the next is refused",
    )


def _decision(alike: people.AlikeRow, gate: Gate) -> core.Decision:
    """How the gate would meet devices like these, the quota aside."""
    arrival = core.Arrival(
        platform=alike.platform,
        os_version=alike.os_version,
        ownership=alike.ownership,
        declared=True,
        person="somebody",
        groups=frozenset(alike.groups or ()),
        holding=0,
    )
    return core.decide(arrival, gate)


def _over_quota(connection: Connection, gate: Gate) -> dict[str, tuple[int, int]]:
    """Who has more devices than the quota: user name → (devices, quota)."""
    over = {}
    for row in people.holders(connection, gate.lowest_quota + 1):
        quota, _ = gate.quota_for(frozenset(row.groups))
        if row.holding > quota:
            over[row.user_name] = (row.holding, quota)
    return over


def over_quota(ctx: Context) -> dict[str, tuple[int, int]]:
    """Who has more devices than the gate's quota: user name → (devices, quota)."""
    with ctx.reading() as connection:
        return _over_quota(connection, in_force(connection))


@dataclass(frozen=True, slots=True)
class Imagined:
    """A device to try the gate with; `identifier` may name a real one."""

    platform: Platform
    os_version: str | None
    ownership: Ownership | None
    person: str | None
    identifier: str | None


def attempt(ctx: Context, imagined: Imagined, proposed: Gate | None) -> core.Decision:
    """What the gate (or a proposed one) would say to an imagined device, with the whole trace.

    Nothing is written.
    """
    with ctx.reading() as connection:
        if proposed is not None:
            proposed.check()
        person = None
        if imagined.person:
            person = or_not_found(
                people.by_name(connection, imagined.person), "person", imagined.person
            )
        known = _real_device(connection, imagined.identifier) if imagined.identifier else None
        declared = imagined.ownership or (known.ownership if known else None)
        arrival = core.Arrival(
            platform=imagined.platform,
            os_version=imagined.os_version,
            ownership=declared or Ownership.PERSONAL,
            declared=declared is not None,
            person=person.user_name if person else None,
            groups=frozenset(person.groups if person else ()),
            holding=people.holding(connection, person.id) if person else 0,
            stage=known.stage if known else None,
            flag=known.flag if known else None,
        )
        return core.decide(arrival, proposed or in_force(connection))


def _real_device(connection: Connection, identifier: str) -> store_devices.DeviceRow | None:
    keys = [(kind.value, identifier.strip().upper()) for kind in IdentifierKind]
    found = store_devices.find(connection, keys, "")
    return store_devices.one(connection, found[0]) if found else None
