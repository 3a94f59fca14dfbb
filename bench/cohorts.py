"""Cohorts at a million devices, 20,000 people and 200 cohorts, against the raw database doing the
same.
"""

from __future__ import annotations

import time
from pathlib import Path
from random import Random
from statistics import median, quantiles
from tempfile import TemporaryDirectory
from typing import Any

import httpx
import psycopg
from sqlalchemy import text

from bench.figures import Figure, service, timed, typical
from bench.lots import write
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Purpose, Role
from sortitor.operations import provisioning
from sortitor.operations.context import Actor, Context
from sortitor.schemas.cohorts import Cohort
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime
from sortitor.store import devices as store_devices
from sortitor.store.engine import raw, transaction
from sortitor.store.settling import settle_one

DEVICES, PEOPLE, COHORTS = 1_000_000, 20_000, 200
_FLEET = """
INSERT INTO people (user_name, name, department, site)
    SELECT 'p' || n, 'Person ' || n, 'Department ' || n % 30, 'Quay ' || n % 40
    FROM generate_series(1, %(people)s) n;
INSERT INTO groups (name) SELECT 'Group ' || n FROM generate_series(1, 100) n;
INSERT INTO group_people (group_id, person_id) SELECT 1 + (id + n) % 100, id
    FROM people, generate_series(0, 2) n;
INSERT INTO memberships (group_id, person_id) SELECT group_id, person_id FROM group_people;
SELECT setseed(0.4);
-- As in life: a few large sites and many small ones, models that go with their platform,
-- everything else by chance.
INSERT INTO devices (name, name_basis, order_name, supplier, asset_tag, stage, stage_at, platform,
    os_version, maker, model, ownership, person_id, site, tags, created_at, enrolled_at,
    seen_on, purchased_on)
SELECT 'WM-' || lpad(n::text, greatest(7, length(n::text)), '0'), 'lot',
    'WL-' || lpad((n / 2001)::text, 4, '0'), 'Supplier ' || n / 2001 % 9,
    CASE WHEN n % 3 = 0 THEN 'A' || n END,
    (ARRAY['active', 'active', 'active', 'dormant', 'parked', 'awaited'])[1 + floor(random() * 6)],
    now(), (ARRAY['android', 'ios', 'windows', 'linux'])[p],
    10 + floor(random() * 8) || '.' || floor(random() * 3),
    'Maker ' || p * 2 + floor(random() * 2) - 2,
    'Model ' || p * 12 + floor(random() * 12) - 12,
    (ARRAY['corporate', 'corporate', 'personal'])[1 + floor(random() * 3)],
    CASE WHEN random() < 0.8 THEN 1 + floor(random() * %(people)s) END,
    'Quay ' || floor(40 * random() ^ 1.5),
    CASE WHEN random() < 0.05 THEN ARRAY['spare'] ELSE '{}' END,
    now() - random() * 500 * interval '1 day', now() - random() * 400 * interval '1 day',
    current_date - (random() ^ 2 * 200)::int, current_date - floor(random() * 900)::int
FROM (SELECT n, 1 + floor(4 * random() ^ 1.3)::int AS p FROM generate_series(1, %(devices)s) n)
    AS x;
INSERT INTO sightings SELECT id, seen_on + random() * interval '1 day' FROM devices;
INSERT INTO identifiers (kind, value, maker, device_id, given)
    SELECT 'serial', 'SN' || lpad(id::text, 8, '0'), lower(maker), id, 'SN' || id FROM devices;
"""


def fleet(devices: int = DEVICES) -> str:
    """SQL that fills a database with devices, a million of them, and their people."""
    return _FLEET.replace("%(people)s", str(PEOPLE)).replace("%(devices)s", str(devices))


#: Filters of the kinds that coordinators write, each with the SQL of somebody who knows the tables.
_KINDS = [
    (
        'site eq "Quay {a}" and platform eq "{p}"',
        "coalesce(lower(site), '') COLLATE \"C\" = 'quay {a}' AND platform = '{p}'",
    ),
    (
        'platform eq "{p}" and person.groups eq "Group {b}"',
        "platform = '{p}' AND person_id IN (SELECT m.person_id FROM memberships m JOIN groups g"
        " ON g.id = m.group_id WHERE g.name = 'Group {b}')",
    ),
    (
        'ownership eq "corporate" and model eq "Model {a}" and not (tags eq "spare")',
        "ownership = 'corporate' AND coalesce(lower(model), '') COLLATE \"C\" = 'model {a}'"
        " AND NOT tags @> ARRAY['spare']",
    ),
    (
        'osVersion lt "{v}" and platform eq "{p}" and site sw "Quay {c}"',
        "platform = '{p}' AND os_numbers < ARRAY[{v}] AND coalesce(lower(site), '') COLLATE \"C\""
        " LIKE 'quay {c}%%'",
    ),
    (
        'person.department eq "Department {c}" and stage eq "active"',
        "stage = 'active' AND person_id IN (SELECT id FROM people WHERE department ="
        " 'Department {c}')",
    ),
]


