"""Every read and every preview of the service, as the OpenAPI document has them, at ten thousand
and at a million devices: p50 and p95 of each, how they grow, and beside the dear ones the SQL of
somebody who knows the tables. `tests/test_bench.py` fails for a route that is neither here nor
among those that are measured apart.
"""

from __future__ import annotations

import json
import time
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from statistics import median, quantiles
from typing import Any

import httpx
import psycopg

from bench.figures import Figure, service, timed
from bench.million import fill, furnish
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Ownership
from sortitor.schemas.devices import Selection
from sortitor.server.postgres import Cluster

SMALL, LARGE, BEYOND = 10_000, 1_000_000, 10_000_000
#: Asked for so often, or for so many seconds.
_READINGS, _SECONDS = 21, 6.0


@dataclass(frozen=True, slots=True)
class Asked:
    """One request: the operation's id, its address below /api/v1, the body of a POST, what it
    should take at a million devices at most, in ms, and the same by hand in SQL.
    """

    operation: str
    path: str
    body: Any = None
    most: float | None = None
    floor: str = ""
    #: A merge patch (RFC 7396).
    merge: bool = False

    @property
    def name(self) -> str:
        """As a figure has it: of a read with its address."""
        return self.operation if self.body is not None else f"{self.operation} {self.path}"


#: What is measured elsewhere, and where.
APART = {
    "fetch_own_file": "files",
    "fetch_file": "files",
    "show_file": "files",
    "list_files": "files",
    "fetch_kit": "agents and kits",
    "show_way": "door",
    "follow_arrivals": "a stream",
    "follow_job": "a stream",
    "show_calendar": "what list_ends asks for, by a secret",
    "show_certificate": "trust: one row",
    "verify_journal": "trust: goes through the whole journal",
    "export_journal": "trust: goes through the whole journal",
    "show_item_log": "one row",
    "list_device_item_reports": "one device",
    "preview_erase": "retirement",
    "preview_hand_over": "door: one device",
    "preview_assignments": "door",
    "preview_import": "cohorts: people by file",
    "preview_grant": "needs an issuer",
    "preview_mend": "sources",
    "show_discrepancy": "sources: one row",
    "list_pattern": "sources",
    "export_discrepancies": "sources",
    "preview_registry_act": "sources",
    "preview_roster_file": "sources",
    "preview_run": "sources",
    "preview_scope": "sources",
    "find_held": "sources",
    "diagnose_source": "asks the other system",
    "show_source_certificate": "one row",
    "show_signing_request": "one row",
    "list_source_runs": "sources",
    "show_source_run": "sources: one row",
    "list_roster": "sources",
    "preview_apply": "lots",
    "preview_revert_lot": "lots",
    "show_lot": "lots",
    "download_file": "lots",
    "list_notes": "lots",
    "list_rows": "lots",
    "take_out": "lots",
    "show_job": "one row",
    "show_picture": "one file",
    "preview_revert_sweep": "retirement",
    "preview_retry": "kits",
    "preview_push": "kits",
    "export_setup_sheet": "one row",
    "show_terms_page": "one row",
    "export_entries": "list_entries to its end",
    "export_report": "show_report as a file",
    "export_waiting": "door",
}

NEXT_MONTH = datetime.now(UTC).date() + timedelta(days=30)
_CROWD = {"filter": 'site eq "Quay 3"'}
_FIFTH = {"filter": "id le 200000"}
_QUAY = 'site eq "Quay 7" and platform eq "android"'
_ITEM = {
    "name": "Item 1",
    "payload": {"kind": "custom", "key": "k", "type": "number", "value": "1"},
}
_TERMS = {"name": "Rules", "texts": [{"language": "en", "text": "Be kind"}]}
_KIT = {"name": "Kit", "items": ["Item 1", "Item 2"], "given": [{"cohort": "Cohort 1"}]}
_LIST = {"name": "Checks", "items": ["Item 1"], "given": [{"cohort": "Cohort 1"}]}
_SHEET = {"name": "Sheet", "given": [{"cohort": "Cohort 1"}]}
_OWN = {
    "name": "Horn",
    "key": "horn",
    "says": "Whether it sounds.",
    "sends": "org.horn",
    "platforms": {"android": ""},
    "type": "switch",
}
_BELL = {**_OWN, "name": "Bell", "key": "bell", "sends": "org.bell"}
_NAMING = {"templates": [{"name": "all", "pattern": "D-{n|pad 7}"}]}
_RULE = {"name": "Rule 1", "idle_window_days": 61, "filter": 'site eq "Quay 7"'}
_POOL = {"name": "Pool 1", "seats": 5, "filter": 'site eq "Quay 7"'}
_ORDER = {"name": "WL-0007", "lines": [{"product": "Model 3", "quantity": 3}]}
_SOURCE = {"name": "Yard", "kind": "roster"}

