"""What a knock reads and writes, in as few round trips as can be: it is what every device does, and
thousands of them at once on the day of the handing out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any, LiteralString, NamedTuple

from psycopg import sql
from psycopg.types.json import Jsonb
from sqlalchemy import (
    ARRAY,
    BigInteger,
    ColumnElement,
    Connection,
    LargeBinary,
    Select,
    Text,
    any_,
    bindparam,
    cast,
    exists,
    func,
    insert,
    literal,
    select,
    update,
)
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.gate import Holding
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Shortage, Stage
from sortitor.store import arrivals as store
from sortitor.store.arrivals import PassRow
from sortitor.store.devices import DeviceRow
from sortitor.store.devices.change import TYPES
from sortitor.store.engine import raw
from sortitor.store.people import held_of
from sortitor.store.rows import Ready
from sortitor.store.settling import settle_again, settle_one
from sortitor.store.tables import (
    arrivals,
    cohort_members,
    cohorts,
    credentials,
    devices,
    passes,
    people,
    pools,
    rulebooks,
    sighted_devices,
    sightings,
)


@dataclass(frozen=True, slots=True)
class ShownPass(PassRow):
    """The pass of a knock, and the rulebooks that hold at that moment as they are written."""

    gate: str
    naming: str
    #: Whether any licence pool minds who comes.
    minds_seats: bool


def _book(name: str) -> ColumnElement[str]:
    text = cast(rulebooks.c.document, Text)
    return select(text).where(rulebooks.c.id == bindparam(f"{name}_id")).scalar_subquery()


_MINDING = exists(select(pools.c.id).where(pools.c.document["when_short"].astext != Shortage.ADMIT))
_SHOWN = store.PASSES.add_columns(
    _book("gate").label("gate"), _book("naming").label("naming"), _MINDING.label("minds_seats")
)
_SHOWN_NOW = Ready(_SHOWN.where(passes.c.code_hash == bindparam("code")))


def shown_pass(
    connection: Connection, code_hash: str, gate_id: int, naming_id: int
) -> ShownPass | None:
    """The pass of a code, and the rulebooks: one look."""
    values = {"code": code_hash, "gate_id": gate_id, "naming_id": naming_id}
    return _SHOWN_NOW.one(connection, ShownPass, values)


@dataclass(frozen=True, slots=True)
class Found:
    """A device that has one of the identifiers, before it is locked; `owned` are those that it has
    of them.
    """

    id: int
    person_id: int | None
    stage: Stage
    owned: frozenset[tuple[str, str]]


class _Line(NamedTuple):
    """One identifier with the device that has it."""

    kind: str
    value: str
    maker: str
    device_id: int
    person_id: int | None
    stage: str


_HELD_BY = func.hold_identifiers(
    bindparam("kinds", type_=ARRAY(Text)), bindparam("given", type_=ARRAY(Text))
).table_valued(*_Line._fields)
_FOUND = Ready(select(*_HELD_BY.c))


def held_by(connection: Connection, keys: Sequence[tuple[str, str]], maker: str) -> list[Found]:
    """The devices with any of the identifiers; a serial fits its maker, or any where the maker is
    not known.

    The arrivals of one device come one after the other from here on, whatever of it they lock
    later: the identifiers are held, in one order for all, until the transaction ends.
    """
    ordered = sorted(keys)
    values = {"kinds": [kind for kind, _ in ordered], "given": [value for _, value in ordered]}
    rows = [_Line(*row) for row in _FOUND.rows(connection, values)]
    fitting = [r for r in rows if r.kind != "serial" or r.maker in (maker, "") or not maker]
    exact = {r.device_id for r in fitting if r.kind != "serial" or r.maker == maker}
    chosen = exact or {r.device_id for r in fitting}
    owned = {
        one: frozenset((r.kind, r.value) for r in rows if r.device_id == one) for one in chosen
    }
    return [
        Found(one, row.person_id, Stage(row.stage), owned[one])
        for one in sorted(chosen)
        for row in [next(r for r in rows if r.device_id == one)]
    ]


@dataclass(frozen=True, slots=True)
class HeldDevice(DeviceRow):
    """A device that is locked, and whether another one has its name meanwhile."""

    name_taken: bool


_OTHER = devices.alias("other")
_NAME_TAKEN = exists(
    select(_OTHER.c.id).where(
        func.lower(_OTHER.c.name) == func.lower(devices.c.name),
        _OTHER.c.stage != Stage.RETIRED,
        _OTHER.c.id != devices.c.id,
        _OTHER.c.name.is_not(None),
    )
)
_HELD = Ready(
    select(
        devices,
        sightings.c.last_seen_at,
        people.c.name.label("person_name"),
        people.c.user_name.label("person_user_name"),
        _NAME_TAKEN.label("name_taken"),
    )
    .select_from(sighted_devices)
    .outerjoin(people, people.c.id == devices.c.person_id)
    .where(devices.c.id == bindparam("device_id"))
    .with_for_update(of=devices)
)


def hold_device(connection: Connection, device_id: int) -> HeldDevice | None:
    """One device, held until the transaction ends."""
    return _HELD.one(connection, HeldDevice, {"device_id": device_id})


def _standing() -> Select[Any]:
    kinds = (devices.c.platform, devices.c.ownership)
    person = bindparam("person_id", type_=BigInteger)
    counted = literal([*COUNTED], ARRAY(Text))
    held = (
        select(*kinds, func.count().label("number"))
        .where(devices.c.person_id == person, devices.c.stage == any_(counted))
        .group_by(*kinds)
        .subquery()
    )
    lines = select(func.jsonb_agg(func.jsonb_build_array(*held.c))).scalar_subquery()
    good = select(func.array_agg(credentials.c.secret_hash)).where(
        credentials.c.device_id == bindparam("device_id", type_=BigInteger),
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )
    return select(lines, good.scalar_subquery())


_STANDING = Ready(_standing())


def standing(
    connection: Connection, person_id: int | None, device_id: int | None
) -> tuple[Holding, list[bytes]]:
    """What a person holds that counts, and the hashes of the credentials with which a device may
    check in; once both are locked, so that it stays true.
    """
    values = {"person_id": person_id, "device_id": device_id}
    [(lines, hashes)] = _STANDING.rows(connection, values)
    return held_of(lines or ()), list(hashes or ())


#: It names the columns: to take whole rows apart and to put them together again as JSON took half
#: as long again.
_ADDING = """
WITH blank AS (
    SELECT * FROM jsonb_to_record(%(blank)s) AS b ({typed})
), added AS (
    INSERT INTO devices ({columns}, seen_on)
    SELECT {columns}, day_here(coalesce((%(patch)s ->> 'last_seen_at')::timestamptz, created_at))
    FROM jsonb_to_record(%(blank)s || %(patch)s) AS n ({typed})
    RETURNING id, {columns}, (%(patch)s ->> 'last_seen_at')::timestamptz AS last_seen_at
), sighted AS (
    INSERT INTO sightings (device_id, last_seen_at) SELECT id, last_seen_at FROM added
), named AS (
    INSERT INTO identifiers (device_id, kind, value, maker, given)
    SELECT added.id, i.kind, i.value, i.maker, i.given FROM added,
        jsonb_to_recordset(%(keys)s) AS i (kind text, value text, maker text, given text)
), entry AS (
    INSERT INTO journal (at, actor, request_id, operation, subject, subject_id, summary)
    SELECT %(at)s, %(actor)s, %(request_id)s, %(operation)s, %(subject)s, id, %(summary)s
    FROM added RETURNING id
), noted AS (
    INSERT INTO journal_effects (entry_id, device_id, before, after)
    SELECT entry.id, added.id, {before}, {after} FROM entry, added, blank
)
SELECT id FROM added
"""
#: What the journal keeps of a column: nothing where the knock left it as it was.
_CHANGED: LiteralString = """CASE WHEN blank.{0} IS DISTINCT FROM added.{0}
    THEN jsonb_build_object({1}, {2}.{0}) ELSE '{{}}' END"""
_LAST_SEEN = "last_seen_at"


@lru_cache(maxsize=64)
def _adding(blank: frozenset[str], patch: frozenset[str]) -> bytes:
    columns = sorted((blank | patch) - {_LAST_SEEN})
    typed = [sql.SQL("{} {}").format(sql.Identifier(one), sql.SQL(TYPES[one])) for one in columns]
    changed = [(sql.Identifier(one), one) for one in sorted(patch - {_LAST_SEEN})]

    def effect(side: str) -> sql.Composed:
        parts: list[sql.Composable] = [
            sql.SQL(_CHANGED).format(column, sql.Literal(name), sql.Identifier(side))
            for column, name in changed
        ]
        if _LAST_SEEN in patch:
            seen = sql.SQL("NULL" if side == "blank" else "added.last_seen_at")
            parts.append(sql.SQL("jsonb_build_object('last_seen_at', {})").format(seen))
        return sql.SQL(" || ").join(parts)

    return (
        sql.SQL(_ADDING)
        .format(
            typed=sql.SQL(", ").join(typed),
            columns=sql.SQL(", ").join(map(sql.Identifier, columns)),
            before=effect("blank"),
            after=effect("added"),
        )
        .as_bytes()
    )


def add_device(
    connection: Connection,
    entry: Mapping[str, Any],
    blank: Mapping[str, Any],
    patch: Mapping[str, Any],
    keys: Sequence[Mapping[str, Any]],
) -> int:
    """A device that nobody announced, written once as it is after its knock: with its identifiers,
    its journal entry, and the effect that takes it back to what it was `blank`, and in its
    cohorts.
    """
    values = {**entry, "blank": Jsonb(blank), "patch": Jsonb(patch), "keys": Jsonb(keys)}
    with raw(connection).cursor() as cursor:
        statement = _adding(frozenset(blank), frozenset(patch))
        [(device_id,)] = cursor.execute(statement, values).fetchall()
    assert isinstance(device_id, int)
    settle_one(connection, device_id, None)
    return device_id


@dataclass(frozen=True, slots=True)
class Entrance:
    """What is written when a device was let in, beside the device itself. `arrival_id`: of the one
    that was asked before. `secret_hash`: of the credential that it is given now. `place`: the
    list that it joins; one that is gone is passed over.
    """

    pass_id: int
    device_id: int
    arrival_id: int | None
    arrival: Mapping[str, Any]
    secret_hash: bytes | None
    place: str | None
    at: datetime


#: What an arrival is written with when a device is let in: of one that knocks, and of one that was
#: asked before.
_DECIDED = (
    "outcome",
    "decided_at",
    "moved_at",
    "asks",
    "person_id",
    "proof",
    "pass_id",
    "reasons",
    "trace",
    "facts",
    "device_id",
    "claim",
)
_KNOCKED = (*_DECIDED, "at", "stated", "protocol", "shown_credential")


def _entering(is_new: bool) -> Select[Any]:
    left = passes.c.max_uses.is_(None) | (passes.c.uses < passes.c.max_uses)
    used = (
        update(passes)
        .where(passes.c.id == bindparam("the_pass"), left, passes.c.revoked_at.is_(None))
        .values(uses=passes.c.uses + 1)
        .returning(passes.c.id)
        .cte("used")
    )
    names = _KNOCKED if is_new else _DECIDED
    values = {name: bindparam(f"new_{name}", type_=arrivals.c[name].type) for name in names}
    written: Any = insert(arrivals).values(values)
    if not is_new:
        written = update(arrivals).where(arrivals.c.id == bindparam("arrival")).values(values)
    arrived = written.returning(arrivals.c.id).cte("arrived")
    device = bindparam("device", type_=BigInteger)
    secret = cast(bindparam("secret", type_=LargeBinary), LargeBinary)
    at = bindparam("given_at", type_=devices.c.created_at.type)
    ended = (
        update(credentials)
        .where(
            credentials.c.device_id == device,
            credentials.c.revoked_at.is_(None),
            credentials.c.claim_id.is_(None),
            secret.is_not(None),
        )
        .values(revoked_at=at)
        .cte("ended")
    )
    fresh = select(secret, device, at).where(secret.is_not(None))
    columns = ["secret_hash", "device_id", "created_at"]
    given = insert(credentials).from_select(columns, fresh).cte("given")
    lists = select(cohorts.c.id, device).where(
        func.lower(cohorts.c.name) == bindparam("place", type_=Text), cohorts.c.filter.is_(None)
    )
    joining = upsert(cohort_members).from_select(["cohort_id", "device_id"], lists)
    joined = joining.on_conflict_do_nothing().cte("joined")
    query = select(arrived.c.id, select(used.c.id).scalar_subquery())
    return query.add_cte(ended, given, joined)


_ENTERING = {is_new: Ready(_entering(is_new)) for is_new in (True, False)}


def enter(connection: Connection, entrance: Entrance) -> int | None:
    """Count the use of the pass, write the arrival, give the credential in place of former ones,
    and let the device join its list; the arrival's number, or None where the pass had no use left.
    """
    values = {
        "the_pass": entrance.pass_id,
        "device": entrance.device_id,
        "secret": entrance.secret_hash,
        "given_at": entrance.at,
        "place": entrance.place.strip().lower() if entrance.place else None,
        **{f"new_{name}": value for name, value in entrance.arrival.items()},
    }
    if entrance.arrival_id is not None:
        values["arrival"] = entrance.arrival_id
    entering = _ENTERING[entrance.arrival_id is None]
    [(arrival_id, was_used)] = entering.rows(connection, values)
    if entrance.place and entrance.device_id is not None:
        # Pools may speak of the list.
        settle_again(connection, entrance.device_id, {"cohorts"})
    return arrival_id if was_used is not None else None
