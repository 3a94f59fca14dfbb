"""Every reading and previewing route of the OpenAPI document as each role, in a world with
identifiers of personal devices in every place: whoever may not see them finds none.
"""

from __future__ import annotations

import io
import json
import re
from collections.abc import Iterator
from datetime import date
from itertools import product
from pathlib import Path
from typing import Any

import httpx
import polars as pl
import pytest
from tests.vouchers import trust, use
from tests.worlds import (
    NOW,
    World,
    a_pass,
    hold,
    http,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
    report,
)

from sortitor.client import Sortitor
from sortitor.core.access import Permission, may
from sortitor.core.filters import ATTRIBUTES
from sortitor.core.gate import starting_gate
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Activation, Ownership, Role, SourceKind
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import Checklist, Given, Item, Kit, OwnSetting, SetupSheet
from sortitor.schemas.licences import Pool
from sortitor.schemas.naming import Template
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.terms import Terms, TermsText
from sortitor.server.openapi import document
from sortitor.stand_ins.issuer import Issuer

#: What belongs to a personal device, and to nobody known.
SECRETS = [
    "KMSECRET9876",
    "KMSECOND5432",
    "KMTHIRD1357",
    "KMTURNED2468",
    "KMSTRANGER55",
    "KMBROKEN7788",
    "KMWAITING321",
    "BOXOFSECRET1",
    "S7K4",
    *(imei(number) for number in (1, 2, 3, 4, 5, 6)),
]
ISSUER = Issuer(now=lambda: NOW)
#: Rolled over, it leaves devices without a seat, who are named.
VOUCHER = ISSUER.voucher("Signage", 1, 30)
#: Of the organisation's device: no secret, and in the same places.
OFFICE = "KMOFFICE1234"

#: Something that can be given, by what hides.
SOMETHING = {
    "name": "Locked",
    "payload": {"kind": "setting", "setting": "screen-lock", "value": True},
    "applies_when": 'serial sw "KM" or imei pr',
}
HORN = {
    "name": "Horn",
    "key": "horn",
    "says": "Whether it sounds.",
    "sends": "org.horn",
    "platforms": {"android": ""},
    "type": "switch",
}


@pytest.fixture
def everywhere(world: World, tmp_path: Path) -> World:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew")
    header = "serial,imei,ownership,site,order,Karton"
    lines = [
        f"{SECRETS[0]},{imei(1)},personal,Dunlin,WL-1,{SECRETS[7]}",
        f"{OFFICE},{imei(9)},corporate,Dunlin,WL-1,",
        f"S7K4,{imei(3)},personal,Dunlin,,",
        # Corporate first, somebody's own later.
        f"{SECRETS[3]},{imei(4)},corporate,Dunlin,,",
    ]
    import_lot(s, manifest(tmp_path, [header, *lines]), platform="android")
    s.naming.save([Template(name="all", pattern="D-{n}")])
    changes(s, tmp_path, world)
    return world