_COUNTED = "SELECT stage, count(*), min(stage_at) FROM devices GROUP BY stage"
_MEMBERS = "SELECT cohort_id, count(*) FROM cohort_members GROUP BY cohort_id"
_SHARED = """SELECT count(*) FILTER (WHERE b.device_id IS NULL), count(*) FILTER (WHERE a.device_id
    = b.device_id), count(*) FILTER (WHERE a.device_id IS NULL)
    FROM (SELECT device_id FROM cohort_members WHERE cohort_id = 1) a
    FULL JOIN (SELECT device_id FROM cohort_members WHERE cohort_id = 2) b USING (device_id)"""
_OF_ORDERS = """SELECT lower(order_name), model, product_code, count(*), count(enrolled_at)
    FROM devices WHERE order_name IS NOT NULL GROUP BY 1, 2, 3"""
_DISTINCT = "SELECT DISTINCT site FROM devices ORDER BY 1"
_FACETS = """SELECT stage, platform, ownership, site, count(*) FROM devices
    GROUP BY GROUPING SETS ((stage), (platform), (ownership), (site))"""
_TAKEN_OUT = """COPY (SELECT d.id, d.name, stage, platform, os_version, maker, model,
    (SELECT min(value) FROM identifiers WHERE device_id = d.id AND kind = 'serial'),
    (SELECT min(value) FROM identifiers WHERE device_id = d.id AND kind = 'imei'), ownership,
    p.user_name, d.site, to_char(last_seen_at, 'YYYY-MM-DD HH24:MI'), current_date
    - last_seen_at::date FROM devices d JOIN sightings s ON s.device_id = d.id
    LEFT JOIN people p ON p.id = d.person_id ORDER BY d.id)
    TO STDOUT (FORMAT csv)"""
_LIMITED = """SELECT person_id, platform, ownership, count(*) FROM devices WHERE stage IN ('active',
    'dormant', 'parked') AND person_id IS NOT NULL GROUP BY 1, 2, 3"""


def documents(
    noun: str,
    path: str,
    key: str,
    body: dict[str, Any],
    most: float,
    another: dict[str, Any] | None = None,
    spare: str | None = None,
) -> list[Asked]:
    """What every kind of document can be asked; `another` is to be added, `spare` removed."""
    many = path.strip("/").replace("-", "_")
    listed = "list_all_terms" if noun == "terms" else f"list_{many}"
    at = f"{path}/{key}"
    return [
        Asked(listed, path, most=60),
        Asked(f"show_{noun}", at, most=60),
        Asked(f"list_{noun}_revisions", f"{at}/revisions", most=60),
        Asked(
            f"preview_add_{noun}", f"{path}/preview", another or {**body, "name": "Another"}, most
        ),
        Asked(f"preview_edit_{noun}", f"{at}/preview", body, most),
        Asked(f"preview_patch_{noun}", f"{at}/patch/preview", {}, most, merge=True),
        Asked(f"preview_remove_{noun}", f"{path}/{spare or key}/removal/preview", {}, most),
    ]


def book(noun: str, path: str, body: dict[str, Any], most: float) -> list[Asked]:
    """What a document of which there is one can be asked."""
    return [
        Asked(f"read_{noun}", path, most=60),
        Asked(f"list_{noun}_revisions", f"{path}/revisions", most=60),
        Asked(f"preview_{noun}", f"{path}/preview", body, most),
    ]