def filters() -> list[str]:
    """Two hundred different ones."""
    return [text for text, _ in _both()]


def filters_by_hand() -> list[str]:
    """The same as conditions on the columns of `devices`."""
    return [f"({condition})" for _, condition in _both()]


def _both() -> list[tuple[str, ...]]:
    random = Random(4)
    found = []
    for n in range(COHORTS):
        platform = random.choice(["android", "ios", "windows", "linux"])
        values = {"a": n % 40, "b": 1 + n % 100, "c": n % 30, "p": platform, "v": 11 + n % 6}
        found.append(tuple(form.format(**values) for form in _KINDS[n % len(_KINDS)]))
    return found


_UPDATE = "UPDATE devices SET site = %s WHERE id = %s"
# With the expression that the index holds, as somebody would write it who knows the tables well.
_BY_HAND = """
SELECT count(f.id), count(*) FILTER (WHERE m.device_id IS NULL),
    count(*) FILTER (WHERE f.id IS NULL), d.platform, d.site, d.stage
FROM (SELECT id FROM devices WHERE coalesce(lower(site), '') COLLATE "C" = 'quay 7'
    AND platform = 'android') f
FULL JOIN (SELECT device_id FROM cohort_members WHERE cohort_id = %(cohort)s) m
    ON m.device_id = f.id JOIN devices d ON d.id = coalesce(f.id, m.device_id)
GROUP BY GROUPING SETS ((d.platform), (d.site), (d.stage), ())
"""


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of cohorts."""
    with TemporaryDirectory() as folder, service(cluster, "bench_cohorts") as (_, s, url):
        with psycopg.connect(url) as connection:
            connection.execute(fleet())
            connection.commit()
            connection.autocommit = True
            connection.execute("VACUUM ANALYZE")
        plain = _lot(s, Path(folder), 1)
        started = time.perf_counter()
        ids = [
            s.cohorts.add(Cohort(name=f"Cohort {n}", filter=text)).id
            for n, text in enumerate(filters())
        ]
        made = (time.perf_counter() - started) / COHORTS
        return [
            Figure("a cohort added, its members found among a million", made, None, "s", ""),
            *_preview(s, url, ids[0]),
            *_change(url),
            *_pages(s),
            *_people(s),
            *_group(url),
            *_with_lot(s, Path(folder), plain),
        ]


def _preview(s: Sortitor, url: str, cohort_id: int) -> list[Figure]:
    name = s.cohorts.show(cohort_id).name
    changed = Cohort(name=name, filter='site eq "Quay 7" and platform eq "android"')
    shown = typical(lambda: s.cohorts.preview_edit(cohort_id, changed), 5)
    with psycopg.connect(url, autocommit=True) as connection:
        by_hand = typical(lambda: connection.execute(_BY_HAND, {"cohort": cohort_id}).fetchall(), 5)
    return [
        Figure(
            "preview of a changed cohort / the same by hand in SQL", shown, by_hand, "s", "≤ 1.5"
        )
    ]


def _change(url: str) -> list[Figure]:
    """One device's site, with its memberships, and with the journal too, against the bare UPDATE;
    each committed.
    """
    with (
        runtime(Settings(database_url=url)) as run,
        psycopg.connect(url, autocommit=True) as connection,
    ):
        ctx = Context(run.engine, run.clock, run.limits, Actor("bench", Role.ADMINISTRATOR))

        def bare(device_id: int, site: str) -> None:
            connection.execute(_UPDATE, [site, device_id])

        def refreshed(device_id: int, site: str) -> None:
            with transaction(run.engine) as changing:
                raw(changing).execute(_UPDATE, [site, device_id])
                settle_one(changing, device_id, {"site"})

        def whole(device_id: int, site: str) -> None:
            with ctx.changing() as changing:
                entry = ctx.record(changing, "device.site", "device", "moved", subject_id=device_id)
                store_devices.patch_one(changing, entry, device_id, {"site": site})

        acts = (bare, refreshed, whole)
        times: dict[int, list[float]] = {0: [], 1: [], 2: []}
        for n in range(320):
            for place, act in enumerate(acts):
                times[place].append(
                    timed(
                        lambda act=act, n=n, place=place: act(
                            10_000 * (place + 1) + n, f"Quay {n % 40}"
                        )
                    )
                )
    floor, *others = (median(times[place][20:]) * 1000 for place in times)
    names = (
        "one device's change with its memberships / bare UPDATE",
        "the same with journal, before and after / bare UPDATE",
    )
    return [
        Figure(name, value, floor, "ms", aim)
        for name, value, aim in zip(names, others, ("< 3", ""), strict=True)
    ]


def _pages(s: Sortitor) -> list[Figure]:
    lists = [
        (f, sort)
        for f in (
            *filters()[:12],
            'cohorts eq "Cohort 3"',
            "idleDays ge 180",
            'tags eq "spare" and ownership eq "corporate"',
        )
        for sort in ("id", "name", "seen", "site")
    ]
    first = [
        timed(lambda f=f, sort=sort: _page(s, {"filter": f, "sort": sort, "limit": 100}, None))
        for f, sort in lists
        for _ in range(3)
    ]
    asked = {"filter": 'platform eq "android"', "sort": "site", "limit": 500}
    cursor = None
    for _ in range(60):
        cursor = _page(s, asked, cursor)["next"]
    # By turns, each as warm as the other.
    shallow, deep = (
        median(times)
        for times in zip(
            *(
                (timed(lambda: _page(s, asked, None)), timed(lambda: _page(s, asked, cursor)))
                for _ in range(25)
            ),
            strict=True,
        )
    )
    return [
        Figure(
            "first page of a filtered, sorted list, p95",
            quantiles(first, n=20)[-1] * 1000,
            None,
            "ms",
            "< 100",
            f"{len(lists)} lists",
        ),
        Figure(
            "a page deep in a list / its first page",
            deep * 1000,
            shallow * 1000,
            "ms",
            "≤ 1",
            "page 61 of 500 lines each",
        ),
    ]


def _page(s: Sortitor, asked: dict[str, Any], cursor: str | None) -> dict[str, Any]:
    """One page of a list over HTTP."""
    return dict(
        s._transport.http.get(
            "/devices", params={**asked, **({"cursor": cursor} if cursor else {})}
        )
        .raise_for_status()
        .json()
    )


def _people(s: Sortitor) -> list[Figure]:
    """Pages of users as an identity provider asks for them (RFC 7644)."""
    with Sortitor(str(s._transport.http.base_url).partition("/api/")[0]) as owner:
        owner.accounts.sign_in("bench", "a long enough password")
        secret = owner.accounts.add_token("provider", Role.COORDINATOR, 1, Purpose.PEOPLE).secret
    texts = [
        'userName eq "p777"',
        "active eq true",
        'displayName co "99" and not (userName sw "p1")',
        'emails[value ew "example"] or groups.display eq "Group 12"',
        'meta.lastModified gt "2026-01-01T00:00:00Z"',
    ]
    with httpx.Client(
        base_url=str(s._transport.http.base_url).replace("/api/v1", "/scim/v2"),
        headers={"Authorization": f"Bearer {secret}"},
        timeout=60,
    ) as client:
        times = [
            timed(
                lambda text=text, sort=sort: client.get(
                    "/Users", params={"filter": text, "count": 100, **sort}
                ).raise_for_status()
            )
            for text in texts
            for sort in ({}, {"sortBy": "userName"})
            for _ in range(5)
        ]
    return [
        Figure(
            f"a page of users by a SCIM filter among {PEOPLE:,}, p95",
            quantiles(times, n=20)[-1] * 1000,
            None,
            "ms",
            "",
            f"{len(texts)} filters, sorted or not",
        )
    ]


def _group(url: str) -> list[Figure]:
    with runtime(Settings(database_url=url)) as run:
        ctx = Context(run.engine, run.clock, run.limits, Actor("bench", Role.ADMINISTRATOR))
        with transaction(run.engine) as connection:
            members = [
                {"value": f"u{row[0]}"}
                for row in connection.execute(text("SELECT id FROM people ORDER BY id LIMIT 5000"))
            ]
        seconds = timed(
            lambda: provisioning.change_group(
                ctx, "g1", None, lambda before: {"displayName": "Group 1", "members": members}
            )
        )
    return [
        Figure("a group changed by about 5,000 people, all cohorts right", seconds, None, "s", "")
    ]


def _lot(s: Sortitor, folder: Path, seed: int) -> float:
    path = folder / f"lot-{seed}.csv"
    write(path, 100_000 + seed)

    def from_upload_to_applied() -> None:
        lot = s.lots.check(
            path, watch=lambda job: None, defaults={"platform": "android", "ownership": "corporate"}
        )
        s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)

    return timed(from_upload_to_applied)


def _with_lot(s: Sortitor, folder: Path, plain: float) -> list[Figure]:
    return [
        Figure("lot of 100,000 with 200 cohorts / with none", _lot(s, folder, 2), plain, "s", "≤ 2")
    ]
