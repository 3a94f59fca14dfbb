"""Cohorts at a million devices, 20,000 people and 200 cohorts, against the raw database doing the same."""

from __future__ import annotations

import time
from pathlib import Path
from random import Random
from statistics import median, quantiles
from tempfile import TemporaryDirectory

import psycopg
from sqlalchemy import text

from bench.figures import Figure, service, timed, typical
from bench.lots import write
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Role
from sortitor.operations import provisioning
from sortitor.operations.context import Actor, Context
from sortitor.schemas.cohorts import CohortNew
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime
from sortitor.store import devices as store_devices
from sortitor.store.engine import transaction

DEVICES, PEOPLE, COHORTS = 1_000_000, 20_000, 200
_FLEET = """
INSERT INTO people (user_name, name, department, site) SELECT 'p' || n, 'Person ' || n, 'Department ' || n % 30, 'Quay ' || n % 40 FROM generate_series(1, %(people)s) n;
INSERT INTO groups (name) SELECT 'Group ' || n FROM generate_series(1, 100) n;
INSERT INTO group_people (group_id, person_id) SELECT 1 + (id + n) % 100, id FROM people, generate_series(0, 2) n;
INSERT INTO memberships (group_id, person_id) SELECT group_id, person_id FROM group_people;
INSERT INTO devices (stage, stage_at, platform, os_version, maker, model, ownership, person_id, site, tags, created_at, enrolled_at, last_seen_at, purchased_on)
SELECT (ARRAY['active', 'active', 'active', 'dormant', 'parked', 'awaited'])[1 + n % 6], now(), (ARRAY['android', 'ios', 'windows', 'linux'])[1 + n % 4], 10 + n % 8 || '.' || n % 3, 'Maker ' || n % 7,
    'Model ' || n % 50, (ARRAY['corporate', 'corporate', 'personal'])[1 + n % 3], CASE WHEN n % 5 > 0 THEN 1 + n % %(people)s END, 'Quay ' || n % 40, CASE WHEN n % 20 = 0 THEN ARRAY['spare'] ELSE '{}' END,
    now() - n % 500 * interval '1 day', now() - n % 400 * interval '1 day', now() - n % 200 * interval '1 day', current_date - n % 900
FROM generate_series(1, %(devices)s) n;
INSERT INTO identifiers (kind, value, maker, device_id, given) SELECT 'serial', 'SN' || lpad(id::text, 8, '0'), lower(maker), id, 'SN' || id FROM devices;
"""


def filters() -> list[str]:
    """Two hundred different ones, of the kinds that coordinators write."""
    kinds = [
        'site eq "Quay {a}" and platform eq "{p}"', 'platform eq "{p}" and person.groups eq "Group {b}"', 'ownership eq "corporate" and model eq "Model {a}" and not (tags eq "spare")',
        'osVersion lt "{v}" and platform eq "{p}" and site sw "Quay {c}"', 'person.department eq "Department {c}" and stage eq "active"',
    ]  # fmt: skip
    random = Random(4)
    return [
        kinds[n % len(kinds)].format(a=n % 40, b=1 + n % 100, c=n % 30, p=random.choice(["android", "ios", "windows", "linux"]), v=11 + n % 6) for n in range(COHORTS)
    ]  # fmt: skip