EVERYTHING: tuple[Asked, ...] = (
    Asked("read_today", "/today", most=50, floor=_COUNTED),
    *documents("pool", "/pools", "1", _POOL, 1_500),
    Asked("show_course", "/pools/1/course"),
    Asked("list_grants", "/pools/1/grants", most=60),
    Asked("show_report", "/licences/report"),
    *documents("cohort", "/cohorts", "1", {"name": "Cohort 1", "filter": _QUAY}, 1_500),
    Asked("list_cohorts", "/cohorts", most=50, floor=_MEMBERS),
    Asked("show_overlap", "/cohorts/1/overlap/2", most=60, floor=_SHARED),
    Asked("list_uses", "/cohorts/1/uses", most=60),
    Asked("show_history", "/cohorts/1/history", most=60),
    Asked("explain_device", "/cohorts/1/explain?device=5", most=60),
    Asked("show_cohort_kit", "/cohorts/1/kit", most=60),
    Asked(
        "preview_list_change",
        "/cohorts/Chosen/devices/preview",
        {"selection": {"ids": [5]}, "put_in": True},
        60,
    ),
    Asked("list_devices", "/devices", most=60),
    Asked("list_devices", "/devices?sort=name&descending=true", most=60),
    Asked("list_devices", "/devices?filter=idleDays+ge+90&sort=seen", most=60),
    Asked("list_devices", f"/devices?filter={_QUAY}", most=60),
    Asked("list_devices", "/devices?query=WM-00007", most=60),
    Asked("list_devices", "/devices?query=SN00007777", most=60),
    Asked("list_devices", "/devices?query=person+777", most=60),
    Asked("list_devices", "/devices?query=nothing", most=60),
    Asked("show_device", "/devices/5", most=60),
    Asked("show_device_kit", "/devices/5/kit", most=60),
    Asked("list_facets", "/devices/facets", most=60, floor=_FACETS),
    Asked("export_devices", "/devices/file", floor=_TAKEN_OUT),
    Asked("list_values", "/filters/values?attribute=site", most=60, floor=_DISTINCT),
    Asked("list_attributes", "/filters/attributes", most=60),
    Asked(
        "preview_declare", "/devices/declare/preview", {"selection": _FIFTH, "ownership": "partner"}
    ),
    Asked("preview_give", "/devices/give/preview", {"selection": {"ids": [5]}, "person": "p7"}, 60),
    Asked("preview_assign", "/devices/5/assign/preview", {"person": "p7"}, 60),
    Asked("preview_retire", "/devices/retire/preview", {"selection": {"ids": [5]}}, 60),
    Asked("preview_retire", "/devices/retire/preview", {"selection": _CROWD}),
    Asked("preview_bring_back", "/devices/bring-back/preview", {"selection": _CROWD}),
    Asked("preview_report", "/devices/report/preview", {"selection": _CROWD, "flag": "missing"}),
    Asked(
        "preview_hold",
        "/holds/preview",
        {"selection": _CROWD, "reason": "laid up", "until_on": str(NEXT_MONTH)},
    ),
    Asked("list_holds", "/holds", most=60),
    Asked("show_hold", "/holds/1", most=60),
    Asked("list_entries", "/journal", most=60),
    Asked("list_entries", "/journal?device=5", most=60),
    Asked("list_entries", "/journal?person=p7", most=60),
    Asked("list_entries", "/journal?operation=device.site", most=60),
    Asked("show_entry", "/journal/7", most=60),
    Asked("show_head", "/journal/head", most=60),
    Asked("preview_revert_entry", "/journal/7/revert/preview", {}, 60),
    *documents("order", "/orders", "WL-0007", _ORDER, 60),
    Asked("list_orders", "/orders", floor=_OF_ORDERS),
    Asked("list_people", "/people", most=60),
    Asked("list_people", "/people?query=person+77", most=60),
    Asked("list_people", "/people?over_quota=true", floor=_LIMITED),
    Asked("show_person", "/people/p7", most=60),
    Asked("preview_departure", "/people/p7/departure/preview", {}, 60),
    Asked("list_groups", "/groups"),
    Asked("show_group", "/groups/1"),
    Asked("list_arrivals", "/arrivals", most=60),
    Asked("list_arrivals", "/arrivals?outcome=refused", most=60),
    Asked("count_arrivals", "/arrivals/counts", most=60),
    Asked("show_arrival", "/arrivals/7", most=60),
    *book("gate", "/gate", {}, 5_000),
    *book("naming", "/naming", {**_NAMING, "selection": {"ids": [5]}}, 60),
    Asked("preview_naming", "/naming/preview", {**_NAMING, "selection": _CROWD}),
    *book("welcome_card", "/welcome-card", {"organisation": "Wrenmoor Lines"}, 60),
    *book("reminders", "/reminders", {"addresses": ["desk@wrenmoor.example"]}, 60),
    *documents("sweep_rule", "/sweep-rules", "1", _RULE, 4_000),
    Asked("preview_sweep", "/sweep-rules/1/sweep/preview", {}),
    Asked("preview_idle", "/sweeps/idle/preview", _RULE),
    Asked("preview_erasure", "/sweep-rules/1/erasure/preview", {}, 60),
    Asked("list_sweeps", "/sweeps", most=60),
    Asked("list_erasures", "/erasures", most=60),
    *documents("item", "/items", "Item 1", _ITEM, 1_500, spare="Item 3"),
    Asked("show_getting", "/items/Item 1/getting"),
    Asked("show_item_states", "/items/Item 1/states"),
    Asked("list_item_times", "/item-times", most=60),
    *documents("kit", "/kits", "Kit", _KIT, 1_500),
    Asked("list_kit_lints", "/kit-lints"),
    Asked("search_catalogue", "/catalogue", most=60),
    *documents("checklist", "/checklists", "Checks", _LIST, 1_500),
    *documents("setup_sheet", "/setup-sheets", "Sheet", _SHEET, 1_500),
    Asked(
        "preview_handing",
        "/sheet-handings/preview",
        {"sheet": "Sheet", "selection": {"ids": [5]}},
        200,
    ),
    *documents("own_setting", "/own-settings", "horn", _OWN, 200, another=_BELL),
    *documents("terms", "/terms", "Rules", _TERMS, 60),
    Asked("list_acceptances", "/terms/Rules/acceptances", most=60),
    *documents("source", "/sources", "Yard", _SOURCE, 60),
    Asked("show_levels", "/levels", most=60),
    Asked("show_trend", "/levels/trend", most=60),
    Asked("list_discrepancies", "/discrepancies", most=60),
    Asked("list_ends", "/ends"),
    Asked("preview_retention", "/retention", most=60),
    Asked("list_lots", "/lots", most=60),
    Asked("download_template", "/lot-templates/android", most=60),
    Asked("list_jobs", "/jobs", most=60),
    Asked("list_mails", "/mails", most=60),
    Asked("list_passes", "/passes", most=60),
    Asked("show_pass", "/passes/1", most=60),
    Asked("list_pass_people", "/passes/1/people", most=60),
    Asked("list_accounts", "/accounts", most=60),
    Asked("show_account", "/accounts/1", most=60),
    Asked("list_sessions", "/sessions", most=60),
    Asked("list_tokens", "/tokens", most=60),
    Asked("show_token", "/tokens/1", most=60),
    Asked("list_views", "/views", most=60),
    Asked("show_view", "/views/1", most=60),
    Asked("whoami", "/session", most=60),
    Asked("read_vocabulary", "/vocabulary", most=60),
)


