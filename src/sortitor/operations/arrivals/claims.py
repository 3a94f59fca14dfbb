"""Claims on devices in use: whether the one that arrived is the one in use."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, sealed
from sortitor.core.vocabulary import Claim, Stage
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store import people
from sortitor.store.arrivals import ArrivalRow
from sortitor.store.devices import DeviceRow
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class _Claimed:
    """An open claim with the device in use; its person and the device are held where it is
    granted.
    """

    arrival: ArrivalRow
    device: DeviceRow
    patch: dict[str, Any]
    preview: Preview


def preview_hand_over(ctx: Context, arrival_id: int) -> Preview:
    """What handing the device in use over to the one that arrived would change."""
    with ctx.reading() as connection:
        return _claimed(ctx, connection, arrival_id, lock=False).preview


def hand_over(ctx: Context, arrival_id: int, digest: str, reason: str | None) -> Preview:
    """Take the arrived device for the one in use: it keeps its record, the person and version of
    the arrival become its own, the former credential ends.
    """
    with ctx.changing() as connection:
        claimed = _claimed(ctx, connection, arrival_id, lock=True)
        require_digest(claimed.preview, digest)
        device = claimed.device
        entry = ctx.record(
            connection,
            "device.hand_over",
            "device",
            f"{device.label} handed over to the device that arrived",
            subject_id=device.id,
            reason=reason,
        )
        store.end_credentials(connection, [device.id], ctx.now, entry)
        store.grant_credential(connection, arrival_id, entry)
        store.decide_claim(connection, arrival_id, Claim.GRANTED)
        store_devices.patch_one(connection, entry, device.id, claimed.patch)
        return claimed.preview


def turn_away(ctx: Context, arrival_id: int, reason: str | None) -> None:
    """Let the device in use stay what it is; what arrived gets no credential."""
    with ctx.changing() as connection:
        claimed = _claimed(ctx, connection, arrival_id, lock=True)
        store.withdraw_credential(connection, arrival_id)
        store.decide_claim(connection, arrival_id, Claim.DENIED)
        ctx.record(
            connection,
            "arrival.turn_away",
            "device",
            f"An arrival that claimed to be {claimed.device.label} turned away",
            subject_id=claimed.device.id,
            reason=reason,
        )


def _claimed(ctx: Context, connection: Connection, arrival_id: int, lock: bool) -> _Claimed:
    arrival = or_not_found(store.one(connection, arrival_id), "arrival", arrival_id)
    person = people.one(connection, arrival.person_id) if arrival.person_id else None
    if lock and person is not None:
        people.lock(connection, person.id)
    number = arrival.device_id or 0
    device = or_not_found(store_devices.one(connection, number, lock=lock), "device", number)
    arrival = or_not_found(store.one(connection, arrival_id, lock=lock), "arrival", arrival_id)
    if arrival.claim is not Claim.OPEN:
        raise Conflict(
            "no_open_claim",
            "Nothing is to be decided of this arrival any more.",
            "Read the device's timeline.",
        )
    patch: dict[str, Any] = {"last_seen_at": arrival.at.isoformat()}
    if version := arrival.stated.get("os_version"):
        patch["os_version"] = version
    if person is not None:
        patch["person_id"] = person.id
    if device.stage is Stage.DORMANT:
        patch |= {"stage": Stage.ACTIVE, "stage_at": ctx.now.isoformat()}
    examples = (
        Example(device.label, "person", device.person_name, person.name if person else None),
        Example(device.label, "OS version", device.os_version, patch.get("os_version")),
    )
    shown = Preview(
        title=f"Hand {device.label} over to the device that arrived",
        apply_label="Hand it over",
        counts=(Count("credentials", "credential in use ends", 1, "warn"),),
        examples=tuple(one for one in examples if one.after and one.after != one.before),
        examples_total=sum(bool(one.after and one.after != one.before) for one in examples),
        warnings=(
            "The device in use cannot check in any more. If both exist, turn the arrival away and"
            " find out whose the second one is.",
        ),
    )
    return _Claimed(arrival, device, patch, sealed(shown, [arrival_id, patch]))
