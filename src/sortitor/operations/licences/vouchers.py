"""Vouchers: read, compared, used, and taken back."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from sortitor.core.errors import BadInput, Conflict
from sortitor.core.json_texts import json_in
from sortitor.core.licences import compare as comparing
from sortitor.core.licences.compare import Comparison, Outcome
from sortitor.core.licences.pools import Pool, is_for
from sortitor.core.licences.vouchers import REVERT_DAYS, Voucher, claims_of, find_token, used_as
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import Act, Term
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.licences import seats
from sortitor.operations.licences.course import growth_of
from sortitor.operations.licences.pools import (
    POOLS,
    CountedPool,
    counted_in,
    course_of,
    living,
    standing_of,
)
from sortitor.store import licences as store
from sortitor.store import seats as store_seats
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow
from sortitor.store.licences import GrantRow
from sortitor.store.seats import SeatRow

#: EdDSA by its former name (RFC 8037) and by its full one (RFC 9864).
_ALGORITHMS = ["EdDSA", "Ed25519"]
_EXAMPLES = 20
ACT_WORDS = {
    Act.TOP_UP: "topped up",
    Act.ROLLOVER: "rolled over",
    Act.BESIDE: "added beside the others",
}


@dataclass(frozen=True, slots=True)
class VoucherRead:
    """A voucher before it is used: the pools it is for, where it is booked already, and under which
    number it would be booked.
    """

    voucher: Voucher
    pools: tuple[Kept[Pool], ...]
    booked: GrantRow | None
    used_as: str


def read(ctx: Context, text: str) -> VoucherRead:
    """What a voucher is, in whatever text it came. Raises BadInput for one that is none, that
    nobody vouches for, or that does not hold now.
    """
    with ctx.reading() as connection:
        return _read(ctx, connection, text)


def _read(ctx: Context, connection: Connection, text: str) -> VoucherRead:
    voucher = _verified(ctx, connection, find_token(text))
    claims = voucher.claims
    pools = [
        kept for kept in POOLS.shelf.every(connection) if is_for(kept.document, claims.product)
    ]
    uses = store.uses(connection, claims.iss, claims.jti)
    booked = next((row for row in uses if row.reverted_at is None), None)
    number = used_as(claims.jti, len(uses)) if booked is None else booked.used_as
    return VoucherRead(voucher, tuple(pools), booked, number)


def _verified(ctx: Context, connection: Connection, token: str) -> Voucher:
    """A voucher that an issuer's key has signed."""
    header = _json(token.partition(".")[0])
    kid = header.get("kid")
    if header.get("alg") not in _ALGORITHMS or "crit" in header or not isinstance(kid, str):
        raise BadInput(
            "bad_voucher",
            "The voucher's header is not one that can be trusted: it names another way of signing,"
            " no key, or asks for what Sortitor does not know.",
            "Ask the issuer for a voucher that is signed by EdDSA.",
        )
    for row in store.keys_called(connection, kid):
        if _has_signed(row.jwk["x"], token):
            claims = claims_of(_json(token.split(".")[1]), ctx.now)
            return Voucher(claims, token, row.source_id, row.source)
    raise BadInput(
        "not_vouched_for",
        "No issuer that is known here has signed this voucher as it stands.",
        "Look whether it was pasted whole, and whether the issuer's keys are read (Sources).",
    )


def _has_signed(x: str, token: str) -> bool:
    """Whether the key has signed the token (RFC 7515 §5.2, RFC 8032)."""
    signed, _, signature = token.rpartition(".")
    try:
        Ed25519PublicKey.from_public_bytes(_bytes(x)).verify(_bytes(signature), signed.encode())
    except (InvalidSignature, ValueError):
        return False
    return True


def _bytes(part: str) -> bytes:
    return base64.urlsafe_b64decode(part + "=" * (-len(part) % 4))


def _json(part: str) -> dict[str, Any]:
    """A JSON object; of anything else nothing, which is then missing."""
    try:
        found = json_in(_bytes(part))
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


@dataclass(frozen=True, slots=True)
class Compared:
    """A voucher's outcomes for one pool; `latest` are the devices that took a seat last, which are
    those without one where seats are too few.
    """

    read: VoucherRead
    pool: CountedPool
    comparison: Comparison
    latest: tuple[SeatRow, ...]


def compare(ctx: Context, key: Key, text: str) -> Compared:
    """What a voucher would do to a pool, one way and the other."""
    with ctx.reading(one_moment=True) as connection:
        return _compared(ctx, connection, POOLS.find(connection, key), text)


