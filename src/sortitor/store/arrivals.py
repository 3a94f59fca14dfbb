"""Passes, knocks and credentials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Integer,
    Select,
    Text,
    Update,
    and_,
    case,
    cast,
    delete,
    func,
    insert,
    or_,
    select,
    text,
    update,
)
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.gate import Declaring, Who
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import (
    Claim,
    MailState,
    Outcome,
    Ownership,
    Proof,
    Speaker,
    Stage,
    WayStage,
)
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.tables import (
    acceptances,
    arrivals,
    credentials,
    devices,
    groups,
    mails,
    memberships,
    passes,
    people,
    sign_in_codes,
    way_messages,
)


def add_passes(connection: Connection, lines: Sequence[Mapping[str, Any]]) -> list[int]:
    """New passes' numbers, in order."""
    statement = insert(passes).returning(passes.c.id, sort_by_parameter_order=True)
    return list(connection.execute(statement, [*lines]).scalars())


def make_batch(connection: Connection, ids: Sequence[int]) -> None:
    """Note that passes were made in one action."""
    connection.execute(update(passes).where(among(passes.c.id, ids)).values(batch=min(ids)))


@dataclass(frozen=True, slots=True)
class PassRow:
    """A pass without its code; `document` holds its terms."""

    id: int
    document: dict[str, Any]
    person_id: int | None
    person_name: str | None
    valid_from: datetime
    valid_until: datetime
    max_uses: int | None
    uses: int
    created_by: str
    created_at: datetime
    revoked_at: datetime | None
    passcode_hash: bytes | None
    mailed_at: datetime | None
    batch: int | None
    #: How many were made in one action, and how many of them were used.
    made: int
    used: int

    @property
    def terms(self) -> PassTerms:
        """Under which conditions it lets devices knock."""
        return PassTerms.model_validate(self.document)


@dataclass(frozen=True, slots=True)
class ArrivalRow:
    """One knock and what the gate said to it, with its device as it is now."""

    id: int
    at: datetime
    outcome: Outcome
    device_id: int | None
    device_name: str | None
    stage: Stage | None
    stage_at: datetime | None
    ownership: Ownership | None
    maker: str | None
    model: str | None
    site: str | None
    person_name: str | None
    pass_label: str | None
    stated: dict[str, Any]
    reasons: list[dict[str, Any]]
    trace: list[dict[str, Any]]
    claim: Claim | None
    person_id: int | None
    way: WayStage
    moved_at: datetime
    lapses_at: datetime | None
    asks: list[str]
    proof: Proof
    progress: dict[str, Any] | None
    pass_id: int | None


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which arrivals; `waiting`: those on which a coordinator has to decide. `identifiers`: those
    that stated one of these, in capitals; `known`: of devices of these ownerships alone. `person`:
    somebody's, by number, and those that named them by one of these names, in small letters.
    """

    outcome: Outcome | None = None
    waiting: bool = False
    way: WayStage | None = None
    pass_id: int | None = None
    device_id: int | None = None
    identifiers: tuple[str, ...] | None = None
    known: tuple[Ownership, ...] | None = None
    person: tuple[int, tuple[str, ...]] | None = None


@dataclass(frozen=True, slots=True)
class KnockRow:
    """One knock in a line of a list."""

    id: int
    device_id: int | None
    device_name: str | None
    ownership: Ownership | None
    site: str | None
    person_name: str | None
    stated: dict[str, Any]

    def label(self, stated: Mapping[str, Any]) -> str:
        """What it is called: its device's name, else the model and number that it stated."""
        said = (stated.get("maker"), stated.get("model"), stated.get("serial"))
        return self.device_name or " ".join(filter(None, said)) or f"arrival {self.id}"


