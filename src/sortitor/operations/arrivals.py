"""Passes, and devices that knock with them."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection

from sortitor.core import gate as core_gate
from sortitor.core import passes as core_passes
from sortitor.core import versions
from sortitor.core.errors import BadInput, Conflict, FieldProblem, NotFound
from sortitor.core.identifiers import check_one, explain
from sortitor.core.lots import maker_key
from sortitor.core.vocabulary import (
    Activation,
    Basis,
    IdentifierKind,
    Outcome,
    Ownership,
    Platform,
    Role,
    Stage,
)
from sortitor.operations import gate, naming
from sortitor.operations.context import Actor, Context, must
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store import people
from sortitor.store.engine import Line

_RETRIES = 5
_MEANWHILE = {"identifier_taken", "name_taken", "changed_meanwhile"}


@dataclass(frozen=True, slots=True)
class PassTerms:
    """Under which conditions a pass lets devices knock."""

    label: str
    activation: Activation
    ownership: Ownership | None
    person: str | None
    valid_from: datetime
    valid_until: datetime
    max_uses: int | None


def add_pass(ctx: Context, terms: PassTerms) -> tuple[int, str]:
    """A new pass's id and its code, which is revealed this once."""
    if terms.valid_until <= terms.valid_from or terms.valid_until <= ctx.now:
        detail = (
            "The pass would have ended before it begins."
            if terms.valid_until <= terms.valid_from
            else f"The pass would have ended on {terms.valid_until:%Y-%m-%d %H:%M}."
        )
        raise BadInput(
            "pass_validity",
            detail,
            "Choose a later end.",
            (FieldProblem("/valid_until", "pass_validity", detail),),
        )
    code = core_passes.new_code(secrets.choice)
    with ctx.changing() as connection:
        person = (
            must(people.by_name(connection, terms.person), "person", terms.person)
            if terms.person
            else None
        )
        pass_id = store.add_pass(
            connection,
            {
                "code_hash": core_passes.hash_code(code),
                "label": terms.label,
                "activation": terms.activation,
                "ownership": terms.ownership,
                "person_id": person.id if person else None,
                "valid_from": terms.valid_from,
                "valid_until": terms.valid_until,
                "max_uses": terms.max_uses,
                "created_by": ctx.actor.name,
                "created_at": ctx.now,
            },
        )
        shown = {
            name: value if isinstance(value, int | None) else str(value)
            for name, value in asdict(terms).items()
        }
        ctx.record(
            connection,
            "pass.add",
            "pass",
            f"Pass “{terms.label}” made",
            subject_id=pass_id,
            after=shown,
        )
    return pass_id, code


def revoke_pass(ctx: Context, pass_id: int, reason: str | None) -> None:
    """End a pass at once."""
    with ctx.changing() as connection:
        label = store.revoke_pass(connection, pass_id, ctx.now)
        if label is None:
            raise NotFound("living pass", pass_id)
        ctx.record(
            connection,
            "pass.revoke",
            "pass",
            f"Pass “{label}” revoked",
            subject_id=pass_id,
            reason=reason,
        )


def passes(ctx: Context, before: int | None, limit: int) -> Sequence[Line]:
    """Passes, newest first."""
    with ctx.reading() as connection:
        return store.pass_page(connection, before, limit)