def _compared(ctx: Context, connection: Connection, kept: Kept[Pool], text: str) -> Compared:
    found = _read(ctx, connection, text)
    claims = found.voucher.claims
    if not is_for(kept.document, claims.product):
        raise Conflict(
            "other_product",
            f"The voucher is for “{claims.product}”, and “{kept.document.name}” is for"
            f" “{kept.document.product or kept.document.name}”.",
            "Choose the pool that it is for, or set the pool's product.",
        )
    if (row := found.booked) is not None:
        raise Conflict(
            "voucher_used",
            f"Voucher {row.used_as} was used on {row.granted_on:%F} by {row.by}.",
            "A voucher counts once. Take that use back, if it was a mistake.",
        )
    pool = counted_in(ctx, connection, [kept])[0]
    comparison = comparing.compare(
        pool=kept.document,
        grants=[row.booked for row in living(connection, kept.id)],
        seats=claims.seats,
        days=claims.days,
        needed=pool.needed,
        growth=growth_of(ctx, connection, kept),
        today=ctx.today,
    )
    most = max(one.uncovered for one in comparison.outcomes)
    latest: Sequence[SeatRow] = ()
    if most:
        chosen = seats.taking(connection, kept.document)
        latest = store_seats.latest_takers(connection, chosen, ctx.now, min(most, _EXAMPLES))
    return Compared(found, pool, comparison, tuple(latest))


# ---- using one


def preview(ctx: Context, key: Key, text: str, act: Act) -> Preview:
    """What using a voucher one way would do."""
    with ctx.reading(one_moment=True) as connection:
        return _plan(ctx, connection, POOLS.find(connection, key), text, act)[1]


def apply(ctx: Context, key: Key, text: str, act: Act, digest: str, reason: str | None) -> GrantRow:
    """Book a voucher as previewed; it counts once, whoever uses it at the same moment."""
    with ctx.changing() as connection:
        kept = POOLS.find(connection, key, lock=True)
        compared, shown = _plan(ctx, connection, kept, text, act)
        require_digest(shown, digest)
        claims, today = compared.read.voucher.claims, ctx.today
        outcome = _outcome(compared.comparison, act)
        number = compared.read.used_as
        entry_id = ctx.record(
            connection,
            "grant.add",
            POOLS.noun,
            f"“{kept.document.name}” {ACT_WORDS[act]} with voucher {number}:"
            f" {_seats(claims.seats)} for {plural(claims.days, 'day')};"
            f" now {_stands(outcome)}",
            subject_id=kept.id,
            reason=reason,
            before={"seats": compared.pool.standing.seats},
            after={
                "voucher": number,
                "act": act,
                "seats": outcome.standing.seats,
                "seat_days": outcome.seat_days,
            },
        )
        store.add_grant(
            connection,
            {
                "pool_id": kept.id,
                "issuer": claims.iss,
                "issuer_name": compared.read.voucher.source,
                "voucher": claims.jti,
                "used_as": number,
                "token": compared.read.voucher.token,
                "product": claims.product,
                "trial": claims.trial,
                "act": act,
                "seats": claims.seats,
                "days": claims.days,
                "granted_on": today,
                "at": ctx.now,
                "by": ctx.actor.name,
                "reason": reason or None,
                "entry_id": entry_id,
            },
        )
        return or_not_found(store.by_entry(connection, entry_id), "voucher", number)


def _plan(
    ctx: Context, connection: Connection, kept: Kept[Pool], text: str, act: Act
) -> tuple[Compared, Preview]:
    pool = kept.document
    fitting = (Act.TOP_UP, Act.ROLLOVER) if pool.term is Term.SHARED else (Act.BESIDE,)
    if act not in fitting:
        raise BadInput(
            "other_term",
            f"“{pool.name}” takes vouchers as {' or '.join(fitting)}, not as {act}.",
            "Choose one of these.",
        )
    compared = _compared(ctx, connection, kept, text)
    comparison = compared.comparison
    outcome, now = _outcome(comparison, act), comparison.now
    claims = compared.read.voucher.claims
    number = compared.read.used_as
    short = outcome.uncovered > 0
    counts = [
        Count("needed", "devices that need a seat", compared.pool.needed),
        Count("seats_before", "seats before", now.standing.seats),
        Count("seats", "seats after", outcome.standing.seats, "warn" if short else "good"),
        Count("uncovered", "devices without a seat", outcome.uncovered, _bad(outcome.uncovered)),
        Count("gained", "seat-days gained", comparison.gained, "good"),
        Count("seat_days", "seat-days left then", outcome.seat_days),
    ]
    shown = Preview(
        title=f"Use voucher {number} for “{pool.name}”: {ACT_WORDS[act]}",
        apply_label=f"Use the voucher: {ACT_WORDS[act]}",
        counts=tuple(counts),
        examples=tuple(
            _without_seat(ctx, row) for row in compared.latest[: min(outcome.uncovered, _EXAMPLES)]
        ),
        examples_total=outcome.uncovered,
        warnings=_warnings(comparison, outcome),
    )
    facts = [kept.id, kept.revision, claims.iss, number, act, str(ctx.today)]
    return compared, sealed(shown, [*facts, [row.id for row in living(connection, kept.id)]])