@dataclass(frozen=True, slots=True)
class Took:
    """What a request took, in ms: the median and the 95th percentile."""

    middle: float
    slowest: float


def measure(cluster: Cluster) -> list[Figure]:
    """Every request at both sizes."""
    small, _ = _at(cluster, SMALL)
    large, changes = _at(cluster, LARGE)
    figures = []
    for asked, (few, _), (many, floor) in zip(EVERYTHING, small, large, strict=True):
        growth = f"{few.middle:,.0f} ms at {SMALL:,}; p95 {many.slowest:,.0f}"
        aim = f"p95 under {asked.most:,.0f}" if asked.most else "at most 2" if floor else ""
        figures.append(Figure(asked.name, many.middle, floor, "ms", aim, growth))
    return [*figures, *changes]


def measure_beyond(cluster: Cluster) -> list[Figure]:
    """Every request at ten million devices."""
    took, _ = _at(cluster, BEYOND)
    return [
        Figure(asked.name, many.middle, floor, "ms", "", f"p95 {many.slowest:,.0f}")
        for asked, (many, floor) in zip(EVERYTHING, took, strict=True)
    ]


_ROUNDS = 3
#: An entry's number that no entry has yet; the floor's own are that and the next one.
_BY_HAND = 10_000_000
# Somebody who knows these cohorts writes that a partner's device is in none of them.
_DECLARED_BY_HAND = """
WITH old AS (
    SELECT id, ownership, ownership_basis FROM devices WHERE id <= 200000 ORDER BY id FOR UPDATE
), new AS (
    UPDATE devices d SET ownership = 'partner', ownership_basis = 'declared' FROM old
    WHERE d.id = old.id RETURNING d.id, old.ownership, old.ownership_basis
), gone AS (
    DELETE FROM cohort_members m USING new WHERE m.device_id = new.id AND m.cohort_id IN (
        SELECT id FROM cohorts WHERE filter LIKE 'ownership eq "corporate" and model eq %%')
)
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT %(entry)s, id, jsonb_build_object('ownership', ownership, 'ownership_basis',
    ownership_basis), jsonb_build_object('ownership', 'partner', 'ownership_basis', 'declared')
FROM new
"""
# Which of them nobody has changed since, and what they go back to.
_SEEN_BY_HAND = """
SELECT e.before ->> 'ownership', d.ownership = e.after ->> 'ownership'
    AND d.ownership_basis = e.after ->> 'ownership_basis', count(*)
FROM journal_effects e JOIN devices d ON d.id = e.device_id
WHERE e.entry_id = %(entry)s GROUP BY 1, 2
"""
_TAKEN_BACK_BY_HAND = """
WITH old AS (
    SELECT d.id, e.before, e.after FROM journal_effects e JOIN devices d ON d.id = e.device_id
    WHERE e.entry_id = %(entry)s AND d.ownership = e.after ->> 'ownership'
    AND d.ownership_basis = e.after ->> 'ownership_basis' ORDER BY d.id FOR UPDATE OF d
), new AS (
    UPDATE devices d SET ownership = old.before ->> 'ownership',
        ownership_basis = old.before ->> 'ownership_basis' FROM old
    WHERE d.id = old.id RETURNING d.id, d.ownership, d.model, d.tags, old.before, old.after
), come AS (
    INSERT INTO cohort_members (cohort_id, device_id)
    SELECT c.id, new.id FROM new JOIN (
        SELECT id, lower(substring(filter FROM 'model eq "(.+?)"')) AS model FROM cohorts
        WHERE filter LIKE 'ownership eq "corporate" and model eq %%') c
    ON c.model = lower(new.model)
    WHERE new.ownership = 'corporate' AND NOT new.tags @> ARRAY['spare']
)
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT %(entry)s + 1, id, after, before FROM new
"""


