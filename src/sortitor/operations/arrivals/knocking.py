"""Devices that knock: what the gate says to them, and carrying it out."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
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
from sortitor.core.errors import Conflict
from sortitor.core.gate import Holding
from sortitor.core.gate.replay import kept
from sortitor.core.lots import maker_key
from sortitor.core.ownership import after_arrival
from sortitor.core.signing_in import WAY_LIFE
from sortitor.core.vocabulary import Basis, Need, Outcome, Ownership, Proof, Role, Stage
from sortitor.operations import gate, naming, quotas
from sortitor.operations.context import Actor, Context, or_not_found
from sortitor.store import accounts, cohorts, people
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store.arrivals import PassRow
from sortitor.store.devices import DeviceRow
from sortitor.store.engine import Connection
from sortitor.store.people import PersonRow

_TRIES = 5
_MEANWHILE = {"identifier_taken", "name_taken", "changed_meanwhile"}


def was_overtaken(error: BaseException) -> bool:
    """Another knock took the same name or identifier at the same moment."""
    return isinstance(error, Conflict) and error.code in _MEANWHILE


@dataclass(frozen=True, slots=True)
class Answer:
    """What the device is told; a code that nobody gave out makes no arrival."""

    arrival_id: int | None
    outcome: Outcome
    reasons: tuple[core_gate.Reason, ...]
    device_id: int | None = None
    name: str | None = None
    credential: str | None = None
    #: With which what is asked is answered; it lapses after half an hour.
    secret: str | None = None
    asks: tuple[Need, ...] = ()
    terms: tuple[str, ...] = ()


#: The newest version of the device protocol; older ones cannot be asked anything.
PROTOCOL = 2


def hash_credential(secret: str) -> bytes:
    """What is stored of a device credential (256 random bits), and of an arrival's secret."""
    return hashlib.sha256(secret.encode()).digest()


def knock(ctx: Context, stated: Knock) -> Answer:
    """Let the gate decide on an arriving device and carry the decision out, in one transaction; or
    say what is asked of it first, which holds nothing and lapses by itself.

    One order of locks for all: the arrival that was asked, the device's identifiers, the person's
    row, the device's row, the counter of the name, the pass. The quota holds under any concurrency,
    and two knocks never wait for each other in a circle.
    """
    keys = keys_of(stated)
    check_version(stated)
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    shown = _pass_shown(device_ctx, stated)
    if shown is None:
        return _unknown_pass()
    given = Given(shown.id, passcode_shown=is_right_passcode(shown, stated.passcode))
    answer = _knock_once(device_ctx, stated, keys, given)
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
class Given:
    """What was answered so far to what an arrival is asked; `proven` is a person's number."""

    pass_id: int
    passcode_shown: bool = False
    proven: int | None = None
    proof: Proof = Proof.NONE
    ownership: Ownership | None = None
    accepted: frozenset[str] = frozenset()
    #: All of it as it is written down.
    answers: Mapping[str, Any] = field(default_factory=dict)
    arrival_id: int | None = None


@dataclass(frozen=True, slots=True)
class _Known:
    """What is known of an arriving device, its pass and its person; all of them are locked."""

    shown: PassRow
    device: DeviceRow | None
    person: PersonRow | None
    proof: Proof
    holding: Holding
    signin_failed: bool
    in_use: bool
    declared: Mapping[str, Any] | None
    ownership: tuple[Ownership, Basis]

    @property
    def told(self) -> Told:
        """Its make, as far as it is known without its own word."""
        if self.device is None:
            return Told()
        declared = was_declared(self.device.lot_id, self.device.ownership_basis)
        return Told(self.device.maker, self.device.model if declared else None)


@retry(retry=retry_if_exception(was_overtaken), stop=stop_after_attempt(_TRIES), reraise=True)
def _knock_once(ctx: Context, stated: Knock, keys: list[Key], given: Given) -> Answer:
    with ctx.changing() as connection:
        return decide(ctx, connection, stated, keys, given)


