"""The numbers behind the Today page, in one query."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Connection, text

from sortitor.core.vocabulary import LotStatus
from sortitor.store.rows import number, read_all

_NUMBERS = text("""
    SELECT
        (SELECT count(*) FROM arrivals WHERE claim = 'open') AS claims,
        (SELECT min(at) FROM arrivals WHERE claim = 'open') AS claims_since,
        (SELECT count(*) FROM arrivals WHERE outcome = 'refused' AND at > :week) AS refused,
        (SELECT min(at) FROM arrivals WHERE outcome = 'refused' AND at > :week) AS refused_since
    """)
_FLEET = text("""
    SELECT stage, count(*) AS devices, min(stage_at) AS since FROM devices GROUP BY stage
    """)
_LEAVERS = text("""
    SELECT count(*) FROM devices d JOIN people p ON p.id = d.person_id
    WHERE p.left_at IS NOT NULL AND d.stage IN ('parked', 'active', 'dormant')
    """)
_DRAFTS = text("""
    SELECT id, name, created_at, counts, status FROM lots WHERE status = 'draft'
    OR (status = 'applied' AND ((counts ->> 'conflict')::int > 0 OR (counts ->> 'reject')::int > 0)
        AND applied_at > :month)
    ORDER BY created_at LIMIT 20
    """)
_BRAKED = text("""
    SELECT id, rule_id, rule_name, at, retired, dormant, watched, why FROM sweeps s
    WHERE state = 'braked' AND rule_id IS NOT NULL
        AND NOT EXISTS (SELECT FROM sweeps n WHERE n.rule_id = s.rule_id AND n.id > s.id)
    """)


@dataclass(frozen=True, slots=True)
class NumbersRow:
    """Claims on devices in use, and refusals of a week."""

    claims: int
    claims_since: datetime | None
    refused: int
    refused_since: datetime | None


@dataclass(frozen=True, slots=True)
class StageRow:
    """How many devices are in a stage, and since when the first of them."""

    stage: str
    devices: int
    since: datetime


@dataclass(frozen=True, slots=True)
class OpenLotRow:
    """A lot that needs a look; `counts` by verdict."""

    id: int
    name: str
    created_at: datetime
    counts: dict[str, int]
    status: LotStatus


@dataclass(frozen=True, slots=True)
class BrakedRow:
    """A scheduled sweep that stopped to ask."""

    id: int
    rule_id: int
    rule_name: str
    at: datetime
    retired: int
    dormant: int
    watched: int
    why: str | None


def numbers(connection: Connection, now: datetime) -> NumbersRow:
    """The numbers of arrivals."""
    week = now - timedelta(days=7)
    [found] = read_all(connection, _NUMBERS.bindparams(week=week), NumbersRow)
    return found


def open_lots(connection: Connection, now: datetime) -> list[OpenLotRow]:
    """Drafts, and lots applied within a month that left rows behind."""
    month = now - timedelta(days=30)
    return read_all(connection, _DRAFTS.bindparams(month=month), OpenLotRow)


def braked(connection: Connection) -> list[BrakedRow]:
    """Scheduled sweeps that stopped to ask and were not run since."""
    return read_all(connection, _BRAKED, BrakedRow)


def stages(connection: Connection) -> list[StageRow]:
    """Devices by stage."""
    return read_all(connection, _FLEET, StageRow)


def of_leavers(connection: Connection) -> int:
    """Devices in use of people who left."""
    return number(connection, _LEAVERS)


def refusals_by_reason(connection: Connection) -> dict[str, int]:
    """Refused arrivals by reason code, ever."""
    query = (
        "SELECT reason ->> 'code', count(*) FROM arrivals, jsonb_array_elements(reasons) AS reason"
        " WHERE outcome = 'refused' GROUP BY 1"
    )
    return {row[0]: row[1] for row in connection.execute(text(query))}