def page(
    ctx: Context, outcome: str | None, waiting: bool, before: int | None, limit: int
) -> Sequence[Line]:
    """Arrivals, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, outcome, waiting, before, limit)


def one(ctx: Context, arrival_id: int) -> Line:
    """One arrival with its trace."""
    with ctx.reading() as connection:
        return must(store.one(connection, arrival_id), "arrival", arrival_id)


@dataclass(frozen=True, slots=True)
class Knock:
    """What a device states when it arrives."""

    code: str
    platform: Platform
    os_version: str | None
    maker: str | None
    model: str | None
    serial: str | None
    imeis: tuple[str, ...]
    person: str | None


@dataclass(frozen=True, slots=True)
class Answer:
    """What the device is told."""

    arrival_id: int
    outcome: Outcome
    reasons: tuple[core_gate.Reason, ...]
    device_id: int | None = None
    name: str | None = None
    credential: str | None = None


def hash_credential(secret: str) -> bytes:
    """What is stored of a device credential (256 random bits)."""
    return hashlib.sha256(secret.encode()).digest()


def knock(ctx: Context, stated: Knock) -> Answer:
    """Let the gate decide on an arriving device and carry the decision out, in one transaction.

    The person's row is locked first, then the device's, then the counter of the name: the quota
    holds under any concurrency, and two knocks never wait for each other in a circle.
    """
    keys = _identifiers(stated)
    if stated.os_version is not None:
        try:
            versions.components(stated.os_version)
        except ValueError as error:
            raise BadInput(
                "bad_version",
                f"{error}.",
                "State the version as numbers joined by dots.",
                (FieldProblem("/os_version", "bad_version", str(error)),),
            ) from error
    device_ctx = Context(
        ctx.engine, ctx.clock, ctx.limits, Actor("device", Role.VIEWER), ctx.request_id
    )
    for attempt in range(_RETRIES):
        try:
            return _knock_once(device_ctx, stated, keys)
        except Conflict as error:
            # Another knock took the same name or identifier at the same moment; the facts are read
            # again.
            if error.code not in _MEANWHILE or attempt == _RETRIES - 1:
                raise
    raise AssertionError("the last attempt returns or raises")


def _identifiers(stated: Knock) -> list[dict[str, str]]:
    given = [(IdentifierKind.SERIAL, stated.serial, "/serial")] if stated.serial else []
    given += [(IdentifierKind.IMEI, imei, f"/imeis/{i}") for i, imei in enumerate(stated.imeis)]
    keys, problems = [], []
    for kind, text, pointer in given:
        value, note = check_one(kind, str(text))
        if value is None:
            problems.append(
                FieldProblem(
                    pointer, note or "missing", f"{text!r}: {explain(note or 'nothing_valid')}"
                )
            )
        else:
            maker = maker_key(stated.maker or "") if kind is IdentifierKind.SERIAL else ""
            keys.append({"kind": kind.value, "value": value, "maker": maker, "given": str(text)})
    if problems or not keys:
        detail = (
            problems[0].detail
            if problems
            else "A device states at least its serial number or an IMEI."
        )
        raise BadInput(
            "bad_identifiers", detail, "Read the identifier from the hardware.", tuple(problems)
        )
    return keys


def _knock_once(ctx: Context, stated: Knock, keys: list[dict[str, str]]) -> Answer:
    with ctx.changing() as connection:
        code = core_passes.read_code(stated.code)
        shown = store.pass_by_hash(connection, core_passes.hash_code(code)) if code else None
        person, signin_failed = _person(connection, stated, shown)
        holding = people.lock(connection, person.id) if person else 0
        found = store_devices.find(
            connection, [(k["kind"], k["value"]) for k in keys], maker_key(stated.maker or "")
        )
        if len(found) > 1:
            raise Conflict(
                "two_devices",
                "The identifiers belong to different devices.",
                "A coordinator must clear this up on the devices' pages.",
            )
        device = store_devices.one(connection, found[0], lock=True) if found else None
        # A device whose person is known keeps it when nobody else is named.
        if (
            person is None
            and device is not None
            and device.person_id
            and device.stage != Stage.RETIRED
            and not signin_failed
        ):
            person = people.one(connection, device.person_id)
            holding = people.lock(connection, device.person_id)
        ownership, basis = _ownership(device, shown)
        counted = (
            device is not None
            and person is not None
            and device.person_id == person.id
            and device.stage in ("parked", "active", "dormant")
        )
        arrival = core_gate.Arrival(
            stated.platform,
            stated.os_version,
            ownership,
            basis is not Basis.INFERRED,
            person.user_name if person else None,
            frozenset(person.groups) if person else frozenset(),
            holding - counted,
            Stage(device.stage) if device else None,
            device.flag if device else None,
            signin_failed,
            _terms(ctx, shown),
        )
        decision = core_gate.decide(arrival, gate.policies(connection)[1])
        values = {
            "at": ctx.now,
            "outcome": decision.outcome,
            "person_id": person.id if person else None,
            "pass_id": shown.id if shown else None,
            "stated": {**asdict(stated), "code": None, "imeis": list(stated.imeis)},
            "reasons": [asdict(r) for r in decision.reasons],
            "trace": [asdict(s) for s in decision.trace],
        }
        if decision.outcome is Outcome.REFUSED:
            arrival_id = store.add_arrival(
                connection, {**values, "device_id": device.id if device else None}
            )
            return Answer(arrival_id, decision.outcome, decision.reasons)
        assert shown is not None
        device_id, name = _let_in(
            ctx, connection, stated, keys, device, person, decision, ownership, basis
        )
        credential = secrets.token_urlsafe(32)
        store.give_credential(connection, device_id, hash_credential(credential), ctx.now)
        arrival_id = store.add_arrival(connection, {**values, "device_id": device_id})
        # Last, since every knock with this pass waits on its row from here to the commit.
        if not store.use_pass(connection, shown.id):
            raise Conflict(
                "changed_meanwhile", "The pass was used up at this very moment.", "Try again."
            )
        return Answer(arrival_id, decision.outcome, decision.reasons, device_id, name, credential)


def _person(connection: Connection, stated: Knock, shown: Line | None) -> tuple[Line | None, bool]:
    """Whose arrival it is: the pass's person, else the one the device names; and whether the two
    contradict.
    """
    named = people.by_name(connection, stated.person) if stated.person else None
    if shown is not None and shown.person_id:
        holder = people.one(connection, shown.person_id)
        failed = (
            holder is None
            or holder.left_at is not None
            or (bool(stated.person) and (named is None or named.id != holder.id))
        )
        return (None if failed else holder), failed
    return named, bool(stated.person) and named is None


def _ownership(device: Line | None, shown: Line | None) -> tuple[Ownership, Basis]:
    """Whose the device is after its arrival: the stronger basis wins; undeclared means personal."""
    if (
        device is not None
        and device.ownership != Ownership.UNKNOWN
        and Basis(device.ownership_basis).strength > Basis.PASS.strength
    ):
        return Ownership(device.ownership), Basis(device.ownership_basis)
    if shown is not None and shown.ownership:
        return Ownership(shown.ownership), Basis.PASS
    if device is not None and gate.declared(device):
        return Ownership(device.ownership), Basis(device.ownership_basis)
    return Ownership.PERSONAL, Basis.INFERRED


def _terms(ctx: Context, shown: Line | None) -> core_gate.Pass:
    if shown is None:
        return core_gate.Pass(trouble="pass_unknown")
    trouble = core_passes.trouble(
        ctx.now,
        shown.valid_from,
        shown.valid_until,
        shown.revoked_at is not None,
        shown.uses,
        shown.max_uses,
    )
    return core_gate.Pass(
        trouble,
        Activation(shown.activation),
        Ownership(shown.ownership) if shown.ownership else None,
    )


def _let_in(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    keys: Sequence[Mapping[str, str]],
    device: Line | None,
    person: Line | None,
    decision: core_gate.Decision,
    ownership: Ownership,
    basis: Basis,
) -> tuple[int, str | None]:
    """Write the device as admitted or parked, with a name if it has none; gives its id and name."""
    stage = Stage.ACTIVE if decision.outcome is Outcome.ADMITTED else Stage.PARKED
    at = ctx.now.isoformat()
    if device is None:
        device_id = store.add_device(
            connection,
            {
                "stage": Stage.AWAITED,
                "stage_at": ctx.now,
                "created_at": ctx.now,
                "platform": stated.platform,
                "maker": stated.maker,
            },
            keys,
        )
        fresh: Sequence[Mapping[str, str]] = ()
        manual: list[str] = []
    else:
        device_id, manual = device.id, device.manual
        held = {
            (row.kind, row.value) for row in store_devices.identifiers_of(connection, device_id)
        }
        fresh = [key for key in keys if (key["kind"], key["value"]) not in held]
    patch: dict[str, Any] = {
        "stage": stage,
        "stage_at": at,
        "enrolled_at": at,
        "last_seen_at": at,
        "platform": stated.platform,
        "ownership": ownership,
        "ownership_basis": basis,
    }
    patch |= {
        field: value
        for field, value in (
            ("os_version", stated.os_version),
            ("model", stated.model),
            ("maker", stated.maker),
        )
        if value and field not in manual
    }
    if device is not None and device.maker:
        patch.pop("maker", None)
    if person is not None:
        patch["person_id"] = person.id
    if fresh:
        patch["identifiers"] = [dict(key) for key in fresh]
    entry = ctx.record(
        connection,
        "device.knock",
        "device",
        f"{stated.maker or ''} {stated.model or stated.platform} {decision.outcome}".strip(),
        subject_id=device_id,
    )
    store_devices.patch_one(connection, entry, device_id, patch)
    name = device.name if device is not None else None
    if name is None or not store_devices.name_is_free(connection, name, device_id):
        name = naming.name_for(connection, device_id, ctx.now)
        named = ctx.record(
            connection,
            "device.name",
            "device",
            f"Named {name}" if name else "No template gave a name",
            subject_id=device_id,
        )
        store_devices.patch_one(
            connection,
            named,
            device_id,
            {"name": name, "name_basis": Basis.INFERRED if name else None},
        )
    return device_id, name
