"""The numbers behind the Today page, in one query."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import Connection, text

from sortitor.store.engine import Line

_NUMBERS = text("""
    SELECT
        (SELECT count(*) FROM devices WHERE stage = 'parked') AS parked,
        (SELECT min(stage_at) FROM devices WHERE stage = 'parked') AS parked_since,
        (SELECT count(*) FROM arrivals WHERE outcome = 'refused' AND at > :week) AS refused,
        (SELECT min(at) FROM arrivals WHERE outcome = 'refused' AND at > :week) AS refused_since,
        (SELECT count(*) FROM devices d JOIN people p ON p.id = d.person_id
            WHERE p.left_at IS NOT NULL AND d.stage IN ('parked', 'active', 'dormant')) AS leavers
    """)
_DRAFTS = text("""
    SELECT id, name, created_at, counts FROM lots WHERE status = 'draft'
    OR (status = 'applied' AND ((counts ->> 'conflict')::int > 0 OR (counts ->> 'reject')::int > 0)
        AND applied_at > :month)
    ORDER BY created_at LIMIT 20
    """)
_ENDING = text("""
    SELECT h.id, h.device_id, h.reason, h.until_on, d.name FROM holds h JOIN devices d
        ON d.id = h.device_id
    WHERE h.ended_at IS NULL AND h.until_on BETWEEN :today AND :soon AND d.stage <> 'retired'
        ORDER BY h.until_on LIMIT 20
    """)
_BRAKED = text(
    "SELECT id, rule_id, rule_name, at, retired, watched FROM sweeps s WHERE state = 'braked' AND"
    " NOT EXISTS (SELECT FROM sweeps n WHERE n.rule_id = s.rule_id AND n.id > s.id)"
)


def numbers(connection: Connection, now: datetime) -> Line:
    """`parked, parked_since, refused, refused_since, leavers`."""
    return connection.execute(_NUMBERS, {"week": now - timedelta(days=7)}).one()


def open_lots(connection: Connection, now: datetime) -> list[Line]:
    """Drafts, and lots applied within a month that left rows behind."""
    return list(connection.execute(_DRAFTS, {"month": now - timedelta(days=30)}))


def ending_holds(connection: Connection, now: datetime) -> list[Line]:
    """Holds that end within two weeks."""
    return list(
        connection.execute(_ENDING, {"today": now.date(), "soon": now.date() + timedelta(days=14)})
    )


def braked(connection: Connection) -> list[Line]:
    """Scheduled sweeps that stopped to ask and were not run since."""
    return list(connection.execute(_BRAKED))


def stages(connection: Connection) -> dict[str, int]:
    """Devices by stage."""
    return {
        row[0]: row[1]
        for row in connection.execute(text("SELECT stage, count(*) FROM devices GROUP BY stage"))
    }


def refusals_by_reason(connection: Connection) -> dict[str, int]:
    """Refused arrivals by reason code, ever."""
    query = (
        "SELECT reason ->> 'code', count(*) FROM arrivals, jsonb_array_elements(reasons) AS reason"
        " WHERE outcome = 'refused' GROUP BY 1"
    )
    return {row[0]: row[1] for row in connection.execute(text(query))}