def decide(
    ctx: Context, connection: Connection, stated: Knock, keys: list[Key], given: Given
) -> Answer:
    """What the gate says to an arrival with what was answered so far, carried out in the caller's
    transaction.
    """
    rules = gate.in_force(connection)
    known = _known(ctx, connection, stated, keys, given, rules)
    arrival = _arrival(ctx, stated, known, given)
    decision = core_gate.decide(arrival, rules)
    if decision.outcome is Outcome.ASKED:
        return _ask(ctx, connection, stated, known, given, decision)
    values = {
        "outcome": decision.outcome,
        "decided_at": ctx.now,
        "moved_at": ctx.now,
        "asks": [],
        "person_id": known.person.id if known.person else None,
        "proof": known.proof,
        "pass_id": known.shown.id,
        "reasons": [asdict(reason) for reason in decision.reasons],
        "trace": [asdict(step) for step in decision.trace],
        "facts": kept(arrival),
    }
    if decision.outcome is Outcome.REFUSED:
        values["device_id"] = known.device.id if known.device else None
        arrival_id = _write(ctx, connection, stated, given, values)
        return Answer(arrival_id, decision.outcome, decision.reasons)
    answer = _carry_out(ctx, connection, stated, keys, known, given, decision, values)
    # Last, since every knock with this pass waits on its row from here to the commit.
    if not store.use_pass(connection, known.shown.id):
        raise Conflict(
            "changed_meanwhile", "The pass was used up at this very moment.", "Try again."
        )
    return answer


def _write(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    given: Given,
    values: Mapping[str, Any],
) -> int:
    """The arrival as it is now: a new one, or the one that was asked."""
    if given.arrival_id is not None:
        store.change_arrival(connection, given.arrival_id, values)
        return given.arrival_id
    return store.add_arrival(
        connection,
        {
            **values,
            "at": ctx.now,
            "stated": stated.as_kept(),
            "protocol": stated.protocol,
            "shown_credential": stated.credential,
        },
    )


def _carry_out(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    keys: list[Key],
    known: _Known,
    given: Given,
    decision: core_gate.Decision,
    values: dict[str, Any],
) -> Answer:
    # Whoever was asked collects the credential with its secret: the page is not to have it.
    secret = None if given.arrival_id is not None else secrets.token_urlsafe(32)
    claim = claim_of(decision)
    if claim is not None:
        # Nothing of the device in use changes until a coordinator decides.
        assert known.device is not None
        device_id, name = known.device.id, None
    else:
        device_id, name = _let_in(ctx, connection, stated, keys, known, decision)
    arrival_id = _write(
        ctx, connection, stated, given, {**values, "device_id": device_id, "claim": claim}
    )
    if secret is not None:
        hand_credential(ctx, connection, device_id, secret, arrival_id if claim else None)
    return Answer(
        arrival_id=arrival_id,
        outcome=decision.outcome,
        reasons=decision.reasons,
        device_id=device_id,
        name=name,
        credential=secret,
    )


def hand_credential(
    ctx: Context, connection: Connection, device_id: int, secret: str, claim: int | None
) -> None:
    """Bind a credential to the device; of a claim (its arrival) one that is good once granted."""
    hashed = hash_credential(secret)
    if claim is not None:
        store.promise_credential(connection, device_id, hashed, ctx.now, claim)
    else:
        store.give_credential(connection, device_id, hashed, ctx.now)


def _ask(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    known: _Known,
    given: Given,
    decision: core_gate.Decision,
) -> Answer:
    """Write down what is asked for; nothing else is held or changed."""
    if stated.protocol < PROTOCOL:
        reason = core_gate.old_protocol()
        values = {
            "outcome": Outcome.REFUSED,
            "decided_at": ctx.now,
            "pass_id": known.shown.id,
            "reasons": [asdict(reason)],
            "trace": [asdict(step) for step in decision.trace],
        }
        return Answer(_write(ctx, connection, stated, given, values), Outcome.REFUSED, (reason,))
    values = {
        "outcome": Outcome.ASKED,
        "answers": {
            **given.answers,
            "passcode": given.passcode_shown,
            "wanted_terms": list(decision.terms),
        },
        "moved_at": ctx.now,
        "pass_id": known.shown.id,
        "asks": list(decision.asks),
        "reasons": [],
        "trace": [asdict(step) for step in decision.trace],
    }
    secret = None
    if given.arrival_id is None:
        secret = secrets.token_urlsafe(32)
        values["secret_hash"] = hash_credential(secret)
        values["lapses_at"] = ctx.clock.wall() + WAY_LIFE
    arrival_id = _write(ctx, connection, stated, given, values)
    return Answer(
        arrival_id, Outcome.ASKED, (), secret=secret, asks=decision.asks, terms=decision.terms
    )


