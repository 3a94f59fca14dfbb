"""Devices that knock: what the gate says to them, and carrying it out."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
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
    facts_after,
    facts_to_set,
    keys_of,
    was_declared,
)
from sortitor.core.errors import Conflict
from sortitor.core.flat import written
from sortitor.core.gate import Holding
from sortitor.core.gate.replay import kept
from sortitor.core.lots import maker_key
from sortitor.core.naming.templates import Naming
from sortitor.core.ownership import after_arrival
from sortitor.core.signing_in import WAY_LIFE
from sortitor.core.vocabulary import Basis, Need, Outcome, Ownership, Proof, Role, Stage
from sortitor.operations import gate, licences, naming, quotas
from sortitor.operations.context import Actor, Context
from sortitor.store import accounts, door, people
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store.arrivals import PassRow
from sortitor.store.devices import DeviceRow
from sortitor.store.door import Entrance, Found, HeldDevice, ShownPass
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
    and two knocks never wait for each other in a circle. It costs at most sixteen round trips.
    """
    check_version(stated)
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    keys = keys_of(stated)
    try:
        return _knock_once(device_ctx, stated, keys, is_sure=False)
    except Conflict as error:
        if not was_overtaken(error):
            raise
    return _knock_again(device_ctx, stated, keys)


def pass_shown(ctx: Context, typed: str) -> ShownPass | None:
    """The pass of a code, before anything else is looked up; a wrong code leaves a count."""
    code = core_passes.hash_code(core_passes.read_code(typed) or "-")
    with ctx.glancing() as connection:
        shown = door.shown_pass(connection, code, gate.GATE_ID, naming.NAMING_ID)
    if shown is None:
        with ctx.bookkeeping() as connection:
            accounts.count_stranger(connection, "pass_code", ctx.clock.wall())
    return shown


@lru_cache(maxsize=4)
def _gate_of(written: str) -> core_gate.Gate:
    """Read once for thousands of knocks."""
    return core_gate.Gate.model_validate_json(written)


@lru_cache(maxsize=4)
def _naming_of(written: str) -> Naming:
    return Naming.model_validate_json(written)


def _unknown_pass() -> Answer:
    nobody = core_gate.unknown_pass()
    return Answer(None, nobody.outcome, nobody.reasons)


@dataclass(frozen=True, slots=True)
class Given:
    """With which pass and under which rules a device arrives, and what was answered so far to what
    it is asked; `proven` is a person's number.
    """

    shown: PassRow
    rules: core_gate.Gate
    naming: Naming
    passcode_shown: bool = False
    proven: int | None = None
    proof: Proof = Proof.NONE
    ownership: Ownership | None = None
    accepted: frozenset[str] = frozenset()
    #: Whether any licence pool minds who comes.
    minds_seats: bool = True
    #: Whether a name is looked for among the others before it is given; else the database refuses
    #: one that is taken, which is seldom, and costs nothing where it is not.
    is_sure: bool = True
    #: All of it as it is written down.
    answers: Mapping[str, Any] = field(default_factory=dict)
    arrival_id: int | None = None


@dataclass(frozen=True, slots=True)
class _Known:
    """What is known of an arriving device, its pass and its person; all of them are locked."""

    device: HeldDevice | None
    #: Of the identifiers that it stated, those that it had before.
    owned: frozenset[tuple[str, str]]
    person: PersonRow | None
    proof: Proof
    holding: Holding
    signin_failed: bool
    in_use: bool
    #: What is known of it in the words of filters, where anybody asks.
    facts: Mapping[str, Any] | None
    ownership: tuple[Ownership, Basis]

    @property
    def told(self) -> Told:
        """Its make, as far as it is known without its own word."""
        if self.device is None:
            return Told()
        return Told(self.device.maker, self.device.model if self.was_declared else None)

    @property
    def was_declared(self) -> bool:
        """Whether somebody told of it before it arrived."""
        device = self.device
        return device is not None and was_declared(device.lot_id, device.ownership_basis)

    @property
    def needs_name(self) -> bool:
        """Whether it is to be named, should it be let in."""
        return self.device is None or self.device.name is None or self.device.name_taken


@retry(retry=retry_if_exception(was_overtaken), stop=stop_after_attempt(_TRIES), reraise=True)
def _knock_again(ctx: Context, stated: Knock, keys: list[Key]) -> Answer:
    return _knock_once(ctx, stated, keys, is_sure=True)


def _knock_once(ctx: Context, stated: Knock, keys: list[Key], *, is_sure: bool) -> Answer:
    shown = pass_shown(ctx, stated.code)
    if shown is None:
        return _unknown_pass()
    given = Given(
        shown=shown,
        rules=_gate_of(shown.gate),
        naming=_naming_of(shown.naming),
        passcode_shown=is_right_passcode(shown, stated.passcode),
        minds_seats=shown.minds_seats,
        is_sure=is_sure,
    )
    with ctx.changing() as connection:
        answer = decide(ctx, connection, stated, keys, given)
    if trouble := trouble_of(ctx, shown):
        # Whoever has no good pass learns nothing else: not who is known, nor what is let in.
        told = tuple(reason for reason in answer.reasons if reason.code == trouble)
        return replace(answer, reasons=told or answer.reasons)
    return answer


