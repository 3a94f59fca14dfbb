"""The HTTP interface as an integrator meets it: what is accepted, known already, changed in part,
found where; what every answer says of itself.
"""

import gzip
import json
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from tests.cli.test_outputs import furnish
from tests.worlds import World, a_pass, http, import_lot, knocking, manifest

from sortitor.api.http.console import PAGES
from sortitor.core.vocabulary import Role

MakeWorld = Callable[..., World]
POOL = {"name": "Signage", "seats": 3, "product": "Signage seats"}
ROUTER = Path("console/src/router.ts")


def add_pool(client, **more: object) -> dict:  # type: ignore[no-untyped-def]
    answer = client.post("/api/v1/pools", json={**POOL, **more})
    assert answer.status_code == 201, answer.text
    return answer.json()


def test_head_says_what_get_says_and_options_what_is_possible(world: World) -> None:
    with http(world) as client:
        got, head = client.get("/api/v1/pools"), client.head("/api/v1/pools")
        assert (head.status_code, head.content) == (200, b"")
        for name in ("content-type", "etag", "vary", "cache-control"):
            assert head.headers[name] == got.headers[name]
        options = client.options("/api/v1/pools")
        assert (options.status_code, options.content) == (204, b"")
        assert options.headers["allow"] == "GET, POST, HEAD, OPTIONS"
        assert client.options("/api/v1/pools/1").headers["allow"].split(", ") == [
            "GET",
            "PUT",
            "PATCH",
            "DELETE",
            "HEAD",
            "OPTIONS",
        ]
        assert client.options("/api/v1/nothing").status_code == 404
        assert client.put("/api/v1/pools").headers["allow"] == "GET, POST, HEAD"
        for method in ("GET", "HEAD", "DELETE"):
            refused = client.request(method, "/api/v1/devices/retire/preview")
            assert (refused.status_code, refused.headers["allow"]) == (405, "POST"), method
        assert client.get("/api/v1/nothing").status_code == 404


def test_a_number_is_no_date_wherever_one_is_given(world: World) -> None:
    s = world.client()
    credential = s.agent.knock(knocking(a_pass(s), "KM-1")).credential
    with http(world) as client:
        for number in ("0", "2026", "20260119", "-1", "1768000000.5"):
            hold = {"reason": "yard", "until_on": number, "person": "maud"}
            seen = {"check_ins": [{"credential": credential, "seen_at": number}]}
            days = (
                client.get("/api/v1/journal", params={"until": number}),
                client.post("/api/v1/holds/preview", json=hold),
                client.post("/api/v1/orders/preview", json={"name": "O", "ordered_on": number}),
            )
            moments = (
                client.post("/api/v1/passes", json={"label": "p", "valid_from": number}),
                client.post("/api/v1/agent/check-ins", json=seen),
            )
            told = [[fault["detail"] for fault in a.json()["errors"]] for a in (*days, *moments)]
            day, moment = "It is written as 2026-01-19.", "It is written as 2026-01-19T09:00:00Z."
            assert told == [[day]] * len(days) + [[moment]] * len(moments)


def test_what_nobody_can_answer_is_refused_and_wishes_are_weighed(
    world: World, tmp_path: Path
) -> None:
    import_lot(world.client(), manifest(tmp_path, ["serial,platform", "KM-1,android"]))
    with http(world) as client:

        def asked(accept: str) -> tuple[int, str]:
            answer = client.get("/api/v1/devices", headers={"Accept": accept})
            return answer.status_code, answer.headers["content-type"].partition(";")[0]

        assert asked("*/*") == asked("") == asked("nonsense") == (200, "application/json")
        assert asked("text/csv") == (200, "text/csv")
        assert asked("text/csv;q=0.2, application/json;q=0.9") == (200, "application/json")
        assert asked("text/csv;q=0.9, application/json;q=0.2") == (200, "text/csv")
        assert asked("text/csv;q=0, */*") == (200, "application/json")
        assert asked("text/html, application/*;q=0.1") == (200, "application/json")
        for accept in ("image/png", "application/xml, text/html", "application/json;q=0"):
            assert asked(accept) == (406, "application/problem+json")
        refused = client.get("/api/v1/pools", headers={"Accept": "text/csv"})
        assert refused.json()["remedy"] == "Accept application/json."
        sheet = client.get("/api/v1/devices/file?form=csv", headers={"Accept": "application/json"})
        assert sheet.status_code == 406


