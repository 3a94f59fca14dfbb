"""A fleet with everything that stands beside it, of whatever size: people, groups, orders,
arrivals, a journal, cohorts, pools, rules, holds, a kit.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import psycopg

from bench.cohorts import filters, fleet
from sortitor.client import Sortitor
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.holds import HoldNew
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order
from sortitor.schemas.sweeps import Rule

COHORTS, POOLS, RULES, ORDERS = 200, 12, 8, 500
ARRIVALS = ENTRIES = 60_000
_MOVED_BY_TIME = (
    "idleDays ge 90",
    "idleDays ge 30 and person.left eq false",
    "idleDays lt 7",
    'idleDays ge 60 and site eq "Quay 3"',
)
_BESIDE = """
INSERT INTO arrivals (at, moved_at, outcome, device_id, person_id, stated, reasons, trace, facts)
SELECT moment, moment, (ARRAY['admitted', 'admitted', 'parked', 'refused'])[1 + n % 4],
    CASE WHEN n % 4 < 3 THEN 1 + n % %(devices)s END, 1 + n % 20000,
    jsonb_build_object('serial', 'SN' || n, 'platform', 'android', 'model', 'Model ' || n % 40),
    CASE WHEN n % 4 = 3 THEN '[{"code": "os_too_old", "policy": "Baseline",
        "actual": "9", "wanted": "10 or later", "remedy": "Update it.",
        "sentence": "It is too old."}]'::jsonb ELSE '[]' END, '[]',
    jsonb_build_object('platform', (ARRAY['android', 'ios', 'windows', 'linux'])[1 + n % 4],
        'os_version', 10 + n % 8 || '.' || n % 3, 'maker', 'Maker ' || n % 8,
        'ownership', (ARRAY['corporate', 'personal'])[1 + n % 2], 'declared', n % 2 = 0,
        'person', 'p' || n % 20000, 'groups', jsonb_build_array('group ' || 1 + n % 100),
        'holding', '[]'::jsonb, 'accepted', '[]'::jsonb, 'shown', '{"activation": "person"}'::jsonb,
        'signin_failed', false, 'in_use', false)
FROM (SELECT n, now() - n * interval '2 minutes' AS moment FROM generate_series(1, %(arrivals)s) n)
    AS x;
INSERT INTO journal (at, actor, operation, subject, subject_id, summary)
SELECT now() - (%(entries)s - n) * interval '3 minutes', 'bench', 'device.site', 'device',
    1 + n * 7 % %(devices)s, 'Moved' FROM generate_series(1, %(entries)s) n;
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT id, subject_id, '{"site": "Quay 1"}', '{"site": "Quay 2"}' FROM journal
    WHERE operation = 'device.site';
INSERT INTO journal (at, actor, operation, subject, summary)
SELECT now(), 'bench', 'device.edit', 'devices', 'Many moved';
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT (SELECT max(id) FROM journal), id, '{"site": "Quay 1"}', jsonb_build_object('site', site)
    FROM devices WHERE id % 5 = 0 ON CONFLICT DO NOTHING;
"""


def fill(url: str, devices: int) -> None:
    """The rows that need no deciding, written directly."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(fleet(devices))
        beside = _BESIDE.replace("%(devices)s", str(devices))
        beside = beside.replace("%(arrivals)s", str(ARRIVALS)).replace("%(entries)s", str(ENTRIES))
        connection.execute(beside)
        connection.execute("VACUUM ANALYZE")


def furnish(s: Sortitor, url: str) -> None:
    """The documents, which the service settles."""
    for number in range(ORDERS):
        lines = ({"product": f"Model {number % 48}", "quantity": 2_000},)
        s.orders.add(
            Order.model_validate(
                {"name": f"WL-{number:04}", "supplier": f"Supplier {number % 9}", "lines": lines}
            )
        )
    texts = filters()
    for number, text in enumerate(texts[:COHORTS]):
        s.cohorts.add(Cohort(name=f"Cohort {number}", filter=text))
    for number, text in enumerate(_MOVED_BY_TIME):
        s.cohorts.add(Cohort(name=f"Moving {number}", filter=text))
    for number, text in enumerate(texts[: POOLS - 1]):
        s.pools.add(Pool(name=f"Pool {number}", seats=50_000, filter=text))
    s.pools.add(Pool(name="Of a group", seats=100, filter='person.groups eq "Group 7"'))
    for number, text in enumerate(texts[:RULES]):
        s.sweep_rules.add(Rule(name=f"Rule {number}", idle_window_days=60 + number, filter=text))
    until = datetime.now(UTC).date() + timedelta(days=60)
    held = HoldNew(cohort="Cohort 3", reason="laid up", until_on=until)
    s.holds.add(held, s.holds.preview(held).digest)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("VACUUM ANALYZE")
