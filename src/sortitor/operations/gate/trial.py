"""Trying the gate with an imagined device."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from sortitor.core import gate as core
from sortitor.core.arrivals import was_declared
from sortitor.core.gate import Gate, Holding
from sortitor.core.vocabulary import IdentifierKind, Ownership, Platform, Proof
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.gate.documents import in_force
from sortitor.operations.licences.arrivals import seats_for
from sortitor.store import devices as store_devices
from sortitor.store import gate as store
from sortitor.store import people
from sortitor.store.devices import DeviceRow
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class Imagined:
    """A device to try the gate with; `identifier` may name a real one."""

    platform: Platform
    os_version: str | None
    ownership: Ownership | None
    person: str | None
    identifier: str | None
    maker: str | None = None
    model: str | None = None


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
        known = real_device(connection, imagined.identifier) if imagined.identifier else None
        declared = imagined.ownership or (known.ownership if known else None)
        arrival = core.Arrival(
            platform=imagined.platform,
            os_version=imagined.os_version,
            ownership=declared or Ownership.PERSONAL,
            declared=declared is not None,
            person=person.user_name if person else None,
            groups=frozenset(person.groups if person else ()),
            holding=people.holding(connection, person.id) if person else Holding(),
            maker=imagined.maker or (known.maker if known else None),
            model=imagined.model or (known.model if known else None),
            known=declared_facts(ctx, connection, known),
            stage=known.stage if known else None,
            flag=known.flag if known else None,
            # Whoever is named has signed in and accepted what is asked for.
            proof=Proof.MAIL if person else Proof.NONE,
            accepted=None if person else frozenset(),
        )
        arrival = replace(arrival, seats=_seats(ctx, connection, arrival, known))
        rules = proposed.on(ctx.today) if proposed else in_force(connection, ctx.today)
        return core.decide(arrival, rules)


def _seats(
    ctx: Context, connection: Connection, arrival: core.Arrival, known: DeviceRow | None
) -> tuple[core.Seats, ...]:
    before = facts_of(ctx, connection, known.id) if known else None
    told = {
        "platform": arrival.platform,
        "osVersion": arrival.os_version,
        "maker": arrival.maker,
        "model": arrival.model,
        "ownership": arrival.ownership,
        "person.userName": arrival.person,
        "person.groups": sorted(arrival.groups),
    }
    after = {**(before or {}), **{name: value for name, value in told.items() if value}}
    return seats_for(ctx, connection, before, after, lock=False)


def real_device(connection: Connection, identifier: str) -> DeviceRow | None:
    """The device of an identifier, whatever its kind."""
    keys = [(kind.value, identifier.strip().upper()) for kind in IdentifierKind]
    found = store_devices.find(connection, keys, "")
    return store_devices.one(connection, found[0]) if found else None


def declared_facts(
    ctx: Context, connection: Connection, device: DeviceRow | None
) -> Mapping[str, Any] | None:
    """What was declared of a device, for policies that go by it; None where nothing was."""
    if device is None or not was_declared(device.lot_id, device.ownership_basis):
        return None
    return facts_of(ctx, connection, device.id)


def facts_of(ctx: Context, connection: Connection, device_id: int) -> Mapping[str, Any]:
    """All that is known of a device, in the words of filters."""
    return store.known_of(connection, device_id, ctx.now)