def test_what_the_caller_knows_is_not_sent_again(world: World) -> None:
    with http(world) as client:
        made = add_pool(client)
        for path in ("/api/v1/pools", f"/api/v1/pools/{made['id']}", "/api/v1/vocabulary"):
            known = client.get(path)
            tag = known.headers["etag"]
            assert known.headers["cache-control"] == "private, no-cache"
            for told in (tag, f"W/{tag}", f'"other", {tag}', "*"):
                again = client.get(path, headers={"If-None-Match": told})
                assert (again.status_code, again.content) == (304, b""), path
                assert again.headers["etag"].replace("-gzip", "") == tag.replace("-gzip", "")
            head = client.head(path, headers={"If-None-Match": tag})
            assert head.status_code == 304
        path = f"/api/v1/pools/{made['id']}"
        tag = client.get(path).headers["etag"]
        client.patch(path, json={"seats": 9}, headers={"If-Match": tag})
        assert client.get(path, headers={"If-None-Match": tag}).status_code == 200
    with http(world, None) as browser:
        browser.post(
            "/api/v1/session", json={"name": "viewer", "password": "a long enough password"}
        )
        assert browser.get("/api/v1/pools").headers["cache-control"] == "no-store"


def test_a_change_names_what_changes_and_nothing_else(world: World) -> None:
    with http(world) as client:
        pool = add_pool(client)
        path = f"/api/v1/pools/{pool['id']}"
        merge = {"Content-Type": "application/merge-patch+json"}
        previewed = client.post(
            f"{path}/patch/preview", content=json.dumps({"seats": 5}), headers=merge
        ).json()
        assert [(c["field"], c["before"], c["after"]) for c in previewed["changes"]] == [
            ("seats", "3", "5")
        ]
        done = client.patch(
            path,
            content=json.dumps({"seats": 5}),
            params={"digest": previewed["digest"], "reason": "two more gangways"},
            headers=merge,
        )
        assert (done.status_code, done.headers["etag"]) == (200, '"2"')
        assert done.json()["product"] == "Signage seats"
        assert done.json()["seats"] == 5
        assert int(done.headers["sortitor-journal-entry"]) > 0
        gone = client.patch(path, json={"product": None}, headers={"If-Match": '"2"'})
        assert (gone.json()["product"], gone.json()["seats"]) == (None, 5)
        for body, place in (
            ({"seats": "many"}, "/seats"),
            ({"sets": 3}, "/sets"),
            ({"name": None}, "/name"),
        ):
            refused = client.patch(path, json=body, headers={"If-Match": '"3"'})
            assert refused.status_code == 422, refused.text
            assert refused.json()["errors"][0]["pointer"] == place
        assert client.get(path).headers["etag"] == '"3"', "nothing of that was kept"