def decide(
    ctx: Context, connection: Connection, stated: Knock, keys: list[Key], given: Given
) -> Answer:
    """What the gate says to an arrival with what was answered so far, carried out in the caller's
    transaction.
    """
    known = _known(ctx, connection, stated, keys, given)
    arrival = _arrival(ctx, stated, known, given)
    if given.minds_seats and arrival.shown.trouble is None:
        # Whoever has no good pass neither holds a pool nor lets its seats be counted.
        arrival = replace(arrival, seats=_seats(ctx, connection, stated, keys, known))
    decision = core_gate.decide(arrival, given.rules)
    if decision.outcome is Outcome.ASKED:
        return _ask(ctx, connection, stated, given, decision)
    values = {
        "outcome": decision.outcome,
        "decided_at": ctx.now,
        "moved_at": ctx.now,
        "asks": [],
        "person_id": known.person.id if known.person else None,
        "proof": known.proof,
        "pass_id": given.shown.id,
        "reasons": written(decision.reasons),
        "trace": written(decision.trace),
        "facts": kept(arrival),
    }
    if decision.outcome is Outcome.REFUSED:
        values["device_id"] = known.device.id if known.device else None
        arrival_id = _write(ctx, connection, stated, given, values)
        return Answer(arrival_id, decision.outcome, decision.reasons)
    return _carry_out(ctx, connection, stated, keys, known, given, decision, values)


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
    return store.add_arrival(connection, {**values, **_stated_with(ctx, stated)})


def _stated_with(ctx: Context, stated: Knock) -> dict[str, Any]:
    """What is written of an arrival when it knocks."""
    return {
        "at": ctx.now,
        "stated": stated.as_kept(),
        "protocol": stated.protocol,
        "shown_credential": stated.credential,
    }


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
        device_id, name = _let_in(ctx, connection, stated, keys, known, given, decision)
    written = {**values, "device_id": device_id, "claim": claim}
    if given.arrival_id is None:
        written |= {**_stated_with(ctx, stated), "moved_at": ctx.now}
    groups = known.person.groups if known.person else ()
    # Last, since every knock with this pass waits on its row from here to the commit.
    arrival_id = door.enter(
        connection,
        Entrance(
            pass_id=given.shown.id,
            device_id=device_id,
            arrival_id=given.arrival_id,
            arrival=written,
            secret_hash=hash_credential(secret) if secret and claim is None else None,
            place=None if claim else given.shown.terms.place_for(groups),
            at=ctx.now,
        ),
    )
    if arrival_id is None:
        raise Conflict(
            "changed_meanwhile", "The pass was used up at this very moment.", "Try again."
        )
    if secret is not None and claim is not None:
        hand_credential(ctx, connection, device_id, secret, arrival_id)
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
    given: Given,
    decision: core_gate.Decision,
) -> Answer:
    """Write down what is asked for; nothing else is held or changed."""
    if stated.protocol < PROTOCOL:
        reason = core_gate.old_protocol()
        values = {
            "outcome": Outcome.REFUSED,
            "decided_at": ctx.now,
            "pass_id": given.shown.id,
            "reasons": written((reason,)),
            "trace": written(decision.trace),
        }
        return Answer(_write(ctx, connection, stated, given, values), Outcome.REFUSED, (reason,))
    values = {
        "outcome": Outcome.ASKED,
        "answers": {
            **given.answers,
            "passcode": given.passcode_shown,
            "wanted_terms": list(decision.terms),
            "wanted_sign_in": decision.sign_in,
        },
        "moved_at": ctx.now,
        "pass_id": given.shown.id,
        "asks": list(decision.asks),
        "reasons": [],
        "trace": written(decision.trace),
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
    ctx: Context, connection: Connection, stated: Knock, keys: Sequence[Key], given: Given
) -> _Known:
    wanted = [(key.kind, key.value) for key in keys]
    found = _found(connection, stated, wanted)
    person, proof, signin_failed = _person(connection, stated, given, found)
    device = door.hold_device(connection, found.id) if found else None
    if found is not None and (device is None or device.person_id != found.person_id):
        raise Conflict("changed_meanwhile", "The device was given away meanwhile.", "Try again.")
    holding, credentials = Holding(), list[bytes]()
    if person is not None or device is not None:
        holding, credentials = door.standing(
            connection, person.id if person else None, device.id if device else None
        )
    is_it = stated.credential in credentials
    is_here = device is not None and device.stage is not Stage.RETIRED
    if is_it and is_here and person is not None and device and device.person_id == person.id:
        proof = Proof.KEY
    known = _Known(
        device=device,
        owned=found.owned if found else frozenset(),
        person=person,
        proof=proof,
        holding=holding,
        signin_failed=signin_failed,
        in_use=is_here and bool(credentials) and not is_it,
        facts=None,
        ownership=_ownership(device, given),
    )
    asked_of = (given.rules.asks_for_devices and known.was_declared) or known.needs_name
    if device is not None and asked_of:
        known = replace(known, facts=gate.facts_of(ctx, connection, device.id))
    return known