def changes(s: Sortitor, folder: Path, world: World) -> None:
    """One of each kind of change, so that the journal has everything to tell."""
    shared, own = a_pass(s, activation=Activation.SHARED), a_pass(s, ownership=Ownership.PERSONAL)
    mauds = a_pass(s, ownership=Ownership.PERSONAL, person="maud")
    s.agent.knock(knocking(mauds, SECRETS[0], imeis=[imei(1)]))
    s.agent.knock(knocking(mauds, SECRETS[1], imeis=[imei(2)]))
    s.agent.knock(knocking(shared, OFFICE))
    # Nobody knows it, and the gate refuses it: it may be anybody's own.
    s.agent.knock(knocking(own, SECRETS[4], imeis=[imei(5)], person="nobody.knows"))
    s.terms.add(Terms(name="Rules", texts=(TermsText(language="en", text="Be kind"),)))
    s.cohorts.add(Cohort(name="Deck", filter='site eq "Dunlin"'))
    lent = s.cohorts.add(Cohort(name="Lent", note="a list"))
    chosen = Selection(identifiers=[SECRETS[0], OFFICE])
    s.cohorts.change_list(lent.id, chosen, s.cohorts.preview_list(lent.id, chosen).digest)
    s.pools.add(Pool(name="Signage", seats=1, filter='imei pr or serial sw "KM"'))
    trust(s, ISSUER, folder)
    use(s, "Signage", ISSUER.voucher("Signage", 1, 200))
    s.own_settings.add(OwnSetting.model_validate(HORN))
    s.items.add(Item.model_validate(SOMETHING))
    s.items.add(Item.model_validate({**SOMETHING, "name": "Spare"}))
    s.kits.add(Kit(name="Kit", items=("Locked",), given=(Given(cohort="Deck"),)))
    s.setup_sheets.add(SetupSheet(name="Sheet", given=(Given(cohort="Deck"),)))
    s.checklists.add(Checklist(name="List", items=("Locked",), given=(Given(cohort="Deck"),)))
    s.orders.add(Order(name="WL-1", lines=[OrderLine(product="Mate 3", quantity=1)]))
    turned = Selection(filter=f'serial eq "{SECRETS[3]}"')
    s.devices.declare(
        turned,
        Ownership.PERSONAL,
        s.devices.preview_declare(turned, Ownership.PERSONAL).digest,
    )
    second = [
        "serial,imei,site,ownership",
        f"{SECRETS[0]},{imei(6)},Petrel,",
        f"{SECRETS[2]},,Dunlin,personal",
        f"{OFFICE},,Petrel,",
    ]
    import_lot(s, manifest(folder, second, "second.csv"), platform="android")
    for number in (1, 2, 3):
        hold(s, number, until=date(2026, 4, 12))
        report(s, number, flag="missing")
    s.devices.assign(2, "maud", s.devices.preview_assign(2, "maud").digest)
    broken = [
        "serial,imei,ownership,platform",
        f"{SECRETS[5]},3.5E+14,personal,android",
        f"{SECRETS[6]},{imei(1)},personal,android",
        f"{SECRETS[0]},{imei(9)},,windows",
        f"{SECRETS[0]},,,",
        f"{OFFICE},,,",
    ]
    lot = s.lots.check(manifest(folder, broken, "broken.csv"))
    s.lots.edit(lot.id, "platform", "ios", rows=[2, 3])
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))
    roster = ["serial,site", f"{SECRETS[0]},Tarn Head", f"{SECRETS[2]},Tarn Head", f"{OFFICE},"]
    yard = s.sources.add(Source(name="Yard", kind=SourceKind.ROSTER, covers="id pr"))
    path = manifest(folder, roster, "yard.csv")
    s.sources.take_file(yard.id, path, s.sources.preview_file(yard.id, path).digest)
    world.later(days=100)
    s.sweeps.apply(1, s.sweeps.preview(1).digest)
    everything = Selection(filter="id pr")
    s.naming.rename(s.naming.preview(selection=everything).digest, selection=everything)
    # One that was nobody's goes for ever, so that there is a certificate.
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-SOLD"))
    sold = Selection(filter='serial eq "KM-SOLD"')
    s.devices.retire(sold, s.devices.preview_retire(sold).digest)
    s.devices.erase(sold, s.devices.preview_erase(sold).digest, 1)