def _known(
    ctx: Context,
    connection: Connection,
    stated: Knock,
    keys: Sequence[Key],
    given: Given,
    rules: core_gate.Gate,
) -> _Known:
    wanted = [(key.kind, key.value) for key in keys]
    store.hold_identifiers(connection, wanted)
    shown = or_not_found(store.one_pass(connection, given.pass_id), "pass", given.pass_id)
    found = _found(connection, stated, wanted)
    before = store_devices.one(connection, found) if found else None
    person, proof, signin_failed = _person(connection, stated, shown, given)
    if person is None and not signin_failed and _keeps_its_person(before):
        assert before is not None
        assert before.person_id is not None
        person = people.one(connection, before.person_id)
    holding = people.lock(connection, person.id) if person else Holding()
    device = store_devices.one(connection, found, lock=True) if found else None
    if device is not None and before is not None and device.person_id != before.person_id:
        raise Conflict("changed_meanwhile", "The device was given away meanwhile.", "Try again.")
    in_use, is_it = False, False
    if device is not None and device.stage is not Stage.RETIRED:
        has_one, is_it = store.has_credential(connection, device.id, stated.credential)
        in_use = has_one and not is_it
    if is_it and person is not None and device is not None and device.person_id == person.id:
        proof = Proof.KEY
    declared = None
    if rules.asks_for_devices:
        declared = gate.declared_facts(ctx, connection, device)
    return _Known(
        shown=shown,
        device=device,
        person=person,
        proof=proof,
        holding=holding,
        signin_failed=signin_failed,
        in_use=in_use,
        declared=declared,
        ownership=_ownership(device, shown, given),
    )


def _ownership(device: DeviceRow | None, shown: PassRow, given: Given) -> tuple[Ownership, Basis]:
    """Whose the device is after its arrival, and why."""
    before = (device.ownership, device.ownership_basis) if device is not None else None
    return after_arrival(before, shown.terms.ownership or given.ownership)


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


def _arrival(ctx: Context, stated: Knock, known: _Known, given: Given) -> core_gate.Arrival:
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
        proof=known.proof,
        accepted=given.accepted,
        signin_failed=known.signin_failed,
        in_use=known.in_use,
        shown=_shown_pass(ctx, known.shown, given),
    )


def _person(
    connection: Connection, stated: Knock, shown: PassRow, given: Given
) -> tuple[PersonRow | None, Proof, bool]:
    """Who is proven to be the arriving device's person, how, and whether that failed. Whoever is
    merely stated is offered to the coordinator, and is nobody's proof.
    """
    if given.proven is not None:
        proven = people.one(connection, given.proven)
        if proven is None or proven.left_at is not None:
            return None, Proof.NONE, True
        of_the_pass = shown.person_id in (None, proven.id)
        return (proven if of_the_pass else None), given.proof, not of_the_pass
    if not shown.person_id:
        return None, Proof.NONE, False
    holder = people.one(connection, shown.person_id)
    if holder is None or holder.left_at is not None:
        return None, Proof.NONE, True
    if stated.person:
        named = people.by_name(connection, stated.person)
        if named is None or named.id != holder.id:
            return None, Proof.NONE, True
    proof = Proof.MAIL if shown.mailed_at is not None else Proof.PASS
    return holder, proof, False


def _shown_pass(ctx: Context, shown: PassRow, given: Given) -> core_gate.Pass:
    terms = shown.terms
    return core_gate.Pass(
        trouble=trouble_of(ctx, shown),
        activation=terms.activation,
        ownership=terms.ownership,
        sign_in=terms.sign_in,
        has_passcode=shown.passcode_hash is not None,
        passcode_shown=given.passcode_shown,
        asks_ownership=terms.asks_ownership and given.ownership is None,
    )


def is_right_passcode(shown: PassRow, typed: str | None) -> bool:
    """Whether this is the pass's passcode; worked out before anything is locked."""
    if shown.passcode_hash is None or not typed:
        return False
    return core_passes.is_passcode(typed, shown.passcode_hash)


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
    _place(connection, known, device_id)
    name = device.name if device is not None else None
    if name is None or not store_devices.name_is_free(connection, name, device_id):
        name = _give_name(ctx, connection, device_id)
    return device_id, name


def _place(connection: Connection, known: _Known, device_id: int) -> None:
    """Let the device join the list that its pass names; one that is gone is passed over."""
    groups = known.person.groups if known.person else ()
    name = known.shown.terms.place_for(groups)
    cohort_id = name and cohorts.list_called(connection, name)
    if cohort_id:
        cohorts.put_in(connection, cohort_id, [device_id])


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