def _ownership(device: DeviceRow | None, given: Given) -> tuple[Ownership, Basis]:
    """Whose the device is after its arrival, and why."""
    before = (device.ownership, device.ownership_basis) if device is not None else None
    return after_arrival(before, given.shown.terms.ownership or given.ownership)


def _found(
    connection: Connection, stated: Knock, wanted: Sequence[tuple[str, str]]
) -> Found | None:
    """The device that has the identifiers."""
    found = door.held_by(connection, wanted, maker_key(stated.maker or ""))
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
        known=known.facts if known.was_declared and given.rules.asks_for_devices else None,
        stage=device.stage if device else None,
        flag=device.flag if device else None,
        proof=known.proof,
        accepted=given.accepted,
        signin_failed=known.signin_failed,
        in_use=known.in_use,
        shown=_shown_pass(ctx, given),
    )


def _seats(
    ctx: Context, connection: Connection, stated: Knock, keys: Sequence[Key], known: _Known
) -> tuple[core_gate.Seats, ...]:
    """The licence seats that the device would take. A pool that goes by cohorts goes by those of
    before the arrival.
    """
    before = known.facts
    if before is None and known.device is not None:
        before = gate.facts_of(ctx, connection, known.device.id)
    told = {
        "platform": stated.platform,
        "ownership": known.ownership[0],
        "ownership_basis": known.ownership[1],
        "os_version": stated.os_version,
        "model": known.told.model or stated.model,
        "maker": known.told.maker or stated.maker,
    }
    after = facts_after(before or {}, told, keys, _facts_of(known.person))
    return licences.seats_for(ctx, connection, before, after, lock=True)


def _person(
    connection: Connection, stated: Knock, given: Given, found: Found | None
) -> tuple[PersonRow | None, Proof, bool]:
    """Who is proven to be the arriving device's person, how, and whether that failed; the person is
    held. Whoever is merely stated is offered to the coordinator, and is nobody's proof; a device
    whose person is known keeps it when nobody else is named.
    """
    of_the_pass = given.shown.person_id
    number = given.proven or of_the_pass
    if number is None:
        keeps = found is not None and found.stage is not Stage.RETIRED and found.person_id
        return (people.hold(connection, keeps) if keeps else None), Proof.NONE, False
    person = people.hold(connection, number)
    if person is None or person.left_at is not None:
        return None, Proof.NONE, True
    if given.proven is not None:
        is_right = of_the_pass in (None, person.id)
        return (person if is_right else None), given.proof, not is_right
    if stated.person and not person.is_called(stated.person):
        return None, Proof.NONE, True
    return person, Proof.MAIL if given.shown.mailed_at is not None else Proof.PASS, False


def _shown_pass(ctx: Context, given: Given) -> core_gate.Pass:
    shown, terms = given.shown, given.shown.terms
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
    given: Given,
    decision: core_gate.Decision,
) -> tuple[int, str | None]:
    """Write the device as admitted or parked, with a name if it has none; gives its id and name."""
    device, name = known.device, known.device.name if known.device else None
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
    what = f"{stated.maker or ''} {stated.model or stated.platform}".strip()
    words = f"{what} {'let in' if decision.outcome is Outcome.ADMITTED else 'parked'}"
    words += f" for {known.person.name}" if known.person else ""
    if known.needs_name:
        facts = facts_after(known.facts or {}, patch, keys, _facts_of(known.person))
        own = device.id if device else None
        name = naming.name_for(ctx, connection, given.naming, own, facts, is_sure=given.is_sure)
        patch |= {"name": name, "name_basis": Basis.INFERRED if name else None}
        words += f", named {name}" if name else "; no template gave a name"
    if device is None:
        entry = ctx.entry("device.knock", "device", words)
        device_id = door.add_device(connection, entry, _blank(ctx, stated), patch, written(keys))
        return device_id, name
    if fresh := [key for key in keys if (key.kind, key.value) not in known.owned]:
        patch["identifiers"] = written(fresh)
    entry_id = ctx.record(connection, "device.knock", "device", words, subject_id=device.id)
    store_devices.patch_one(connection, entry_id, device.id, patch)
    return device.id, name


def _blank(ctx: Context, stated: Knock) -> dict[str, Any]:
    """What a device is before its knock that nobody announced, and what it is again when the knock
    is taken back.
    """
    moment = ctx.now.isoformat()
    return {
        "stage": Stage.AWAITED,
        "stage_at": moment,
        "created_at": moment,
        "platform": stated.platform,
        "maker": stated.maker,
        "ownership": Ownership.UNKNOWN,
        "ownership_basis": Basis.INFERRED,
        "tags": [],
        "details": {},
        "manual": [],
    }


def _facts_of(person: PersonRow | None) -> dict[str, Any]:
    """A person in the words of filters."""
    if person is None:
        return {}
    return {
        "person.userName": person.user_name,
        "person.name": person.name,
        "person.mail": person.mail,
        "person.department": person.department,
        "person.site": person.site,
        "person.left": False,
        "person.groups": person.groups,
    }