SERIALS = [{"name": "all", "pattern": "X-{serial}"}]
EVERYTHING = {"filter": "id pr"}
#: A gate that would refuse everything, so that its replay tells of everything.
CLOSED = {
    "policies": [{**starting_gate().as_json()["policies"][0], "ownerships": [], "name": "None"}]
}
#: What is asked of each route that takes a body.
BODIES: dict[str, list[Any]] = {
    "/journal/head/check": [{"signed": "x"}],
    "/cohorts/preview": [{"name": "New", "filter": "id pr"}],
    "/cohorts/{key}/preview": [{"name": "Deck", "filter": 'stage ne "retired"'}],
    "/cohorts/{key}/devices/preview": [
        {"selection": EVERYTHING, "put_in": put_in} for put_in in (True, False)
    ],
    "/devices/declare/preview": [
        {"selection": EVERYTHING, "ownership": one.value} for one in Ownership
    ],
    "/devices/{device_id}/assign/preview": [{"person": None}, {"person": "maud"}],
    "/devices/give/preview": [
        {"selection": EVERYTHING, "person": None},
        {"selection": EVERYTHING, "person": "maud"},
    ],
    "/people/{person}/departure/preview": [{}],
    "/devices/retire/preview": [{"selection": EVERYTHING}],
    "/devices/bring-back/preview": [{"selection": EVERYTHING}],
    "/devices/erase/preview": [{"selection": EVERYTHING}],
    "/devices/report/preview": [{"selection": EVERYTHING, "flag": "stolen"}],
    "/holds/preview": [
        {"selection": EVERYTHING, "reason": "x", "until_on": "2026-06-01"},
        {"person": "maud", "reason": "x", "until_on": "2026-06-01"},
    ],
    "/items/preview": [SOMETHING],
    "/items/{key}/preview": [{**SOMETHING, "given": [{}, {"cohort": "Deck"}]}],
    "/own-settings/preview": [{**HORN, "key": "other", "name": "Other"}],
    "/own-settings/{key}/preview": [{**HORN, "says": "How loud the horn is."}],
    "/kits/preview": [{"name": "New", "items": ["Locked"], "given": [{"cohort": "Lent"}]}],
    "/kits/{key}/preview": [{"name": "Kit", "items": ["Locked"], "given": [{}]}],
    "/setup-sheets/preview": [{"name": "New", "given": [{}]}],
    "/setup-sheets/{key}/preview": [{"name": "Sheet", "given": [{}]}],
    "/checklists/preview": [{"name": "New", "items": ["Locked"], "given": [{}]}],
    "/checklists/{key}/preview": [{"name": "List", "items": ["Locked"], "given": [{}]}],
    "/item-retries/preview": [{"item": "Locked", "selection": EVERYTHING}],
    "/kit-pushes/preview": [{"selection": EVERYTHING}],
    "/sheet-handings/preview": [{"sheet": "Sheet", "selection": EVERYTHING}],
    "/imagined-kit": [{"platform": "android", "cohorts": ["Deck"], "person": "maud"}],
    "/filters/check": [{"filter": "id pr"}],
    "/gate/preview": [starting_gate().as_json()],
    "/gate/check": [starting_gate().as_json()],
    "/gate/effective": [{"person": "maud"}, {"device": OFFICE}, {}],
    "/gate/replay": [CLOSED],
    "/gate/replay/list": [CLOSED],
    "/gate/replay/file": [CLOSED],
    "/gate/try": [{"platform": "android", "os_version": "14", "person": "maud"}],
    "/naming/check": [{"templates": SERIALS}],
    "/naming/preview": [
        {"selection": EVERYTHING},
        {"selection": EVERYTHING, "templates": SERIALS},
        {"selection": EVERYTHING, "templates": [{"name": "all", "pattern": "{imei|last 8}"}]},
    ],
    "/orders/preview": [{"name": "WL-2"}],
    "/orders/{key}/preview": [{"name": "WL-1"}],
    "/pools/preview": [{"name": "New", "seats": 1}],
    "/pools/{key}/preview": [{"name": "Signage", "seats": 1, "filter": "id pr"}],
    "/pools/{key}/compare": [{"text": VOUCHER}],
    "/pools/{key}/grants/preview": [
        {"text": VOUCHER, "act": act} for act in ("top-up", "rollover")
    ],
    "/vouchers/read": [{"text": VOUCHER}],
    "/sweeps/idle/preview": [{"name": "New", "idle_window_days": 21}],
    "/sweeps/due/file": [{"name": "New", "idle_window_days": 21}],
    "/sweep-rules/preview": [{"name": "New", "idle_window_days": 21}],
    "/sweep-rules/{key}/preview": [{"name": "Quiet", "idle_window_days": 21}],
    "/terms/preview": [{"name": "New", "texts": [{"language": "en", "text": "Be kind"}]}],
    "/terms/{key}/preview": [{"name": "Rules", "texts": [{"language": "en", "text": "Be kind"}]}],
    "/welcome-card/preview": [{"organisation": "Wrenmoor"}],
    "/reminders/preview": [{"addresses": ["it@wrenmoor.example"]}],
    "/sources/preview": [{"name": "New", "kind": "roster", "covers": "id pr"}],
    "/sources/{key}/preview": [{"name": "Yard", "kind": "roster"}],
    "/sources/{key}/scope/preview": [{"name": "Yard", "kind": "roster"}],
    "/sources/{key}/acts/preview": [{"act": "assign", "devices": ["x"]}],
    "/discrepancies/mend/preview": [
        {"which": {"kind": kind}, "mend": mend}
        for kind, mend in (("differs", "take-word"), ("absent", "retire"), ("alive", "send"))
    ],
}
EVERY_COLUMN = "&".join(f"column={name}" for name in ATTRIBUTES)
#: What is asked besides, where a route has more to tell.
QUERIES: dict[str, list[str]] = {
    "/devices": ["limit=500", f"limit=50&{EVERY_COLUMN}", "sort=name", "query=KM"],
    "/devices/file": [f"form={form}&{EVERY_COLUMN}" for form in ("csv", "json", "jsonl", "xlsx")],
    "/cohorts/{key}/explain": [f"device={number}" for number in range(1, 7)],
    "/lots/{lot_id}/takeout": ["form=csv", "form=xlsx"],
    "/filters/values": [f"attribute={name}" for name in ATTRIBUTES],
    "/gate/replay/list": ["of=fleet&limit=500", "of=arrivals&limit=500"],
    "/journal/file": ["form=csv", "form=jsonl", "form=xlsx"],
    "/gate/replay/file": ["of=fleet", "of=arrivals", "of=arrivals&form=xlsx"],
}
#: A stream lasts as long as its job; a preview of imported people takes a file.
ELSEWHERE = {
    ("GET", "/jobs/{job_id}/events"),
    ("GET", "/arrivals/events"),
    ("POST", "/people/imports/preview"),
    ("POST", "/arrivals/assignments/preview"),
    ("POST", "/sources/{key}/file/preview"),
}
#: What a role is not given at all; there are no jobs here.
REFUSED = {
    Role.VIEWER: [
        "/accounts",
        "/accounts/{account_id}",
        "/devices/{device_id}/item-reports/{key}/log",
        "/journal/export",
        "/lots/{lot_id}/file",
        "/lots/{lot_id}/preview",
    ],
    Role.COORDINATOR: ["/accounts", "/accounts/{account_id}"],
}
#: Where a coordinator reads an identifier of a personal device: what hides, hides something.
TOLD = [
    "GET /arrivals",
    "GET /arrivals/{arrival_id}",
    "GET /discrepancies/export",
    "GET /sources/{key}/devices",
    "GET /devices",
    "GET /devices/file",
    "GET /devices/{device_id}",
    "GET /journal/{entry_id}",
    "GET /lots/{lot_id}/file",
    "GET /lots/{lot_id}/notes",
    "GET /lots/{lot_id}/rows",
    "GET /lots/{lot_id}/takeout",
    "POST /naming/check",
    "POST /naming/preview",
]


