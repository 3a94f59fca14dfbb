"""Passes, knocks and credentials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, and_, delete, func, insert, or_, select, update

from sortitor.core.gate import Declaring, Who
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import Claim, Outcome, Ownership, Stage
from sortitor.store.cohorts import refresh_memberships_of_one
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.tables import (
    arrivals,
    credentials,
    devices,
    groups,
    identifiers,
    memberships,
    passes,
    people,
)


def add_pass(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new pass's id."""
    return number(connection, insert(passes).values(**values).returning(passes.c.id))


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


_PASSES = select(passes, people.c.name.label("person_name")).outerjoin(
    people, people.c.id == passes.c.person_id
)


def pass_by_hash(connection: Connection, code_hash: str) -> PassRow | None:
    """The pass of a code."""
    return read_one(connection, _PASSES.where(passes.c.code_hash == code_hash), PassRow)


def one_pass(connection: Connection, pass_id: int) -> PassRow | None:
    """One pass."""
    return read_one(connection, _PASSES.where(passes.c.id == pass_id), PassRow)


def use_pass(connection: Connection, pass_id: int) -> bool:
    """Count one use; False if there is none left."""
    left = passes.c.max_uses.is_(None) | (passes.c.uses < passes.c.max_uses)
    statement = (
        update(passes)
        .where(passes.c.id == pass_id, left, passes.c.revoked_at.is_(None))
        .values(uses=passes.c.uses + 1)
    )
    return connection.execute(statement).rowcount == 1


def revoke_pass(connection: Connection, pass_id: int, at: datetime) -> str | None:
    """The label of the pass that was revoked, or None if there is no such living pass."""
    statement = (
        update(passes)
        .where(passes.c.id == pass_id, passes.c.revoked_at.is_(None))
        .values(revoked_at=at)
    )
    return connection.execute(statement.returning(passes.c.label)).scalar_one_or_none()


def pass_page(connection: Connection, before: int | None, limit: int) -> list[PassRow]:
    """Passes, newest first, with the person they are for."""
    query = _PASSES if before is None else _PASSES.where(passes.c.id < before)
    return read_all(connection, query.order_by(passes.c.id.desc()).limit(limit), PassRow)


def add_arrival(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new arrival's id."""
    return number(connection, insert(arrivals).values(**values).returning(arrivals.c.id))


_ARRIVALS = (
    select(
        arrivals,
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
    connection: Connection, outcome: str | None, waiting: bool, before: int | None, limit: int
) -> list[ArrivalRow]:
    """Arrivals, newest first; `waiting` keeps those on which a coordinator has to decide: the
    latest of a device that is parked right now, and open claims on devices in use.
    """
    query = _ARRIVALS
    if outcome:
        query = query.where(arrivals.c.outcome == outcome)
    if waiting:
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


def one(connection: Connection, arrival_id: int, lock: bool = False) -> ArrivalRow | None:
    """One arrival with its trace; `lock` holds its row."""
    query = _ARRIVALS.where(arrivals.c.id == arrival_id)
    return read_one(connection, query.with_for_update(of=arrivals) if lock else query, ArrivalRow)


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


def hold_identifiers(connection: Connection, keys: Sequence[tuple[str, str]]) -> None:
    """Let the arrivals of one device come one after the other, whatever of it they lock later; the
    lock ends with the transaction.
    """
    for kind, value in sorted(keys):
        name = f"{kind}:{value}"
        connection.execute(select(func.pg_advisory_xact_lock(func.hashtextextended(name, 0))))


def has_credential(
    connection: Connection, device_id: int, shown: bytes | None
) -> tuple[bool, bool]:
    """Whether a device has a credential that is good, and whether it is the one that was shown."""
    query = select(credentials.c.secret_hash).where(
        credentials.c.device_id == device_id,
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )
    found = [bytes(one) for one in connection.execute(query).scalars()]
    return bool(found), shown is not None and shown in found


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


def add_device(
    connection: Connection, values: Mapping[str, Any], keys: Sequence[Mapping[str, Any]]
) -> int:
    """A device that nobody announced, with its identifiers."""
    device_id = number(connection, insert(devices).values(**values).returning(devices.c.id))
    _write_identifiers(connection, device_id, keys)
    refresh_memberships_of_one(connection, device_id, None)
    return device_id


def _write_identifiers(
    connection: Connection, device_id: int, keys: Sequence[Mapping[str, Any]]
) -> None:
    if keys:
        connection.execute(insert(identifiers), [{**key, "device_id": device_id} for key in keys])


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
    statement = update(credentials).where(
        among(credentials.c.device_id, device_ids),
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )
    connection.execute(statement.values(revoked_at=at, revoked_by=entry_id))