def _changes(s: Sortitor, connection: psycopg.Connection[tuple[object, ...]]) -> list[Figure]:
    """A fifth of the fleet declared and taken back, beside 204 cohorts and 12 pools, against SQL
    that writes the same devices, entries and members of cohorts, by turns: the median of several.
    """
    rounds = [(*_a_fifth(s), *_a_fifth_by_hand(connection)) for _ in range(_ROUNDS)]
    looked, declared, seen, back, *floors = map(median, zip(*rounds, strict=True))
    return [
        Figure("a fifth declared: preview", looked, None, "s", ""),
        Figure("a fifth declared: apply / SQL by hand", declared, floors[0], "s", "at most 2"),
        Figure("the same taken back: preview / SQL by hand", seen, floors[1], "s", "at most 2"),
        Figure("the same taken back: apply / SQL by hand", back, floors[2], "s", "at most 2"),
    ]


def _a_fifth(s: Sortitor) -> tuple[float, float, float, float]:
    """Seconds of a preview, of what it previews, and of both for taking that back."""
    fifth, digests = Selection(filter="id le 200000"), list[str]()
    looked = timed(
        lambda: digests.append(s.devices.preview_declare(fifth, Ownership.PARTNER).digest)
    )
    declared = timed(lambda: s.devices.declare(fifth, Ownership.PARTNER, digests.pop()))
    entry = next(iter(s.journal.list(most=1))).id
    seen = timed(lambda: digests.append(s.journal.preview_revert(entry).digest))
    back = timed(lambda: s.journal.revert(entry, digests.pop()))
    return looked, declared, seen, back