def _bad(number: int) -> str:
    return "bad" if number else "plain"


def _outcome(comparison: Comparison, act: Act) -> Outcome:
    return next(one for one in comparison.outcomes if one.act is act)


def _without_seat(ctx: Context, row: SeatRow) -> Example:
    return Example(
        subject=ctx.veil.label(row.id, row.name, row.serial, row.ownership),
        field="seat",
        before=None,
        after="none",
        note=f"in use since {row.since:%F}" + (f", {row.person_name}" if row.person_name else ""),
        device_id=row.id,
    )


def _warnings(comparison: Comparison, outcome: Outcome) -> tuple[str, ...]:
    told = [f"Afterwards: {_stands(outcome)}."]
    other = next((one for one in comparison.outcomes if one.act is not outcome.act), None)
    if other is not None and comparison.best is not outcome.act:
        told.append(
            f"The other way is better: {_stands(other)}; without a seat until"
            f" {comparison.until:%F}: {other.without:,} device-days instead of"
            f" {outcome.without:,}."
        )
    former = comparison.now.standing.ends_on
    if former is not None and outcome.moved_days is not None and outcome.moved_days < 0:
        told.append(f"The seats end {plural(-outcome.moved_days, 'day')} sooner than now.")
    return tuple(told)


def _stands(outcome: Outcome) -> str:
    """A pool in a few words."""
    until = f" until {outcome.standing.ends_on:%F}" if outcome.standing.ends_on else ""
    short = f", {plural(outcome.uncovered, 'device')} without one" if outcome.uncovered else ""
    return f"{_seats(outcome.standing.seats)}{until}{short}"


def _seats(number: int) -> str:
    return plural(number, "seat")


# ---- taking one back


def plan_undoing(ctx: Context, connection: Connection, entry: EntryRow, lock: bool) -> Preview:
    """What taking a use back does: the books are as if it had never been. Raises Conflict once it
    is too late, and where later vouchers were booked upon it.
    """
    row = or_not_found(store.by_entry(connection, entry.id, lock), "voucher", entry.id)
    kept = or_not_found(POOLS.shelf.one(connection, row.pool_id, lock), POOLS.noun, row.pool_id)
    until = row.at + timedelta(REVERT_DAYS)
    if ctx.now > until:
        raise Conflict(
            "too_late",
            f"Voucher {row.used_as} could be taken back until {until:%F}.",
            "Ask the issuer.",
        )
    booked = living(connection, kept.id)
    later = [one for one in booked if one.id > row.id]
    if later and kept.document.term is Term.SHARED:
        raise Conflict(
            "booked_upon",
            f"Voucher {later[-1].used_as} was booked upon it.",
            f"Take that back first: entry {later[-1].entry_id}.",
        )
    left = [one for one in booked if one.id != row.id]
    before, after = (
        standing_of(ctx, kept.document, course_of(kept.document, rows)) for rows in (booked, left)
    )
    needed = counted_in(ctx, connection, [kept])[0].needed
    missing = max(0, needed - after.seats)
    again = used_as(row.voucher, len(store.uses(connection, row.issuer, row.voucher)))
    shown = Preview(
        title=f"Take voucher {row.used_as} back from “{kept.document.name}”",
        apply_label="Take the voucher back",
        counts=(
            Count("restored", "voucher taken back", 1, "good"),
            Count("seats_before", "seats before", before.seats),
            Count("seats", "seats after", after.seats),
            Count("uncovered", "devices without a seat", missing, _bad(missing)),
        ),
        examples=(),
        examples_total=0,
        warnings=(
            f"The books are then as if it had not been used{_until(after.ends_on)}. The voucher can"
            f" be used again; it is booked as {again} then.",
        ),
    )
    return sealed(shown, [entry.id, row.id, [one.id for one in booked]])


def _until(ends_on: date | None) -> str:
    return f": the seats end on {ends_on:%F}" if ends_on else ""


def undo(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """Take a use back, in the revert's transaction."""
    row = or_not_found(store.by_entry(connection, entry.id, lock=True), "voucher", entry.id)
    store.take_back(connection, row.id, ctx.now, ctx.actor.name)


def history(ctx: Context, key: Key) -> list[GrantRow]:
    """The vouchers of a pool, newest first, also those taken back."""
    with ctx.reading() as connection:
        kept = POOLS.find(connection, key)
        return store.history(connection, [kept.id])[kept.id][::-1]