#: How a POST ends that only reads.
READING = (
    "/preview",
    "/check",
    "/{key}/compare",
    "/vouchers/read",
    "/try",
    "/effective",
    "/replay",
    "/replay/list",
    "/replay/file",
    "/due/file",
    "/imagined-kit",
)


def routes() -> list[tuple[str, str]]:
    return [
        (method.upper(), path.removeprefix("/api/v1"))
        for path, methods in json.loads(document())["paths"].items()
        for method in methods
        if method == "get" or path.endswith(READING)
    ]


def asked(method: str, path: str) -> Iterator[tuple[str, Any]]:
    """Every way in which a route is asked: with each number, parameter and body."""
    names = re.findall(r"\{[a-z_]+\}", path)
    highest = 45 if "entry_id" in path else 7
    numbers = ["android"] if "{platform}" in path else range(1, highest)
    for chosen, query in product(
        product(numbers, repeat=len(names)) if names else [()], QUERIES.get(path, [""])
    ):
        target = path
        for name, value in zip(names, chosen, strict=True):
            target = target.replace(name, str(value), 1)
        # A change of some fields is asked with the fields of a whole one.
        bodies = BODIES.get(path.replace("/patch/preview", "/preview"), [None])
        for body in bodies if method == "POST" else [None]:
            yield f"/api/v1{target}?{query}".rstrip("?"), body