_BY_HAND = """
SELECT count(*) FILTER (WHERE fits), count(*) FILTER (WHERE fits AND NOT were), count(*) FILTER (WHERE were AND NOT fits), platform, site, stage
FROM (SELECT platform, site, stage, lower(site) = 'quay 7' AND lower(platform) = 'android' AS fits,
    id IN (SELECT device_id FROM cohort_members WHERE cohort_id = %(cohort)s) AS were FROM devices) d
WHERE fits OR were GROUP BY GROUPING SETS ((platform), (site), (stage), ())
"""


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of cohorts."""
    with TemporaryDirectory() as folder, service(cluster, "bench_cohorts") as (_, s, url):
        with psycopg.connect(url) as connection:
            connection.execute(_FLEET.replace("%(people)s", str(PEOPLE)).replace("%(devices)s", str(DEVICES)))
            connection.commit()
            connection.autocommit = True
            connection.execute("VACUUM ANALYZE")
        plain = _lot(s, Path(folder), 1)
        started = time.perf_counter()
        ids = [s.cohorts.add(CohortNew(name=f"Cohort {n}", filter=text)).id for n, text in enumerate(filters())]
        made = (time.perf_counter() - started) / COHORTS
        return [Figure("a cohort added, its members found among a million", made, None, "s", ""), *_preview(s, url, ids[0]), *_change(url), *_pages(s), *_group(url), *_with_lot(s, Path(folder), plain)]


def _preview(s: Sortitor, url: str, cohort_id: int) -> list[Figure]:
    shown = typical(lambda: s.cohorts.preview('site eq "Quay 7" and platform eq "android"', cohort_id), 5)
    with psycopg.connect(url, autocommit=True) as connection:
        by_hand = typical(lambda: connection.execute(_BY_HAND, {"cohort": cohort_id}).fetchall(), 5)
    return [Figure("preview of a changed cohort / the same by hand in SQL", shown, by_hand, "s", "≤ 1.5")]


def _change(url: str) -> list[Figure]:
    """One device's site, with its memberships and journal, against the bare UPDATE; each committed."""
    with runtime(Settings(database_url=url)) as run, psycopg.connect(url, autocommit=True) as connection:  # type: ignore[arg-type]
        ctx = Context(run.engine, run.clock, run.limits, Actor("bench", Role.ADMINISTRATOR))
        sites = [f"Quay {n % 40}" for n in range(300)]

        def bare(device_id: int, site: str) -> None:
            connection.execute("UPDATE devices SET site = %s WHERE id = %s", [site, device_id])

        def whole(device_id: int, site: str) -> None:
            with ctx.changing() as changing:
                entry = ctx.record(changing, "device.site", "device", "moved", subject_id=device_id)
                store_devices.patch_one(changing, entry, device_id, {"site": site})

        for act in (bare, whole):
            for n in range(20):
                act(5_000 + n, "Quay 1")
        pairs = [(timed(lambda n=n, site=site: bare(1_000 + n, site)), timed(lambda n=n, site=site: whole(2_000 + n, site))) for n, site in enumerate(sites)]  # type: ignore[misc]
    return [Figure("one device's change with memberships and journal / bare UPDATE", median(w for _, w in pairs) * 1000, median(b for b, _ in pairs) * 1000, "ms", "< 3")]


def _pages(s: Sortitor) -> list[Figure]:
    lists = [(f, sort) for f in (*filters()[:12], 'cohorts eq "Cohort 3"', "idleDays ge 180", 'tags eq "spare" and ownership eq "corporate"') for sort in ("id", "name", "seen", "site")]
    first = [timed(lambda f=f, sort=sort: s._transport.http.get("/devices", params={"filter": f, "sort": sort, "limit": 100}).raise_for_status()) for f, sort in lists for _ in range(3)]  # type: ignore[misc]
    cursor, deep = None, []
    for number in range(60):
        asked = {"filter": 'platform eq "android"', "sort": "site", "limit": 500, **({"cursor": cursor} if cursor else {})}
        started = time.perf_counter()
        page = s._transport.http.get("/devices", params=asked).raise_for_status().json()
        if number > 50:
            deep.append(time.perf_counter() - started)
        cursor = page["next"]
    shallow = typical(lambda: s._transport.http.get("/devices", params={"filter": 'platform eq "android"', "sort": "site", "limit": 500}).raise_for_status(), 9)
    return [
        Figure("first page of a filtered, sorted list, p95", quantiles(first, n=20)[-1] * 1000, None, "ms", "< 100", f"{len(lists)} lists"),
        Figure("a page deep in a list / its first page", median(deep) * 1000, shallow * 1000, "ms", "≤ 1"),
    ]


def _group(url: str) -> list[Figure]:
    with runtime(Settings(database_url=url)) as run:  # type: ignore[arg-type]
        ctx = Context(run.engine, run.clock, run.limits, Actor("bench", Role.ADMINISTRATOR))
        with transaction(run.engine) as connection:
            members = [{"value": f"u{row[0]}"} for row in connection.execute(text("SELECT id FROM people ORDER BY id LIMIT 5000"))]
        seconds = timed(lambda: provisioning.change_group(ctx, "g1", None, lambda before: {"displayName": "Group 1", "members": members}))
    return [Figure("a group changed by about 5,000 people, all cohorts settled", seconds, None, "s", "")]


def _lot(s: Sortitor, folder: Path, seed: int) -> float:
    path = folder / f"lot-{seed}.csv"
    write(path, 100_000 + seed)

    def from_upload_to_applied() -> None:
        lot = s.lots.check(path, watch=lambda job: None, defaults={"platform": "android", "ownership": "corporate"})
        s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)

    return timed(from_upload_to_applied)


def _with_lot(s: Sortitor, folder: Path, plain: float) -> list[Figure]:
    return [Figure("lot of 100,000 with 200 cohorts / with none", _lot(s, folder, 2), plain, "s", "≤ 2")]
