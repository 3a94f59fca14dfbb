"""Passes, and devices that knock with them."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from tenacity import retry, retry_if_exception, stop_after_attempt

from sortitor.core import gate as core_gate
from sortitor.core import passes as core_passes
from sortitor.core.arrivals import (
    Key,
    Knock,
    Told,
    check_version,
    claim_of,
    facts_to_set,
    keys_of,
    was_declared,
)
from sortitor.core.errors import Conflict, NotFound
from sortitor.core.gate import Holding
from sortitor.core.gate.replay import kept
from sortitor.core.lots import maker_key
from sortitor.core.ownership import after_arrival
from sortitor.core.passes import PassTerms
from sortitor.core.previews import Count, Example, Preview, sealed
from sortitor.core.vocabulary import Basis, Claim, Outcome, Ownership, Role, Stage
from sortitor.operations import gate, naming, quotas
from sortitor.operations.context import Actor, Context, or_not_found, require_digest
from sortitor.store import accounts, people
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
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
    """What the device is told; a code that nobody gave out makes no arrival."""

    arrival_id: int | None
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

    One order of locks for all: the device's identifiers, the person's row, the device's row, the
    counter of the name, the pass. The quota holds under any concurrency, and two knocks never wait
    for each other in a circle.
    """
    keys = keys_of(stated)
    check_version(stated)
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    shown = _pass_shown(device_ctx, stated)
    if shown is None:
        return _unknown_pass()
    answer = _knock_once(device_ctx, stated, keys, shown.id)
    if trouble := trouble_of(ctx, shown):
        # Whoever has no good pass learns nothing else: not who is known, nor what is let in.
        told = tuple(reason for reason in answer.reasons if reason.code == trouble)
        return replace(answer, reasons=told or answer.reasons)
    return answer


def _pass_shown(ctx: Context, stated: Knock) -> PassRow | None:
    """The pass of the code, before anything else is looked up; a wrong code leaves a count."""
    code = core_passes.read_code(stated.code) or "-"
    with ctx.bookkeeping() as connection:
        shown = store.pass_by_hash(connection, core_passes.hash_code(code))
        if shown is None:
            accounts.count_stranger(connection, "pass_code", ctx.clock.wall())
    return shown


def _unknown_pass() -> Answer:
    nobody = core_gate.unknown_pass()
    return Answer(None, nobody.outcome, nobody.reasons)


@dataclass(frozen=True, slots=True)
class _Known:
    """What is known of an arriving device, its pass and its person; all of them are locked."""

    shown: PassRow
    device: DeviceRow | None
    person: PersonRow | None
    holding: Holding
    signin_failed: bool
    in_use: bool
    declared: Mapping[str, Any] | None

    @property
    def told(self) -> Told:
        """Its make, as far as it is known without its own word."""
        if self.device is None:
            return Told()
        declared = was_declared(self.device.lot_id, self.device.ownership_basis)
        return Told(self.device.maker, self.device.model if declared else None)

    @property
    def ownership(self) -> tuple[Ownership, Basis]:
        """Whose the device is after its arrival, and why."""
        before = None
        if self.device is not None:
            before = (self.device.ownership, self.device.ownership_basis)
        return after_arrival(before, self.shown.terms.ownership)


@retry(retry=retry_if_exception(_was_overtaken), stop=stop_after_attempt(_TRIES), reraise=True)
def _knock_once(ctx: Context, stated: Knock, keys: list[Key], pass_id: int) -> Answer:
    with ctx.changing() as connection:
        rules = gate.in_force(connection)
        known = _known(ctx, connection, stated, keys, pass_id, rules)
        arrival = _arrival(ctx, stated, known)
        decision = core_gate.decide(arrival, rules)
        values = {
            "at": ctx.now,
            "outcome": decision.outcome,
            "person_id": known.person.id if known.person else None,
            "pass_id": known.shown.id,
            "stated": stated.as_kept(),
            "reasons": [asdict(reason) for reason in decision.reasons],
            "trace": [asdict(step) for step in decision.trace],
            "facts": kept(arrival),
        }
        if decision.outcome is Outcome.REFUSED:
            device_id = known.device.id if known.device else None
            arrival_id = store.add_arrival(connection, {**values, "device_id": device_id})
            return Answer(arrival_id, decision.outcome, decision.reasons)
        credential = secrets.token_urlsafe(32)
        hashed = hash_credential(credential)
        claim = claim_of(decision)
        if claim is not None:
            # Nothing of the device in use changes until a coordinator decides.
            assert known.device is not None
            device_id, name = known.device.id, None
            claimed = {**values, "device_id": device_id, "claim": claim}
            arrival_id = store.add_arrival(connection, claimed)
            store.promise_credential(connection, device_id, hashed, ctx.now, arrival_id)
        else:
            device_id, name = _let_in(ctx, connection, stated, keys, known, decision)
            store.give_credential(connection, device_id, hashed, ctx.now)
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


