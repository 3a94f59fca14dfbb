"""What waits for a worker, who works, and how large the database is."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, text

from sortitor.store.rows import read_one

#: Workers give a sign of life every ten seconds.
_WORK = text(
    """
    SELECT
        (SELECT coalesce(jsonb_object_agg(state, n), '{}')
         FROM (SELECT state, count(*) AS n FROM jobs GROUP BY state) t) AS jobs,
        (SELECT coalesce(jsonb_object_agg(state, n), '{}')
         FROM (SELECT state, count(*) AS n FROM mails GROUP BY state) t) AS mails,
        (SELECT coalesce(extract(epoch FROM now() - min(coalesce(scheduled_at, at))), 0)::float8
         FROM (SELECT j.scheduled_at, max(e.at) AS at
               FROM procrastinate_jobs j LEFT JOIN procrastinate_events e ON e.job_id = j.id
               WHERE j.status = 'todo' AND coalesce(j.scheduled_at, now()) <= now()
               GROUP BY j.id) t) AS queue_age,
        (SELECT count(*) FROM procrastinate_workers
         WHERE last_heartbeat > now() - interval '30 s') AS workers,
        pg_database_size(current_database()) AS database_bytes,
        (SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()) AS connections
    """
)


@dataclass(frozen=True, slots=True)
class WorkRow:
    """Jobs and mails by state, seconds since when the oldest work waits, living workers, bytes of
    the database, connections to it.
    """

    jobs: dict[str, int]
    mails: dict[str, int]
    queue_age: float
    workers: int
    database_bytes: int
    connections: int


def found(connection: Connection) -> WorkRow:
    """How it stands now."""
    row = read_one(connection, _WORK, WorkRow)
    assert row is not None
    return row