_TIDY = "VACUUM devices, journal_effects, cohort_members"


def _a_fifth_by_hand(connection: psycopg.Connection[tuple[object, ...]]) -> list[float]:
    """Seconds of the floors, one after the other as the service's own. They leave things as they
    were: the journal lets nobody take out what they wrote there but a superuser of the database.
    """
    given = {"entry": _BY_HAND}
    statements = (_DECLARED_BY_HAND, _SEEN_BY_HAND, _TAKEN_BACK_BY_HAND)
    connection.execute(_TIDY)
    # How many rows these touch is known to whoever writes them, and not to the planner.
    connection.execute("SET enable_nestloop = off")
    took = [timed(partial(connection.execute, one, given)) for one in statements]
    connection.execute("SET session_replication_role = replica")
    connection.execute("DELETE FROM journal_effects WHERE entry_id >= %(entry)s", given)
    connection.execute("RESET ALL")
    connection.execute(_TIDY)
    return took


def _at(cluster: Cluster, devices: int) -> tuple[list[tuple[Took, float | None]], list[Figure]]:
    with (
        service(cluster, f"bench_{devices}", SORTITOR_LOG_LEVEL="error") as (_, s, url),
        psycopg.connect(url, autocommit=True) as connection,
    ):
        fill(url, devices)
        furnish(s, url)
        http = s._transport.http
        for path, body in _MADE.items():
            http.post(path.partition("#")[0], json=body).raise_for_status()
        connection.execute("VACUUM ANALYZE")
        _proposed_gate(http)
        took = [(asked_for(http, asked), _by_hand(connection, asked.floor)) for asked in EVERYTHING]
        return took, _changes(s, connection) if devices == LARGE else []


#: What has to be there to be asked for, beside the fleet.
_MADE: dict[str, Any] = {
    "/cohorts": {"name": "Chosen"},
    "/items": _ITEM,
    "/items#2": {**_ITEM, "name": "Item 2"},
    "/items#3": {**_ITEM, "name": "Item 3"},
    "/kits": _KIT,
    "/checklists": _LIST,
    "/setup-sheets": _SHEET,
    "/own-settings": _OWN,
    "/terms": _TERMS,
    "/sources": _SOURCE,
    "/passes": {"label": "bench"},
    "/views": {"name": "Mine", "settings": {"filter": _QUAY}},
}


def _proposed_gate(http: httpx.Client) -> None:
    """The gate's preview asks for a gate: with another number of devices for everybody."""
    gate = http.get("/gate").json()
    gate["policies"][-1]["quota"] = {"devices": 50}
    _GATE.update({"policies": gate["policies"]})


_GATE: dict[str, Any] = {}


def asked_for(http: httpx.Client, asked: Asked) -> Took:
    """How long one request takes, again and again."""
    times: list[float] = []
    began = time.perf_counter()
    _once(http, asked)
    while len(times) < _READINGS and (not times or time.perf_counter() - began < _SECONDS):
        started = time.perf_counter()
        _once(http, asked)
        times.append((time.perf_counter() - started) * 1_000)
    slowest = quantiles(times, n=20)[-1] if len(times) > 2 else max(times)
    return Took(median(times), slowest)


def _once(http: httpx.Client, asked: Asked) -> None:
    if asked.body is None:
        answer = http.get(asked.path)
    else:
        body = _GATE if asked.operation == "preview_gate" else asked.body
        kind = "application/merge-patch+json" if asked.merge else "application/json"
        headers = {"Content-Type": kind}
        answer = http.post(asked.path, content=json.dumps(body), headers=headers)
    assert answer.is_success, f"{asked.operation} {asked.path}: {answer.text[:300]}"


def _by_hand(connection: psycopg.Connection[tuple[object, ...]], floor: str) -> float | None:
    """The floor in ms, the second time."""
    if not floor:
        return None
    for _ in range(2):
        started = time.perf_counter()
        if floor.startswith("COPY"):
            with connection.cursor().copy(floor) as copy:  # type: ignore[arg-type]
                for _ in copy:
                    pass
        else:
            connection.execute(floor).fetchall()  # type: ignore[arg-type]
    return (time.perf_counter() - started) * 1_000