def _known(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    keys: Sequence[Key],
    pass_id: int,
    rules: core_gate.Gate,
) -> _Known:
    wanted = [(key.kind, key.value) for key in keys]
    store.hold_identifiers(connection, wanted)
    shown = or_not_found(store.one_pass(connection, pass_id), "pass", pass_id)
    person, signin_failed = _person(connection, stated, shown)
    found = _found(connection, stated, wanted)
    before = store_devices.one(connection, found) if found else None
    if person is None and not signin_failed and _keeps_its_person(before):
        assert before is not None
        assert before.person_id is not None
        person = people.one(connection, before.person_id)
    holding = people.lock(connection, person.id) if person else Holding()
    device = store_devices.one(connection, found, lock=True) if found else None
    if device is not None and before is not None and device.person_id != before.person_id:
        raise Conflict("changed_meanwhile", "The device was given away meanwhile.", "Try again.")
    in_use = False
    if device is not None and device.stage is not Stage.RETIRED:
        has_one, is_it = store.has_credential(connection, device.id, stated.credential)
        in_use = has_one and not is_it
    declared = None
    if rules.asks_for_devices:
        declared = gate.declared_facts(ctx, connection, device)
    return _Known(shown, device, person, holding, signin_failed, in_use, declared)


def _keeps_its_person(device: DeviceRow | None) -> bool:
    """A device whose person is known keeps it when nobody else is named."""
    if device is None or device.person_id is None:
        return False
    return device.stage is not Stage.RETIRED


def _found(connection: Connection, stated: Knock, wanted: Sequence[tuple[str, str]]) -> int | None:
    """The number of the device that has the identifiers."""
    found = store_devices.find(connection, wanted, maker_key(stated.maker or ""))
    if len(found) > 1:
        raise Conflict(
            "two_devices",
            "The identifiers belong to different devices.",
            "A coordinator must clear this up on the devices' pages.",
        )
    return found[0] if found else None


def _arrival(ctx: Context, stated: Knock, known: _Known) -> core_gate.Arrival:
    ownership, basis = known.ownership
    device, person = known.device, known.person
    beside = known.holding
    if person is not None:
        beside = quotas.holding_beside(device, person.id, known.holding)
    return core_gate.Arrival(
        platform=stated.platform,
        os_version=stated.os_version,
        ownership=ownership,
        declared=basis is not Basis.INFERRED,
        person=person.user_name if person else None,
        groups=frozenset(person.groups if person else ()),
        holding=beside,
        maker=known.told.maker or stated.maker,
        model=known.told.model or stated.model,
        known=known.declared,
        stage=device.stage if device else None,
        flag=device.flag if device else None,
        signin_failed=known.signin_failed,
        in_use=known.in_use,
        shown=_shown_pass(ctx, known.shown),
    )


def _person(connection: Connection, stated: Knock, shown: PassRow) -> tuple[PersonRow | None, bool]:
    """Whose arrival it is: the pass's person, else the one the device names; and whether the two
    contradict.
    """
    named = people.by_name(connection, stated.person) if stated.person else None
    if not shown.person_id:
        return named, bool(stated.person) and named is None
    holder = people.one(connection, shown.person_id)
    if holder is None or holder.left_at is not None:
        return None, True
    names_another = bool(stated.person) and (named is None or named.id != holder.id)
    return (None if names_another else holder), names_another


def _shown_pass(ctx: Context, shown: PassRow) -> core_gate.Pass:
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
        known=known.told,
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


# ---- claims on devices in use


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