_MATES = passes.alias("batch_mates")
_MADE = select(func.count()).where(_MATES.c.batch == passes.c.batch).correlate(passes)
#: Passes with the person they are for, and what became of those that were made with them.
PASSES = select(
    passes,
    people.c.name.label("person_name"),
    func.greatest(_MADE.scalar_subquery(), 1).label("made"),
    case(
        (passes.c.batch.is_(None), cast(passes.c.uses > 0, Integer)),
        else_=_MADE.where(_MATES.c.uses > 0).scalar_subquery(),
    ).label("used"),
).outerjoin(people, people.c.id == passes.c.person_id)


def one_pass(connection: Connection, pass_id: int) -> PassRow | None:
    """One pass."""
    return read_one(connection, PASSES.where(passes.c.id == pass_id), PassRow)


@dataclass(frozen=True, slots=True)
class EndedRow:
    """A pass that was ended."""

    id: int
    label: str


def revoke_passes(
    connection: Connection, pass_id: int, whole_batch: bool, at: datetime
) -> list[EndedRow]:
    """End a living pass, or all living ones of its batch; those that were ended."""
    wanted = passes.c.id == pass_id
    if whole_batch:
        mates = passes.alias("mates")
        batch = select(mates.c.batch).where(mates.c.id == pass_id).scalar_subquery()
        wanted = or_(wanted, passes.c.batch == batch)
    statement = update(passes).where(wanted, passes.c.revoked_at.is_(None)).values(revoked_at=at)
    return read_all(connection, statement.returning(passes.c.id, passes.c.label), EndedRow)


def passes_for(connection: Connection, person_id: int, now: datetime) -> list[EndedRow]:
    """The living passes that were made for one person."""
    query = select(passes.c.id, passes.c.label).where(
        passes.c.person_id == person_id, passes.c.revoked_at.is_(None), passes.c.valid_until > now
    )
    return read_all(connection, query.order_by(passes.c.id), EndedRow)


def end_passes(connection: Connection, ids: Sequence[int], at: datetime) -> None:
    """Revoke these passes."""
    statement = update(passes).where(passes.c.id.in_(ids), passes.c.revoked_at.is_(None))
    connection.execute(statement.values(revoked_at=at))


@dataclass(frozen=True, slots=True)
class UnusedRow:
    """A pass that nobody has used, with its person's address."""

    id: int
    person_id: int | None
    person_name: str | None
    mail: str | None
    valid_until: datetime


def unused(connection: Connection, batch: int, now: datetime) -> list[UnusedRow]:
    """The living passes of a batch that nobody has used."""
    query = (
        select(
            passes.c.id,
            passes.c.person_id,
            people.c.name.label("person_name"),
            people.c.mail,
            passes.c.valid_until,
        )
        .join(people, people.c.id == passes.c.person_id)
        .where(
            or_(passes.c.batch == batch, passes.c.id == batch),
            passes.c.uses == 0,
            passes.c.revoked_at.is_(None),
            passes.c.valid_until > now,
            people.c.left_at.is_(None),
        )
        .order_by(passes.c.id)
    )
    return read_all(connection, query, UnusedRow)


@dataclass(frozen=True, slots=True)
class PassUse:
    """One pass of a batch: whose it is, and what became of it."""

    id: int
    person_id: int | None
    person_name: str | None
    uses: int
    revoked_at: datetime | None
    mail_state: MailState | None
    device_id: int | None
    device_name: str | None


def uses_of(connection: Connection, batch: int) -> list[PassUse]:
    """The passes of a batch by their people's names."""
    newest_mail = (
        select(mails.c.state)
        .where(mails.c.pass_id == passes.c.id)
        .order_by(mails.c.id.desc())
        .limit(1)
        .scalar_subquery()
    )
    later = arrivals.alias("later")
    newest_arrival = (
        select(func.max(later.c.id))
        .where(later.c.pass_id == passes.c.id, later.c.device_id.is_not(None))
        .scalar_subquery()
    )
    query = (
        select(
            passes.c.id,
            passes.c.person_id,
            people.c.name.label("person_name"),
            passes.c.uses,
            passes.c.revoked_at,
            newest_mail.label("mail_state"),
            arrivals.c.device_id,
            devices.c.name.label("device_name"),
        )
        .outerjoin(people, people.c.id == passes.c.person_id)
        .outerjoin(arrivals, arrivals.c.id == newest_arrival)
        .outerjoin(devices, devices.c.id == arrivals.c.device_id)
        .where(or_(passes.c.batch == batch, passes.c.id == batch))
        .order_by(func.lower(people.c.name), passes.c.id)
        .limit(5_000)
    )
    return read_all(connection, query, PassUse)