def text_of(answer: httpx.Response) -> str:
    """All that is told, with what a workbook has in its cells."""
    if answer.content.startswith(b"PK"):
        sheets = pl.read_excel(io.BytesIO(answer.content), sheet_id=0, has_header=False)
        return "\n".join(sheet.write_csv() for sheet in sheets.values())
    return answer.text + str(answer.headers)


def told(world: World, role: Role) -> dict[str, set[str]]:
    """Route → the secrets that it told this role."""
    found: dict[str, set[str]] = {}
    refused: dict[str, str] = {}
    with http(world, role) as client:
        for method, path in routes():
            if (method, path) in ELSEWHERE:
                continue
            texts = []
            for url, body in asked(method, path):
                answer = client.request(method, url, json=body)
                assert answer.status_code < 500, (method, url, answer.text)
                texts.append((answer.is_success, text_of(answer)))
            if not any(good for good, _ in texts):
                refused[path] = texts[0][1]
            said = "\n".join(text for _, text in texts)
            found[f"{method} {path}"] = {secret for secret in SECRETS if secret in said}
    assert set(refused) == {
        *REFUSED[role],
        "/jobs/{job_id}",
        # There is no claim, and no head of this journal is called so.
        "/arrivals/{arrival_id}/hand-over/preview",
        "/journal/head/check",
        # Nothing is asked of a device here, and there is no picture.
        "/agent/way",
        # With the credential of a device.
        "/agent/kit",
        "/agent/files/{digest}",
        # No view is saved here, and no file is kept.
        "/views/{view_id}",
        "/files/{digest}",
        "/files/{digest}/content",
        # The one source is a roster that is handed over.
        "/sources/{key}/acts/preview",
        "/sources/{key}/certificate",
        "/sources/{key}/held",
        "/sources/{key}/runs/preview",
        "/sources/{key}/scope/preview",
        "/sources/{key}/signing-request",
        "/welcome-card/pictures/{digest}",
        "/calendar/{secret}",
    }, refused
    return found


def test_every_previewing_route_is_asked_with_a_body_of_its_own() -> None:
    document_paths = json.loads(document())["paths"]
    taking = {
        path
        for method, path in routes()
        if method == "POST"
        and "application/json"
        in document_paths[f"/api/v1{path}"]["post"].get("requestBody", {}).get("content", {})
    }
    assert taking == set(BODIES)


@pytest.mark.parametrize("role", [role for role in Role if not may(role, Permission.SEE_PERSONAL)])
def test_whoever_may_not_see_finds_none(everywhere: World, role: Role) -> None:
    found = told(everywhere, role)
    assert {route: secrets for route, secrets in found.items() if secrets} == {}


def test_whoever_may_see_finds_them_where_they_are(everywhere: World) -> None:
    found = told(everywhere, Role.COORDINATOR)
    assert [route for route in TOLD if not found[route]] == []
    assert set(SECRETS) == set.union(*found.values()), "each stands somewhere"


def test_what_is_the_organisation_s_is_no_secret(everywhere: World) -> None:
    with http(everywhere, Role.VIEWER) as client:
        assert OFFICE in client.get("/api/v1/devices").text
        assert OFFICE in client.get("/api/v1/lots/1/rows").text
        assert OFFICE in client.get("/api/v1/arrivals").text
