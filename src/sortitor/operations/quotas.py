"""How many devices a person may have: where each stands, who is over, and that nobody gets past."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core.arrivals import counts_already
from sortitor.core.errors import Conflict
from sortitor.core.gate import (
    Arrival,
    Gate,
    Holding,
    Policy,
    Quota,
    Reason,
    Statement,
    Who,
    quota_reasons,
    quota_said,
    quotas,
)
from sortitor.core.vocabulary import Platform
from sortitor.store import journal, people
from sortitor.store.devices import QuotaRow
from sortitor.store.engine import Connection
from sortitor.store.people import HolderRow, PersonRow


@dataclass(frozen=True, slots=True)
class Standing:
    """One quota that a person has, and how many devices count to it. platform: None for all."""

    platform: Platform | None
    quota: Quota
    policy: str
    counted: int


@dataclass(frozen=True, slots=True)
class Over:
    """A person who has more devices than a quota."""

    id: int
    user_name: str
    platform: Platform | None
    quota: Quota
    counted: int


def standings(gate: Gate, person: PersonRow, holding: Holding) -> list[Standing]:
    """The quotas of a person: the one for all platforms first."""
    audience = gate.audience(Who(frozenset(person.groups), person.user_name))
    return list(_standings(audience, holding))


def over(connection: Connection, gate: Gate) -> dict[str, Over]:
    """Who has more devices than the gate's quota: user name → the first quota that is passed."""
    [found] = over_each(connection, [gate])
    return found


def over_each(connection: Connection, gates: Sequence[Gate]) -> list[dict[str, Over]]:
    """The same by each of some gates, in one look at the fleet."""
    named = frozenset[str]().union(*(gate.named_groups for gate in gates))
    lowest = min(gate.lowest_quota for gate in gates)
    holders = people.holders(connection, lowest + 1, named)
    return [_over(gate, holders) for gate in gates]


def _over(gate: Gate, holders: Sequence[HolderRow]) -> dict[str, Over]:
    found = {}
    quotas_for = _quotas_by(gate)
    for row in holders:
        for one in quotas_for(row):
            counted = row.holding.counted(one.value, one.platform)
            if counted > one.value.devices:
                found[row.user_name] = Over(row.id, row.user_name, one.platform, one.value, counted)
                break
    return found


def _quotas_by(gate: Gate) -> Callable[[HolderRow], list[Statement]]:
    """Somebody's quotas; of those whom no policy tells apart they are looked up once."""
    known: dict[tuple[frozenset[str], str], list[Statement]] = {}
    named_groups, named_people = gate.named_groups, gate.named_people

    def quotas_for(row: HolderRow) -> list[Statement]:
        groups = frozenset(name.casefold() for name in row.groups) & named_groups
        name = row.user_name if row.user_name.casefold() in named_people else ""
        if (groups, name) not in known:
            audience = gate.audience(Who(groups, name or None))
            known[groups, name] = list(_every_quota(audience))
        return known[groups, name]

    return quotas_for


def holding_beside(device: QuotaRow | None, person_id: int, holding: Holding) -> Holding:
    """What a person has beside this device."""
    if device is None or not counts_already(device.stage, device.person_id, person_id):
        return holding
    return holding.without(device.platform, device.ownership)


def reasons_against(
    gate: Gate,
    device: QuotaRow,
    person: PersonRow,
    holding: Holding,
    known: Mapping[str, Any] | None,
) -> tuple[Reason, ...]:
    """Why the person may not have this device too; nothing: they may. `holding` is all that the
    person has, `known` what was declared of the device.
    """
    arrival = Arrival(
        platform=device.platform,
        os_version=device.os_version,
        ownership=device.ownership,
        declared=True,
        person=person.user_name,
        groups=frozenset(person.groups),
        holding=holding_beside(device, person.id, holding),
        known=known,
    )
    return quota_reasons(arrival, gate.audience(arrival.who))


def require_room(connection: Connection, gate: Gate, entry_id: int) -> None:
    """Raise Conflict where the entry that was just written gave somebody a device too many: the
    quota holds whichever way a person gets a device.
    """
    given = journal.people_given(connection, entry_id)
    if not given:
        return
    people.lock_several(connection, given)
    holdings = people.holdings(connection, given)
    over_now = []
    for person in people.several(connection, given):
        audience = gate.audience(Who(frozenset(person.groups), person.user_name))
        for one in _standings(audience, holdings.get(person.id, Holding())):
            if one.counted > one.quota.devices:
                words = quota_said(one.quota, one.platform)
                over_now.append(f"{person.name} would have {one.counted} of {words}")
                break
    if over_now:
        more = f", and {len(over_now) - 3:,} more people" if len(over_now) > 3 else ""
        raise Conflict(
            "quota_reached",
            f"{'; '.join(over_now[:3])}{more}. Nothing was changed.",
            "Retire one of their devices, or raise the quota.",
        )


def _standings(audience: Sequence[Policy], holding: Holding) -> Iterator[Standing]:
    for statement in _every_quota(audience):
        counted = holding.counted(statement.value, statement.platform)
        yield Standing(statement.platform, statement.value, statement.policy, counted)


def _every_quota(audience: Sequence[Policy]) -> Iterator[Statement]:
    yield from quotas(audience, None)
    for platform in Platform:
        yield from (one for one in quotas(audience, platform) if one.platform is not None)