def pass_page(connection: Connection, before: int | None, limit: int) -> list[PassRow]:
    """Passes, newest first; of a batch only the first."""
    query = PASSES.where(or_(passes.c.batch.is_(None), passes.c.batch == passes.c.id))
    if before is not None:
        query = query.where(passes.c.id < before)
    return read_all(connection, query.order_by(passes.c.id.desc()).limit(limit), PassRow)


def add_arrival(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new arrival's id."""
    kept = {"moved_at": values["at"], **values}
    return number(connection, insert(arrivals).values(**kept).returning(arrivals.c.id))


def change_arrival(connection: Connection, arrival_id: int, values: Mapping[str, Any]) -> None:
    """Write down how an arrival went on."""
    connection.execute(update(arrivals).where(arrivals.c.id == arrival_id).values(**values))


@dataclass(frozen=True, slots=True)
class AskedRow:
    """An arrival that was asked something, with what was answered so far."""

    id: int
    at: datetime
    outcome: Outcome
    device_id: int | None
    person_id: int | None
    pass_id: int
    stated: dict[str, Any]
    reasons: list[dict[str, Any]]
    lapses_at: datetime
    decided_at: datetime | None
    collected_at: datetime | None
    asks: list[str]
    proof: Proof
    answers: dict[str, Any]
    shown_credential: bytes | None
    claim: Claim | None
    progress: dict[str, Any] | None


def asked_by(connection: Connection, secret_hash: bytes, lock: bool = False) -> AskedRow | None:
    """The arrival of a secret; `lock` holds its row."""
    query = select(arrivals).where(arrivals.c.secret_hash == secret_hash)
    return read_one(connection, query.with_for_update() if lock else query, AskedRow)


def say(connection: Connection, arrival_id: int, at: datetime, *lines: tuple[Speaker, str]) -> None:
    """Write down messages that went to and fro."""
    connection.execute(
        insert(way_messages),
        [{"arrival_id": arrival_id, "at": at, "who": who, "what": what} for who, what in lines],
    )


@dataclass(frozen=True, slots=True)
class MessageRow:
    """One message of the way in."""

    id: int
    at: datetime
    who: Speaker
    what: str


def messages_of(connection: Connection, arrival_id: int) -> list[MessageRow]:
    """Every message of an arrival, in order."""
    query = select(way_messages).where(way_messages.c.arrival_id == arrival_id)
    return read_all(connection, query.order_by(way_messages.c.id), MessageRow)


@dataclass(frozen=True, slots=True)
class CodeRow:
    """The one-time code of an arrival. No person: nobody was found by the name."""

    arrival_id: int
    code_hash: bytes
    person_id: int | None
    address: str
    sent_at: datetime
    sent: int
    tries: int


def code_of(connection: Connection, arrival_id: int, lock: bool = False) -> CodeRow | None:
    """The code of an arrival; `lock` holds its row."""
    query = select(sign_in_codes).where(sign_in_codes.c.arrival_id == arrival_id)
    return read_one(connection, query.with_for_update() if lock else query, CodeRow)


def keep_code(connection: Connection, values: Mapping[str, Any]) -> None:
    """A new code of an arrival, in place of the former one."""
    statement = upsert(sign_in_codes).values(**values)
    fresh = {
        name: statement.excluded[name] for name in ("code_hash", "person_id", "address", "sent_at")
    }
    changed = {**fresh, "sent": sign_in_codes.c.sent + 1, "tries": 0}
    connection.execute(statement.on_conflict_do_update(index_elements=["arrival_id"], set_=changed))


def count_try(connection: Connection, arrival_id: int) -> None:
    """Note that a wrong code was typed."""
    connection.execute(
        update(sign_in_codes)
        .where(sign_in_codes.c.arrival_id == arrival_id)
        .values(tries=sign_in_codes.c.tries + 1)
    )


def spend_code(connection: Connection, arrival_id: int, tries: int) -> None:
    """Let a code that was typed be typed no more."""
    connection.execute(
        update(sign_in_codes).where(sign_in_codes.c.arrival_id == arrival_id).values(tries=tries)
    )


def codes_sent(
    connection: Connection, person_id: int, address: str, since: datetime
) -> tuple[int, int]:
    """How many codes were sent to a person since a moment: to anybody's asking, and to those who
    asked from this address.
    """
    ours = func.sum(sign_in_codes.c.sent).filter(sign_in_codes.c.address == address)
    query = select(func.coalesce(func.sum(sign_in_codes.c.sent), 0), func.coalesce(ours, 0)).where(
        sign_in_codes.c.person_id == person_id, sign_in_codes.c.sent_at >= since
    )
    row = connection.execute(query).one()
    return int(row[0]), int(row[1])


def accept_terms(connection: Connection, lines: Sequence[Mapping[str, Any]]) -> None:
    """Write down who accepted which version of which terms, when and in which language."""
    if lines:
        connection.execute(insert(acceptances), [*lines])


@dataclass(frozen=True, slots=True)
class AcceptanceRow:
    """Somebody accepted terms. `person`: their user name; none where they are gone from here.
    `device_id`: of the device that they brought.
    """

    id: int
    at: datetime
    terms_name: str
    revision: int
    language: str
    person_id: int | None
    person: str | None
    person_name: str | None
    device_id: int | None


def acceptances_page(
    connection: Connection, terms_name: str, before: int | None, limit: int
) -> list[AcceptanceRow]:
    """Who accepted terms of this name, in whichever version, newest first."""
    query = (
        select(
            *(acceptances.c[name] for name in ("id", "at", "terms_name", "revision", "language")),
            acceptances.c.person_id,
            people.c.user_name.label("person"),
            people.c.name.label("person_name"),
            arrivals.c.device_id,
        )
        .outerjoin(people, people.c.id == acceptances.c.person_id)
        .outerjoin(arrivals, arrivals.c.id == acceptances.c.arrival_id)
        .where(acceptances.c.terms_name == terms_name)
        .order_by(acceptances.c.id.desc())
        .limit(limit)
    )
    if before is not None:
        query = query.where(acceptances.c.id < before)
    return read_all(connection, query, AcceptanceRow)


def accepted_by(connection: Connection, person_id: int) -> dict[str, int]:
    """The terms that a person accepted: name → newest version."""
    query = (
        select(acceptances.c.terms_name, func.max(acceptances.c.revision))
        .where(acceptances.c.person_id == person_id)
        .group_by(acceptances.c.terms_name)
    )
    return {row[0]: row[1] for row in connection.execute(query)}


#: How far an arrival is; codes and secrets lapse by real time.
_WAY = case(
    (
        arrivals.c.outcome == Outcome.ASKED,
        case((arrivals.c.lapses_at > func.now(), WayStage.ASKED), else_=WayStage.LAPSED),
    ),
    (arrivals.c.outcome == Outcome.REFUSED, WayStage.REFUSED),
    (
        and_(
            arrivals.c.outcome == Outcome.PARKED,
            or_(devices.c.stage == Stage.PARKED, arrivals.c.claim == Claim.OPEN),
        ),
        WayStage.PARKED,
    ),
    (arrivals.c.progress["failed"].astext.is_not(None), WayStage.FAILED),
    (arrivals.c.progress["finished"].astext == "false", WayStage.SETTING_UP),
    else_=WayStage.DONE,
)
_ARRIVALS = (
    select(
        arrivals,
        _WAY.label("way"),
        devices.c.stage,
        devices.c.stage_at,
        devices.c.ownership,
        devices.c.name.label("device_name"),
        devices.c.model,
        devices.c.maker,
        devices.c.site,
        passes.c.label.label("pass_label"),
        people.c.name.label("person_name"),
    )
    .outerjoin(devices, devices.c.id == arrivals.c.device_id)
    .outerjoin(passes, passes.c.id == arrivals.c.pass_id)
    .outerjoin(people, people.c.id == arrivals.c.person_id)
)


def page(
    connection: Connection, wanted: Wanted, before: int | None, limit: int
) -> list[ArrivalRow]:
    """Arrivals, newest first; `waiting` keeps the latest of a device that is parked right now, and
    open claims on devices in use.
    """
    query = _ARRIVALS
    if wanted.outcome:
        query = query.where(arrivals.c.outcome == wanted.outcome)
    if wanted.way:
        query = query.where(_WAY.in_([wanted.way]))
    if wanted.pass_id is not None:
        mates = select(passes.c.id).where(
            or_(passes.c.id == wanted.pass_id, passes.c.batch == wanted.pass_id)
        )
        query = query.where(arrivals.c.pass_id.in_(mates))
    if wanted.device_id is not None:
        query = query.where(arrivals.c.device_id == wanted.device_id)
    if wanted.identifiers is not None:
        query = query.where(_stating(wanted.identifiers))
        if wanted.known is not None:
            query = query.where(devices.c.ownership.in_(wanted.known))
    if wanted.person is not None:
        number, names = wanted.person
        named = func.lower(arrivals.c.stated["person"].astext).in_(names)
        query = query.where(or_(arrivals.c.person_id == number, named))
    if wanted.waiting:
        later = arrivals.alias("later")
        newest = select(func.max(later.c.id)).where(
            later.c.device_id == arrivals.c.device_id,
            later.c.outcome == Outcome.PARKED,
            later.c.claim.is_(None),
        )
        parked = and_(
            devices.c.stage == Stage.PARKED,
            arrivals.c.outcome == Outcome.PARKED,
            arrivals.c.claim.is_(None),
            arrivals.c.id == newest.scalar_subquery(),
        )
        query = query.where(or_(parked, arrivals.c.claim == Claim.OPEN))
    if before is not None:
        query = query.where(arrivals.c.id < before)
    return read_all(connection, query.order_by(arrivals.c.id.desc()).limit(limit), ArrivalRow)


def _stating(identifiers: Sequence[str]) -> ColumnElement[bool]:
    """Those that stated one of these as a serial number or an IMEI."""
    serial = func.upper(arrivals.c.stated["serial"].astext).in_(identifiers)
    imei = arrivals.c.stated["imeis"].has_any(postgresql.array(list(identifiers), type_=Text))
    return or_(serial, imei)


def one(connection: Connection, arrival_id: int, lock: bool = False) -> ArrivalRow | None:
    """One arrival with its trace; `lock` holds its row."""
    query = _ARRIVALS.where(arrivals.c.id == arrival_id)
    return read_one(connection, query.with_for_update(of=arrivals) if lock else query, ArrivalRow)


@dataclass(frozen=True, slots=True)
class WaitingRow:
    """A device that waits for its person, with what its latest arrival stated."""

    device_id: int
    device_name: str | None
    ownership: Ownership
    model: str | None
    site: str | None
    stated: dict[str, Any]


def waiting_devices(connection: Connection) -> list[WaitingRow]:
    """The devices that are parked, by number."""
    latest = (
        select(arrivals.c.stated)
        .where(arrivals.c.device_id == devices.c.id)
        .order_by(arrivals.c.id.desc())
        .limit(1)
        .scalar_subquery()
    )
    query = select(
        devices.c.id.label("device_id"),
        devices.c.name.label("device_name"),
        devices.c.ownership,
        devices.c.model,
        devices.c.site,
        func.coalesce(latest, text("'{}'::jsonb")).label("stated"),
    ).where(devices.c.stage == Stage.PARKED)
    return read_all(connection, query.order_by(devices.c.id), WaitingRow)


def latest_of_credential(connection: Connection, secret_hash: bytes) -> int | None:
    """The latest arrival of the device that has a credential."""
    device = by_credential(secret_hash).scalar_subquery()
    query = select(func.max(arrivals.c.id)).where(arrivals.c.device_id == device)
    found: int | None = connection.execute(query).scalar_one()
    return found


def latest_of_device(connection: Connection, device_id: int) -> int | None:
    """The latest arrival of a device."""
    query = select(func.max(arrivals.c.id)).where(arrivals.c.device_id == device_id)
    found: int | None = connection.execute(query).scalar_one()
    return found


@dataclass(frozen=True, slots=True)
class HandoverRow:
    """The latest arrival of a device: what it told of its setting up, and whether the device was
    ready once before.
    """

    id: int
    progress: dict[str, Any] | None
    was_ready: bool


def handover(connection: Connection, device_id: int, lock: bool = False) -> HandoverRow | None:
    """How far a device's setting up is."""
    earlier = arrivals.alias("earlier")
    ready = select(earlier.c.id).where(
        earlier.c.device_id == device_id,
        earlier.c.id < arrivals.c.id,
        earlier.c.progress["finished"].astext == "true",
    )
    query = (
        select(arrivals.c.id, arrivals.c.progress, ready.exists().label("was_ready"))
        .where(arrivals.c.device_id == device_id)
        .order_by(arrivals.c.id.desc())
        .limit(1)
    )
    rows = read_all(connection, query.with_for_update(of=arrivals) if lock else query, HandoverRow)
    return rows[0] if rows else None


def progress_of(connection: Connection, arrival_id: int) -> dict[str, Any] | None:
    """What was told of an arrival's setting up, held until the transaction ends."""
    query = select(arrivals.c.progress).where(arrivals.c.id == arrival_id)
    found: dict[str, Any] | None = connection.execute(query.with_for_update()).scalar_one()
    return found


def overdue(connection: Connection, now: str, most: int) -> dict[int, dict[str, Any]]:
    """Arrival → its progress, of those whose time was over at a moment (RFC 3339, UTC); those that
    somebody changes right now come another time.
    """
    query = (
        select(arrivals.c.id, arrivals.c.progress)
        .where(
            arrivals.c.progress["finished"].astext == "false",
            arrivals.c.progress["until"].astext < now,
        )
        .order_by(arrivals.c.id)
        .limit(most)
        .with_for_update(skip_locked=True)
    )
    return {number: progress for number, progress in connection.execute(query)}


def by_credential(secret_hash: bytes) -> Select[tuple[int]]:
    """The device of a good credential."""
    return select(credentials.c.device_id).where(
        credentials.c.secret_hash == secret_hash,
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )


def way_counts(connection: Connection, since: datetime) -> dict[WayStage, int]:
    """How many arrivals since a moment stand at each stage."""
    query = (
        select(_WAY, func.count())
        .select_from(arrivals)
        .outerjoin(devices, devices.c.id == arrivals.c.device_id)
        .where(arrivals.c.at >= since)
        .group_by(_WAY)
    )
    return {WayStage(row[0]): row[1] for row in connection.execute(query)}


def last_move(connection: Connection) -> datetime | None:
    """When the arrival that went on last did so."""
    query = select(arrivals.c.moved_at).order_by(arrivals.c.moved_at.desc()).limit(1)
    found: datetime | None = connection.execute(query).scalar_one_or_none()
    return found


def several(connection: Connection, ids: Sequence[int]) -> dict[int, KnockRow]:
    """Arrival → its line."""
    query = (
        select(
            arrivals.c.id,
            arrivals.c.device_id,
            arrivals.c.stated,
            devices.c.name.label("device_name"),
            devices.c.ownership,
            devices.c.site,
            people.c.name.label("person_name"),
        )
        .outerjoin(devices, devices.c.id == arrivals.c.device_id)
        .outerjoin(people, people.c.id == arrivals.c.person_id)
        .where(among(arrivals.c.id, ids))
    )
    return {row.id: row for row in read_all(connection, query, KnockRow)}


def declaring(connection: Connection, now: datetime) -> list[Declaring]:
    """Passes in force that say whose their devices are."""
    left = or_(passes.c.max_uses.is_(None), passes.c.uses < passes.c.max_uses)
    belongs = (
        select(func.coalesce(func.array_agg(groups.c.name), []))
        .join(memberships, memberships.c.group_id == groups.c.id)
        .where(memberships.c.person_id == passes.c.person_id)
        .scalar_subquery()
    )
    says = passes.c.document["ownership"].astext
    query = (
        select(passes.c.label, says, people.c.user_name, belongs)
        .outerjoin(people, people.c.id == passes.c.person_id)
        .where(passes.c.revoked_at.is_(None), left, says.is_not(None))
        .where(passes.c.valid_until > now)
        .order_by(passes.c.id)
    )
    return [
        Declaring(label, Ownership(ownership), Who(frozenset(names), user_name))
        for label, ownership, user_name, names in connection.execute(query)
    ]


def decide_claim(connection: Connection, arrival_id: int, claim: Claim) -> None:
    """Write down what became of a claim."""
    connection.execute(update(arrivals).where(arrivals.c.id == arrival_id).values(claim=claim))


def promise_credential(
    connection: Connection, device_id: int, secret_hash: bytes, at: datetime, arrival_id: int
) -> None:
    """A credential that is good once the claim of its arrival is granted; an earlier claim's goes,
    so that there is one to decide on.
    """
    former = select(credentials.c.claim_id).where(
        credentials.c.device_id == device_id, credentials.c.claim_id.is_not(None)
    )
    connection.execute(
        update(arrivals)
        .where(arrivals.c.id.in_(former), arrivals.c.claim == Claim.OPEN)
        .values(claim=Claim.DENIED)
    )
    connection.execute(
        delete(credentials).where(
            credentials.c.device_id == device_id, credentials.c.claim_id.is_not(None)
        )
    )
    connection.execute(
        insert(credentials).values(
            secret_hash=secret_hash, device_id=device_id, created_at=at, claim_id=arrival_id
        )
    )


def grant_credential(connection: Connection, arrival_id: int, entry_id: int) -> None:
    """Make a promised credential good, by a journal entry; its revert ends it again."""
    connection.execute(
        update(credentials)
        .where(credentials.c.claim_id == arrival_id)
        .values(claim_id=None, granted_by=entry_id)
    )


def withdraw_credential(connection: Connection, arrival_id: int) -> None:
    """Forget a credential that was promised."""
    connection.execute(delete(credentials).where(credentials.c.claim_id == arrival_id))


def give_credential(
    connection: Connection, device_id: int, secret_hash: bytes, at: datetime
) -> None:
    """Bind a new credential to the device; older ones end."""
    end_credentials(connection, [device_id], at, None)
    connection.execute(
        insert(credentials).values(secret_hash=secret_hash, device_id=device_id, created_at=at)
    )


def end_credentials(
    connection: Connection, device_ids: Sequence[int], at: datetime, entry_id: int | None
) -> None:
    """Revoke the credentials of devices; a revert of the entry brings them back."""
    connection.execute(ending(device_ids, at, entry_id))


def end_credentials_of_retired(connection: Connection, at: datetime, entry_id: int) -> None:
    """The same for the devices that the temporary table `patches` has just retired."""
    retired = text(
        "device_id IN (SELECT device_id FROM patches WHERE patch ->> 'stage' = 'retired')"
    )
    connection.execute(
        update(credentials)
        .where(retired, credentials.c.revoked_at.is_(None), credentials.c.claim_id.is_(None))
        .values(revoked_at=at, revoked_by=entry_id)
    )


def ending(device_ids: Sequence[int], at: datetime, entry_id: int | None) -> Update:
    """The statement that does so."""
    good = (
        among(credentials.c.device_id, device_ids),
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )
    return update(credentials).where(*good).values(revoked_at=at, revoked_by=entry_id)