def test_a_change_of_nothing_changes_nothing_of_any_noun(world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    described = json.loads(Path("console/openapi.json").read_text())["paths"]
    nouns = [
        path.removesuffix("/{key}/patch/preview")
        for path in described
        if path.endswith("/patch/preview")
    ]
    assert len(nouns) >= 11
    seen = 0
    with http(world, Role.ADMINISTRATOR) as client:
        for noun in nouns:
            for one in client.get(noun).json()["items"]:
                looked = client.post(f"{noun}/{one['id']}/patch/preview", json={})
                assert looked.status_code == 200, (noun, looked.text)
                assert looked.json()["changes"] == [], noun
                seen += 1
    assert seen > len(nouns)


@pytest.mark.parametrize("method", ["PUT", "PATCH", "DELETE"])
def test_an_edit_says_what_it_was_made_from(world: World, method: str) -> None:
    with http(world) as client:
        pool = add_pool(client)
        path = f"/api/v1/pools/{pool['id']}"

        def changed(tag: str | None) -> tuple[int, str]:
            headers = {"If-Match": tag} if tag else {}
            body = {} if method == "DELETE" else {"json": {**POOL, "seats": 8}}
            answer = client.request(method, path, headers=headers, **body)
            return answer.status_code, answer.json()["code"] if answer.is_error else ""

        assert changed(None) == (428, "precondition_required")
        assert changed('"7"') == (412, "stale")
        assert changed("three") == (422, "bad_etag")
        assert changed('"1-gzip"')[0] in (200, 204), "as it was told with a packed answer"


def test_an_account_is_changed_as_it_was_read(world: World) -> None:
    with http(world, Role.ADMINISTRATOR) as client:
        made = client.post(
            "/api/v1/accounts",
            json={"name": "odo", "password": "nine grey herons wait", "role": "viewer"},
        )
        path = made.headers["location"]
        tag = client.get(path).headers["etag"]
        assert made.headers["etag"] == tag
        changed = client.patch(path, json={"role": "technician"}, headers={"If-Match": tag})
        assert changed.json()["role"] == "technician"
        late = client.patch(path, json={"disabled": True}, headers={"If-Match": tag})
        assert (late.status_code, late.json()["code"]) == (412, "stale")
        assert client.get(path).json()["disabled_at"] is None


def test_what_is_made_is_found_where_it_says(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,platform", "KM-1,android"]))
    hold = {"selection": {"ids": [1]}, "until_on": "2026-03-01", "reason": "abroad"}
    preview = s._transport.http.post("/holds/preview", json=hold).json()
    signed_in = world.in_person()._transport.http
    view = {"name": "Mine", "settings": {"columns": ["name"], "sort": "name", "descending": False}}
    with http(world) as client:
        answers = {
            "pools": client.post("/api/v1/pools", json=POOL),
            "lots": client.post("/api/v1/lots", content=b"serial,platform\nKM-2,ios\n"),
            "passes": client.post("/api/v1/passes", json={"label": "Gangway"}),
            "holds": client.post("/api/v1/holds/apply", json={**hold, "digest": preview["digest"]}),
            "views": client.post("/api/v1/views", json=view),
            "files": client.post("/api/v1/files?name=a.bin", content=b"bytes"),
            "tokens": signed_in.post("/tokens", json={"name": "t", "role": "viewer", "days": 3}),
        }
        for noun, made in answers.items():
            assert made.status_code == 201, (noun, made.text)
            there = client.get(made.headers["location"])
            assert there.status_code == 200, (noun, there.text)
            assert made.headers["location"].startswith(f"/api/v1/{noun}/")


def test_a_repeated_request_gets_the_same_answer_with_its_headers(world: World) -> None:
    with http(world) as client:
        key = {"Idempotency-Key": "once"}
        first = client.post("/api/v1/pools", json=POOL, headers=key)
        again = client.post("/api/v1/pools", json=POOL, headers=key)
        assert again.headers["idempotent-replay"] == "true"
        assert (again.status_code, again.content) == (201, first.content)
        for name in ("location", "etag", "content-type", "sortitor-journal-entry"):
            assert again.headers[name] == first.headers[name]


def test_codes_that_are_shown_once_are_not_kept_for_a_repeat(world: World, tmp_path: Path) -> None:
    s = world.client()
    people = manifest(tmp_path, ["user name,name", "maud,Maud Fenwick"], "people.csv")
    s.people.apply_import(people, s.people.preview_import(people).digest)
    given = {"terms": {"label": "crew"}, "people": ["maud"], "mailed": False}
    with http(world) as client:
        key = {"Idempotency-Key": "batch"}
        made = client.post("/api/v1/passes/batch", json=given, headers=key)
        code = made.json()["items"][0]["code"]
        assert code
        again = client.post("/api/v1/passes/batch", json=given, headers=key)
        assert (again.status_code, again.json()["code"]) == (409, "already_done")
    kept = world.rows("SELECT answer FROM idempotency")
    assert not [row for row in kept if row[0] and code.encode() in bytes(row[0])]  # type: ignore[call-overload]


def test_long_work_says_when_to_look_and_that_the_wish_was_heeded(world: World) -> None:
    with http(world) as client:
        wish = {"Prefer": "respond-async, wait=5"}
        taken = client.post("/api/v1/lots", content=b"serial,platform\nKM-1,ios\n", headers=wish)
        assert taken.status_code == 202
        assert taken.headers["preference-applied"] == "respond-async"
        assert int(taken.headers["retry-after"]) >= 1
        assert client.get(taken.headers["location"]).json()["kind"] == "check"


def test_a_job_says_where_what_it_is_about_is_found(world: World) -> None:
    wish = {"Prefer": "respond-async"}
    with http(world) as client:
        lot = client.post("/api/v1/lots", content=b"serial,platform\nKM-1,ios\n", headers=wish)
        comparison = client.post("/api/v1/levels/compare", headers=wish)
        assert client.get(lot.json()["job"]["result"]).json()["id"] == lot.json()["lot_id"]
        assert "rosters" in client.get(comparison.json()["result"]).json()


def test_a_body_says_what_it_is(world: World) -> None:
    with http(world) as client:
        for media in ("text/plain", "application/xml", "application/x-www-form-urlencoded"):
            refused = client.post(
                "/api/v1/pools", content=json.dumps(POOL), headers={"Content-Type": media}
            )
            assert (refused.status_code, refused.json()["code"]) == (415, "unsupported_media_type")
        charset = {"Content-Type": "application/json; charset=utf-8"}
        made = client.post("/api/v1/pools", content=json.dumps(POOL), headers=charset)
        assert made.status_code == 201


def test_every_answer_says_how_much_is_left(world: World) -> None:
    with http(world) as client:
        for _ in range(3):  # Whoever is not known yet is counted otherwise.
            client.get("/api/v1/pools")
        first, second = (client.get("/api/v1/pools").headers["ratelimit"] for _ in range(2))
        assert client.get("/api/v1/pools").headers["ratelimit-policy"] == '"requests";q=30000;w=60'
        left = [int(re.fullmatch(r'"requests";r=(\d+);t=\d+', one)[1]) for one in (first, second)]  # type: ignore[index]
        assert left[1] in (left[0] - 1, 29_999), "a minute may end in between"


def test_large_answers_are_packed_for_those_who_take_it(world: World) -> None:
    with http(world) as client:
        plain = client.get("/api/v1/vocabulary", headers={"Accept-Encoding": "identity"})
        with client.stream("GET", "/api/v1/vocabulary") as packed:
            raw = b"".join(packed.iter_raw())
        assert packed.headers["content-encoding"] == "gzip"
        assert "Accept-Encoding" in packed.headers["vary"]
        assert gzip.decompress(raw) == plain.content
        assert len(raw) < len(plain.content) / 2
        tag = packed.headers["etag"]
        assert tag != plain.headers["etag"]
        again = client.get("/api/v1/vocabulary", headers={"If-None-Match": tag})
        assert again.status_code == 304
        small = client.get("/api/v1/pools")
        assert "content-encoding" not in small.headers
        data = b"serial " * 5_000
        kept = client.post("/api/v1/files?name=a.bin", content=data)
        part = client.get(
            f"{kept.headers['location']}/content",
            headers={"Range": "bytes=0-1999", "Accept-Encoding": "gzip"},
        )
        assert (part.status_code, part.content) == (206, data[:2000])
        assert "content-encoding" not in part.headers


def test_pages_of_other_origins_call_only_where_that_is_set(
    world: World, make_world: MakeWorld
) -> None:
    asked = {
        "Origin": "https://portal.example.org",
        "Access-Control-Request-Method": "PATCH",
        "Access-Control-Request-Headers": "authorization,if-match",
    }
    with http(world) as client:
        closed = client.get("/api/v1/pools", headers={"Origin": asked["Origin"]})
        assert "access-control-allow-origin" not in closed.headers
    with http(make_world(cors_origins="https://portal.example.org")) as client:
        before = client.options("/api/v1/pools/1", headers=asked)
        assert before.status_code == 200
        assert "PATCH" in before.headers["access-control-allow-methods"]
        answer = client.get("/api/v1/pools", headers={"Origin": asked["Origin"]})
        assert answer.headers["access-control-allow-origin"] == asked["Origin"]
        assert "ETag" in answer.headers["access-control-expose-headers"]
        assert "access-control-allow-credentials" not in answer.headers
        other = client.get("/api/v1/pools", headers={"Origin": "https://other.example.org"})
        assert "access-control-allow-origin" not in other.headers


def test_an_unknown_page_is_one(world: World) -> None:
    pages = {path.split("/")[1] for path in re.findall(r"path: '(/[^:']*)", ROUTER.read_text())}
    assert pages == PAGES
    with http(world, None) as client:
        assert client.get("/devices/3").status_code == 200
        assert client.get("/devics").status_code == 404
        assert "<div id=" in client.get("/devics").text, "the console says it"


def test_every_list_has_one_envelope(world: World) -> None:
    described = json.loads(Path("console/openapi.json").read_text())
    with http(world, Role.ADMINISTRATOR) as client:
        for path, methods in described["paths"].items():
            operation = methods.get("get", {})
            if not operation.get("operationId", "").startswith("list_") or "{" in path:
                continue
            needed = [p["name"] for p in operation.get("parameters", []) if p.get("required")]
            answer = client.get(path, params=dict.fromkeys(needed, "site"))
            if "facets" not in path:
                assert set(answer.json()) == {"items", "next", "total"}, path


def test_a_path_in_another_script_reaches_the_headers(make_world) -> None:
    world = make_world(public_url="https://tools.example/أدوات/a b")
    base = "/%D8%A3%D8%AF%D9%88%D8%A7%D8%AA/a%20b"
    given = {"name": "coordinator", "password": "a long enough password"}
    with http(world, None) as browser:
        assert browser.post("/api/v1/session", json=given).status_code == 200
        cookie = browser.cookies["sortitor_session"]
        page = browser.get("/devices", headers={"Cookie": f"sortitor_session={cookie}"})
        assert f"<{base}/api/v1/session>" in page.headers["link"]
        assert f'"{base}/assets/' in page.text
    with http(world) as client:
        made = client.post("/api/v1/pools", json={"name": "Signage", "seats": 1})
        assert made.headers["location"] == f"{base}/api/v1/pools/1"
