"""Passes, and devices that knock with them."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace

from tenacity import retry, retry_if_exception, stop_after_attempt

from sortitor.core import gate as core_gate
from sortitor.core import passes as core_passes
from sortitor.core.arrivals import (
    Key,
    Knock,
    check_version,
    counts_already,
    facts_to_set,
    keys_of,
)
from sortitor.core.errors import Conflict, NotFound
from sortitor.core.lots import maker_key
from sortitor.core.ownership import after_arrival
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import Basis, Outcome, Ownership, Role, Stage
from sortitor.operations import gate, naming
from sortitor.operations.context import Actor, Context, or_not_found
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store import people
from sortitor.store.arrivals import ArrivalRow as ArrivalRow
from sortitor.store.arrivals import PassRow as PassRow
from sortitor.store.devices import DeviceRow
from sortitor.store.engine import Connection
from sortitor.store.people import PersonRow

_TRIES = 5
_MEANWHILE = {"identifier_taken", "name_taken", "changed_meanwhile"}


def _was_overtaken(error: BaseException) -> bool:
    """Another knock took the same name or identifier at the same moment."""
    return isinstance(error, Conflict) and error.code in _MEANWHILE


def add_pass(ctx: Context, terms: PassTerms) -> tuple[int, str]:
    """A new pass's id and its code, which is revealed this once."""
    valid_from, valid_until = terms.validity(ctx.now)
    code = core_passes.new_code(secrets.choice)
    with ctx.changing() as connection:
        person = None
        if terms.person:
            person = or_not_found(people.by_name(connection, terms.person), "person", terms.person)
        pass_id = store.add_pass(
            connection,
            {
                "code_hash": core_passes.hash_code(code),
                "document": terms.as_json(),
                "person_id": person.id if person else None,
                "valid_from": valid_from,
                "valid_until": valid_until,
                "max_uses": terms.max_uses,
                "created_by": ctx.actor.name,
                "created_at": ctx.now,
            },
        )
        ctx.record(
            connection,
            "pass.add",
            "pass",
            f"Pass “{terms.label}” made",
            subject_id=pass_id,
            after=terms.as_json(),
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


def passes(ctx: Context, before: int | None, limit: int) -> list[PassRow]:
    """Passes, newest first."""
    with ctx.reading() as connection:
        return store.pass_page(connection, before, limit)


def page(
    ctx: Context, outcome: str | None, waiting: bool, before: int | None, limit: int
) -> list[ArrivalRow]:
    """Arrivals, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, outcome, waiting, before, limit)


def one(ctx: Context, arrival_id: int) -> ArrivalRow:
    """One arrival with its trace."""
    with ctx.reading() as connection:
        return or_not_found(store.one(connection, arrival_id), "arrival", arrival_id)


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
    keys = keys_of(stated)
    check_version(stated)
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    return _knock_once(device_ctx, stated, keys)


@dataclass(frozen=True, slots=True)
class _Known:
    """What is known of an arriving device, its pass and its person; all of them are locked."""

    shown: PassRow | None
    device: DeviceRow | None
    person: PersonRow | None
    holding: int
    signin_failed: bool

    @property
    def ownership(self) -> tuple[Ownership, Basis]:
        """Whose the device is after its arrival, and why."""
        before = None
        if self.device is not None:
            before = (self.device.ownership, self.device.ownership_basis)
        return after_arrival(before, self.shown.terms.ownership if self.shown else None)


@retry(retry=retry_if_exception(_was_overtaken), stop=stop_after_attempt(_TRIES), reraise=True)
def _knock_once(ctx: Context, stated: Knock, keys: list[Key]) -> Answer:
    with ctx.changing() as connection:
        known = _known(connection, stated, keys)
        decision = core_gate.decide(_arrival(ctx, stated, known), gate.in_force(connection))
        values = {
            "at": ctx.now,
            "outcome": decision.outcome,
            "person_id": known.person.id if known.person else None,
            "pass_id": known.shown.id if known.shown else None,
            "stated": stated.as_kept(),
            "reasons": [asdict(reason) for reason in decision.reasons],
            "trace": [asdict(step) for step in decision.trace],
        }
        if decision.outcome is Outcome.REFUSED:
            device_id = known.device.id if known.device else None
            arrival_id = store.add_arrival(connection, {**values, "device_id": device_id})
            return Answer(arrival_id, decision.outcome, decision.reasons)
        assert known.shown is not None
        device_id, name = _let_in(ctx, connection, stated, keys, known, decision)
        credential = secrets.token_urlsafe(32)
        store.give_credential(connection, device_id, hash_credential(credential), ctx.now)
        arrival_id = store.add_arrival(connection, {**values, "device_id": device_id})
        # Last, since every knock with this pass waits on its row from here to the commit.
        if not store.use_pass(connection, known.shown.id):
            raise Conflict(
                "changed_meanwhile", "The pass was used up at this very moment.", "Try again."
            )
        return Answer(
            arrival_id=arrival_id,
            outcome=decision.outcome,
            reasons=decision.reasons,
            device_id=device_id,
            name=name,
            credential=credential,
        )


def _known(connection: Connection, stated: Knock, keys: Sequence[Key]) -> _Known:
    code = core_passes.read_code(stated.code)
    shown = store.pass_by_hash(connection, core_passes.hash_code(code)) if code else None
    person, signin_failed = _person(connection, stated, shown)
    holding = people.lock(connection, person.id) if person else 0
    device = _device(connection, stated, keys)
    if person is None and not signin_failed and _keeps_its_person(device):
        assert device is not None
        assert device.person_id is not None
        person = people.one(connection, device.person_id)
        holding = people.lock(connection, device.person_id)
    return _Known(shown, device, person, holding, signin_failed)


def _keeps_its_person(device: DeviceRow | None) -> bool:
    """A device whose person is known keeps it when nobody else is named."""
    if device is None or device.person_id is None:
        return False
    return device.stage is not Stage.RETIRED


def _device(connection: Connection, stated: Knock, keys: Sequence[Key]) -> DeviceRow | None:
    wanted = [(key.kind, key.value) for key in keys]
    found = store_devices.find(connection, wanted, maker_key(stated.maker or ""))
    if len(found) > 1:
        raise Conflict(
            "two_devices",
            "The identifiers belong to different devices.",
            "A coordinator must clear this up on the devices' pages.",
        )
    return store_devices.one(connection, found[0], lock=True) if found else None


def _arrival(ctx: Context, stated: Knock, known: _Known) -> core_gate.Arrival:
    ownership, basis = known.ownership
    device, person = known.device, known.person
    counted = (
        device is not None
        and person is not None
        and counts_already(device.stage, device.person_id, person.id)
    )
    return core_gate.Arrival(
        platform=stated.platform,
        os_version=stated.os_version,
        ownership=ownership,
        declared=basis is not Basis.INFERRED,
        person=person.user_name if person else None,
        groups=frozenset(person.groups if person else ()),
        holding=known.holding - counted,
        stage=device.stage if device else None,
        flag=device.flag if device else None,
        signin_failed=known.signin_failed,
        shown=_shown_pass(ctx, known.shown),
    )


def _person(
    connection: Connection, stated: Knock, shown: PassRow | None
) -> tuple[PersonRow | None, bool]:
    """Whose arrival it is: the pass's person, else the one the device names; and whether the two
    contradict.
    """
    named = people.by_name(connection, stated.person) if stated.person else None
    if shown is None or not shown.person_id:
        return named, bool(stated.person) and named is None
    holder = people.one(connection, shown.person_id)
    if holder is None or holder.left_at is not None:
        return None, True
    names_another = bool(stated.person) and (named is None or named.id != holder.id)
    return (None if names_another else holder), names_another


def _shown_pass(ctx: Context, shown: PassRow | None) -> core_gate.Pass:
    if shown is None:
        return core_gate.Pass(trouble="pass_unknown")
    terms = shown.terms
    return core_gate.Pass(trouble_of(ctx, shown), terms.activation, terms.ownership)


def trouble_of(ctx: Context, shown: PassRow) -> str | None:
    """The reason code of a pass that does not hold now, else None."""
    return core_passes.trouble(
        now=ctx.now,
        valid_from=shown.valid_from,
        valid_until=shown.valid_until,
        revoked=shown.revoked_at is not None,
        uses=shown.uses,
        max_uses=shown.max_uses,
    )


def _let_in(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    keys: Sequence[Key],
    known: _Known,
    decision: core_gate.Decision,
) -> tuple[int, str | None]:
    """Write the device as admitted or parked, with a name if it has none; gives its id and name."""
    device = known.device
    if device is None:
        device_id = _add_device(ctx, connection, stated, keys)
        fresh: list[Key] = []
    else:
        device_id = device.id
        rows = store_devices.identifiers_of(connection, device_id)
        owned = {(row.kind.value, row.value) for row in rows}
        fresh = [key for key in keys if (key.kind, key.value) not in owned]
    patch = facts_to_set(
        knock=stated,
        decision=decision,
        ownership=known.ownership,
        at=ctx.now,
        by_hand=device.manual if device else (),
        known_maker=device.maker if device else None,
    )
    if known.person is not None:
        patch["person_id"] = known.person.id
    if fresh:
        patch["identifiers"] = [asdict(key) for key in fresh]
    what = f"{stated.maker or ''} {stated.model or stated.platform} {decision.outcome}"
    entry = ctx.record(connection, "device.knock", "device", what.strip(), subject_id=device_id)
    store_devices.patch_one(connection, entry, device_id, patch)
    name = device.name if device is not None else None
    if name is None or not store_devices.name_is_free(connection, name, device_id):
        name = _give_name(ctx, connection, device_id)
    return device_id, name


def _add_device(ctx: Context, connection: Connection, stated: Knock, keys: Sequence[Key]) -> int:
    values = {
        "stage": Stage.AWAITED,
        "stage_at": ctx.now,
        "created_at": ctx.now,
        "platform": stated.platform,
        "maker": stated.maker,
    }
    return store.add_device(connection, values, [asdict(key) for key in keys])


def _give_name(ctx: Context, connection: Connection, device_id: int) -> str | None:
    name = naming.name_for(connection, device_id, ctx.now)
    words = f"Named {name}" if name else "No template gave a name"
    entry = ctx.record(connection, "device.name", "device", words, subject_id=device_id)
    basis = Basis.INFERRED if name else None
    store_devices.patch_one(connection, entry, device_id, {"name": name, "name_basis": basis})
    return name
