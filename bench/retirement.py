"""Retirement and licences at a million devices: a sweep's preview with twenty rules against SQL by
hand, a sweep of 100,000 applied and reverted against the bare UPDATE with its journal rows, and
the seats of fifty pools.
"""

from __future__ import annotations

from functools import partial
from statistics import median

import psycopg

from bench.cohorts import filters, filters_by_hand, fleet
from bench.figures import Figure, service, timed, typical
from sortitor.client import Sortitor
from sortitor.schemas.licences import Pool
from sortitor.schemas.sweeps import Rule
from sortitor.server.postgres import Cluster

RULES, POOLS, SWEPT = 20, 50, 100_000
#: What a preview tells, asked for by somebody who knows the tables well: the idle days of all that
#: is watched, those that are due by stage, site and platform, and the first fifty of them.
_DUE_BY_HAND = """
SELECT idle, held, due, site, platform, count(*) FROM (
    SELECT *, idle >= 60 AND NOT held AND NOT ({longer}) AS due FROM (
        SELECT *, current_date - seen_on AS idle,
            EXISTS (SELECT FROM hold_devices hd JOIN holds h ON h.id = hd.hold_id
                WHERE hd.device_id = d.id AND h.ended_at IS NULL
                AND current_date BETWEEN h.from_on AND h.until_on) AS held
        FROM devices d WHERE stage IN ('parked', 'active', 'dormant') OFFSET 0
    ) watched OFFSET 0
) judged GROUP BY GROUPING SETS ((idle, held), (due), (due, site), (due, platform));
SELECT id, name, site, platform FROM (
    SELECT *, current_date - seen_on AS idle
    FROM devices WHERE stage IN ('parked', 'active', 'dormant')
        AND seen_on <= current_date - 60
) watched WHERE NOT ({longer})
ORDER BY seen_on, id LIMIT 50
"""
_BARE = """
WITH old AS (
    SELECT id, stage, stage_at FROM devices WHERE id = ANY (%(ids)s) ORDER BY id FOR UPDATE
), new AS (
    UPDATE devices d SET stage = 'retired', stage_at = now() FROM old WHERE d.id = old.id
    RETURNING d.id, old.stage, old.stage_at
)
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT 1, id, jsonb_build_object('stage', stage, 'stage_at', stage_at),
    jsonb_build_object('stage', 'retired', 'stage_at', now()) FROM new
"""


def _rules(s: Sortitor) -> int:
    """Twenty rules, the first of which watches everything; its number."""
    first = s.sweep_rules.add(Rule(name="All", idle_window_days=60, brake_percent=100)).id
    for number, text in enumerate(filters()[: RULES - 1]):
        window = 61 + number
        s.sweep_rules.add(Rule(name=f"Rule {number}", idle_window_days=window, filter=text))
    return first


def _by_hand() -> str:
    """The SQL of a preview of the first of them."""
    longer = [
        f"{condition} AND idle < {61 + number}"
        for number, condition in enumerate(filters_by_hand()[: RULES - 1])
    ]
    return _DUE_BY_HAND.format(longer=" OR ".join(longer)).replace("%%", "%")


def _swept(s: Sortitor, connection: psycopg.Connection[tuple[object, ...]]) -> list[Figure]:
    """A sweep of a hundred thousand devices that nothing else touches."""
    connection.execute(
        "UPDATE devices SET seen_on = current_date - 399, stage = 'active', person_id = NULL"
        " WHERE id <= %s",
        [SWEPT],
    )
    connection.execute("VACUUM ANALYZE devices")
    chosen = f"id le {SWEPT}"
    rule = Rule(name="Old", idle_window_days=390, filter=chosen, brake_percent=100)
    number = s.sweep_rules.add(rule).id
    digest = s.sweeps.preview(number).digest
    applied = timed(partial(s.sweeps.apply, number, digest))
    run = next(iter(s.sweeps.list(1)))
    undoing = s.sweeps.preview_revert(run.id).digest
    reverted = timed(partial(s.sweeps.revert, run.id, undoing))
    ids = list(range(1, SWEPT + 1))
    bare = timed(partial(connection.execute, _BARE, {"ids": ids}))
    connection.execute("UPDATE devices SET stage = 'active' WHERE id <= %s", [SWEPT])
    return [
        Figure(
            "sweep of 100,000 applied / bare UPDATE with journal", applied, bare, "s", "at most 2"
        ),
        Figure("the same reverted / bare UPDATE with journal", reverted, bare, "s", "at most 2"),
    ]


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of retirement and licences."""
    with service(cluster, "bench_retirement") as (_, s, url):
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(fleet())
            connection.execute("VACUUM ANALYZE")
            connection.execute("SET work_mem = '256MB'")
            by_hand = _by_hand()
            connection.execute(by_hand)
            floor = typical(partial(connection.execute, by_hand), 3)
            first = _rules(s)
            s.sweeps.preview(first)
            looked = typical(partial(s.sweeps.preview, first), 3)
            swept = _swept(s, connection)
        for number, text in enumerate(filters()[:POOLS]):
            s.pools.add(Pool(name=f"Pool {number}", seats=1_000, filter=text))
        listed = typical(lambda: list(s.pools.list()), 3)
        ahead = median(timed(partial(s.pools.course, f"Pool {number}")) for number in range(5))
        what = "preview of a sweep at 1,000,000 with 20 rules / SQL by hand"
        return [
            Figure(what, looked, floor, "s", "at most 1.3"),
            *swept,
            Figure("needed seats of 50 pools at 1,000,000", listed, None, "s", "p95 under 0.1"),
            Figure("course and forecast of a pool", ahead, None, "s", "under 1"),
        ]
