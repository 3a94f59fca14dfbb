"""The gate at a million devices and 200,000 arrivals: a change replayed, against the same
conditions written by hand in SQL; the effective gate and the board.
"""

from __future__ import annotations

import time
from statistics import quantiles

import psycopg

from bench.cohorts import fleet
from bench.figures import Figure, service, typical
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Listed, Ownership, Platform
from sortitor.schemas.gate import (
    EffectiveAsked,
    Listing,
    PlatformRule,
    Policy,
    Quota,
    VersionBounds,
)
from sortitor.server.postgres import Cluster

_ARRIVED = """
INSERT INTO arrivals (at, moved_at, outcome, person_id, stated, reasons, trace, facts)
SELECT moment, moment, (ARRAY['admitted', 'parked', 'refused'])[1 + n % 3], 1 + n % 20000,
    '{}', '[]', '[]',
    jsonb_build_object('platform', (ARRAY['android', 'ios', 'windows', 'linux'])[1 + n % 4],
        'os_version', 10 + n % 8 || '.' || n % 3, 'maker', 'Maker ' || n % 8,
        'ownership', (ARRAY['corporate', 'personal'])[1 + n % 2], 'declared', n % 2 = 0,
        'person', 'p' || n % 20000, 'groups', jsonb_build_array('group ' || 1 + n % 100),
        'holding', CASE WHEN n % 5 = 0 THEN '[["android", "corporate", 1]]'::jsonb
            ELSE '[]'::jsonb END,
        'accepted', '[]'::jsonb, 'shown', '{"activation": "person"}'::jsonb,
        'signin_failed', false, 'in_use', false)
FROM (SELECT n, now() - n % 80 * interval '1 day' AS moment
    FROM generate_series(1, 200000) n) AS x
"""
# What the change below turns, as somebody would write it who knows the tables well.
_FLEET_BY_HAND = """
SELECT count(*) FROM devices d LEFT JOIN (
    SELECT m.person_id, bool_or(g.name = 'Group 7') AS crew FROM memberships m
    JOIN groups g ON g.id = m.group_id WHERE g.name = 'Group 7' GROUP BY 1
) c ON c.person_id = d.person_id
WHERE d.stage IN ('active', 'dormant', 'parked') AND d.platform = 'android' AND (
    (NOT coalesce(c.crew, false) AND (d.os_numbers IS NULL OR d.os_numbers[1] < 13))
    OR (coalesce(c.crew, false) AND (d.os_numbers IS NULL OR d.os_numbers[1] < 15))
    OR replace(lower(coalesce(d.maker, '')), ' ', '') = 'maker1'
    OR (d.ownership = 'personal' AND NOT coalesce(c.crew, false)))
"""
_ARRIVALS_BY_HAND = """
SELECT count(*) FROM arrivals WHERE at >= now() - interval '90 days' AND facts IS NOT NULL
    AND facts ->> 'platform' = 'android' AND (
        (NOT facts -> 'groups' ? 'group 7'
            AND split_part(facts ->> 'os_version', '.', 1)::int < 13)
        OR (facts -> 'groups' ? 'group 7' AND split_part(facts ->> 'os_version', '.', 1)::int < 15)
        OR replace(lower(facts ->> 'maker'), ' ', '') = 'maker1'
        OR (facts ->> 'ownership' = 'personal' AND NOT facts -> 'groups' ? 'group 7'))
"""


def changed(base: Policy) -> list[Policy]:
    """A gate that asks much of Android."""
    crew = Policy(
        name="Crew",
        groups=("Group 7",),
        quota=Quota(devices=9),
        platforms={
            Platform.ANDROID: PlatformRule(
                versions=VersionBounds(oldest="15"),
                ownerships=(Ownership.CORPORATE, Ownership.PERSONAL),
            )
        },
    )
    android = PlatformRule(
        open=True,
        versions=VersionBounds(oldest="13"),
        makers=Listing(listed=Listed.ALL_BUT, names=("Maker 1",)),
        ownerships=(Ownership.CORPORATE,),
    )
    rules = {**base.platforms, Platform.ANDROID: android}
    return [crew, base.model_copy(update={"platforms": rules})]


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of the gate."""
    with service(cluster, "bench_gate") as (_, s, url):
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(fleet())
            connection.execute(_ARRIVED)
            connection.execute("VACUUM ANALYZE")
            proposed = changed(s.gate.show().policies[-1])

            def by_hand() -> None:
                connection.execute(_FLEET_BY_HAND).fetchone()
                connection.execute(_ARRIVALS_BY_HAND).fetchone()

            by_hand()
            floor = typical(by_hand, 3)
        found = s.gate.replay(proposed)
        replayed = typical(lambda: s.gate.replay(proposed), 3)
        turned = found.fleet.refused + found.arrivals.refused
        return [
            Figure(
                "replay of 1,000,000 devices and 200,000 arrivals / SQL by hand",
                replayed,
                floor,
                "s",
                "at most 2",
                f"{turned:,} turned",
            ),
            Figure("effective gate of a person, p95", _p95(s, _look), None, "ms", "under 50"),
            Figure("board of arrivals, p95", _p95(s, _board), None, "ms", "under 50"),
        ]


def _look(s: Sortitor, number: int) -> None:
    s.gate.effective(EffectiveAsked(person=f"p{1 + number}"))


def _board(s: Sortitor, number: int) -> None:
    list(s.arrivals.list(most=50))


def _p95(s: Sortitor, act: object) -> float:
    """Milliseconds of the slowest twentieth of a hundred."""
    times = []
    for number in range(100):
        started = time.perf_counter()
        act(s, number)  # type: ignore[operator]
        times.append(time.perf_counter() - started)
    return quantiles(times, n=20)[-1] * 1_000
