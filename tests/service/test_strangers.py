"""What somebody without an account can send, hold open and learn."""

from __future__ import annotations

import json
import socket
import statistics
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from http.client import HTTPConnection
from pathlib import Path

import httpx
import pytest
from tests.worlds import PASSWORD, World, a_pass, http, import_lot, knocking, manifest

from sortitor.api.http import rates
from sortitor.api.http.rates import Counter, Rates
from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.errors import SlowDown
from sortitor.core.vocabulary import Activation, Purpose, Role
from sortitor.schemas.arrivals import RelayedCheckIn
from sortitor.schemas.cohorts import Cohort

BIG = b'{"name": "' + b"x" * 5_000_000 + b'"}'


@pytest.mark.parametrize("media", ["application/json", "application/x+json", "text/plain", ""])
def test_a_large_body_is_refused_whatever_it_calls_itself(world: World, media: str) -> None:
    """The answer is there before any of it is sent, and also for whoever sends all of it."""
    kind = f"Content-Type: {media}\r\n" if media else ""
    refused = b"413" if media in ("application/json", "") else b"415"
    headers = {"Content-Type": media} if media else {}
    answer = httpx.post(f"{world.url}/api/v1/session", content=BIG, headers=headers)
    assert answer.status_code == int(refused)
    with raw(world) as line:
        line.sendall(
            f"POST /api/v1/session HTTP/1.1\r\nHost: x\r\n{kind}"
            "Content-Length: 5000000\r\n\r\n".encode()
        )
        assert line.recv(200).split()[1] == refused


def test_callers_are_counted_apart() -> None:
    counter = Counter(Rates())
    for _ in range(3):
        counter.count("requests", "one", 3)
    with pytest.raises(SlowDown, match="More than 3 requests in a minute"):
        counter.count("requests", "one", 3)
    assert counter.allowance("requests", "one", 3).left == 0
    assert counter.allowance("requests", "other", 3).left == 3
    assert counter.allowance("sign-ins", "one", 3).left == 3


def test_after_a_minute_callers_begin_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rates, "_SECONDS", 0.05)
    counter = Counter(Rates())
    counter.count("requests", "one", 1)
    time.sleep(0.1)
    counter.count("requests", "one", 1)


def test_many_callers_take_no_more_room(monkeypatch: pytest.MonkeyPatch) -> None:
    """Who came longest ago begins anew."""
    monkeypatch.setattr(rates, "_COUNTED", 2)
    counter = Counter(Rates())
    for caller in ("one", "two", "three"):
        counter.count("requests", caller, 1)
    left = {key: counter.allowance("requests", key, 1).left for key in ("one", "two", "three")}
    assert left == {"one": 1, "two": 0, "three": 0}


def raw(world: World) -> socket.socket:
    host, port = world.url.removeprefix("http://").split(":")
    line = socket.create_connection((host, int(port)), timeout=30)
    line.settimeout(30)
    return line


def test_who_may_not_is_refused_before_the_body_is_read(world: World) -> None:
    """A hundred megabytes are announced; the answer comes without one of them."""
    for path, token in (("/api/v1/lots", None), ("/api/v1/lots", world.tokens[Role.VIEWER])):
        with raw(world) as line:
            bearer = f"Authorization: Bearer {token}\r\n" if token else ""
            line.sendall(
                f"POST {path} HTTP/1.1\r\nHost: x\r\n{bearer}Content-Type:"
                " application/octet-stream\r\nContent-Length: 100000000\r\n\r\n".encode()
            )
            assert line.recv(200).split()[1] in (b"401", b"403")


def test_whoever_hangs_up_is_no_fault_of_the_service(
    world: World, capfd: pytest.CaptureFixture[str]
) -> None:
    for path in ("/api/v1/views", "/api/v1/agent/knock", "/api/v1/lots"):
        with raw(world) as line:
            line.sendall(
                f"POST {path} HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
                f"Authorization: Bearer {world.tokens[Role.COORDINATOR]}\r\n"
                "Content-Length: 100\r\n\r\n{".encode()
            )
            time.sleep(0.2)
    time.sleep(0.5)
    assert "unexpected" not in "".join(capfd.readouterr())


def test_slow_bodies_and_silent_connections_are_ended(make_world, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr("sortitor.server.patience.HEADER_SECONDS", 1.0)
    world: World = make_world(body_seconds=1)
    with raw(world) as line:
        line.sendall(
            b"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
            b"Content-Length: 100\r\n\r\n{"
        )
        started = time.monotonic()
        assert line.recv(200).split()[1] == b"408"
        assert time.monotonic() - started < 5
    for said in (b"", b"GET /api/v1/session HTT", b"GET / HTTP/1.1\r\nX: "):
        with raw(world) as line:
            line.sendall(said)
            assert line.recv(100) == b"", "closed without a word"


def test_a_connection_stays_open_longer_than_clients_keep_one(
    two_services: tuple[str, ...],
) -> None:
    """The client keeps one for five seconds: a change into one that is being closed is lost."""
    address = httpx.URL(two_services[0])
    with closing(HTTPConnection(address.host, address.port, timeout=10)) as line:
        for pause in (6, 0):
            line.request("GET", "/healthz")
            answer = line.getresponse()
            assert (answer.status, bool(answer.read())) == (200, True)
            time.sleep(pause)


def test_one_bad_check_in_does_not_fail_the_others(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    good = [s.agent.knock(knocking(code, f"KM-{i}0")).credential or "" for i in range(6)]
    with httpx.Client(base_url=world.url) as client:

        def check_in(number: int) -> int:
            version = "14\x00" if number == 3 else "14.2"
            return client.post(
                "/api/v1/agent/check-in",
                headers={"Authorization": f"Bearer {good[number]}"},
                json={"os_version": version},
            ).status_code

        with ThreadPoolExecutor(6) as threads:
            assert list(threads.map(check_in, range(6))) == [200, 200, 200, 422, 200, 200]
        relay = client.post(
            "/api/v1/agent/check-ins",
            json={
                "check_ins": [
                    {"credential": good[0], "seen_at": "0001-01-01T00:00:00+23:59"},
                    {"credential": good[1], "seen_at": "9999-12-31T23:59:59-23:59"},
                ]
            },
        )
        assert relay.status_code == 422
    assert s.agent.relay([RelayedCheckIn(credential=good[0], seen_at=world.now)]).received == 1


def test_sign_ins_take_neither_threads_nor_connections(world: World) -> None:
    """Forty at once: whoever is signed in works on."""

    def guess(number: int) -> int:
        with httpx.Client(base_url=world.url, timeout=60) as client:
            given = {"name": f"guess {number}", "password": "guess guess guess"}
            return client.post("/api/v1/session", json=given).status_code

    with http(world) as client, ThreadPoolExecutor(40) as threads:
        guesses = [threads.submit(guess, number) for number in range(40)]
        times = []
        while not all(one.done() for one in guesses):
            started = time.monotonic()
            assert client.get("/api/v1/devices").status_code == 200
            times.append(time.monotonic() - started)
        statuses = [one.result() for one in guesses]
    assert set(statuses) <= {401, 429}
    assert statistics.median(times) < 0.5


def test_the_right_password_gets_in_and_all_names_are_alike(world: World) -> None:
    with http(world, None) as client:

        def tried(name: str, password: str) -> tuple[int, float, str]:
            started = time.monotonic()
            answer = client.post("/api/v1/session", json={"name": name, "password": password})
            return answer.status_code, time.monotonic() - started, answer.json().get("detail", "")

        known, unknown = [], []
        for _ in range(5):  # by turns: what else the machine does slows both
            known.append(tried("viewer", "wrong wrong wrong"))
            unknown.append(tried("nobody.here", "wrong wrong wrong"))
        assert {one[0] for one in known + unknown} == {401}
        assert {one[2] for one in known + unknown} == {known[0][2]}
        took, took_unknown = (sum(t for _, t, _ in one) for one in (known, unknown))
        assert 0.5 < took / took_unknown < 2
        assert known[4][1] > known[0][1] + 0.3, "who guesses waits"
        assert tried("viewer", PASSWORD)[0] == 200
    failures = [e for e in world.client().journal.list() if e.operation == "account.sign_in_failed"]
    assert 2 <= len(failures) <= 4, "the journal tells fewer and fewer"
    assert world.rows("SELECT count FROM strangers WHERE what = 'sign_in'") == [(10,)]


def test_rates_have_an_end_with_retry_after(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(stranger_per_minute=20, failures_per_minute=5, sign_ins_per_minute=3)
    with http(world, None) as client:
        statuses = [client.get("/api/v1/devices").status_code for _ in range(8)]
        assert statuses[:5] == [401] * 5
        late = client.get("/api/v1/devices")
        assert (late.status_code, int(late.headers["retry-after"]) > 0) == (429, True)
        assert late.headers["content-type"] == "application/problem+json"
        signs = [
            client.post("/api/v1/session", json={"name": "x", "password": "y" * 12}).status_code
            for _ in range(4)
        ]
        assert signs[-1] == 429
    with http(world) as known:
        # Not known yet, and from the same address: the failures of others still count.
        assert known.get("/api/v1/devices").status_code == 429


def test_a_known_caller_is_not_counted_among_strangers(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(stranger_per_minute=10, failures_per_minute=5)
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    credential = s.agent.knock(knocking(code, "KM-1")).credential or ""
    s.agent.check_in(credential)
    with http(world, None) as client:
        for _ in range(12):
            client.get("/api/v1/devices")
        assert client.get("/api/v1/devices").status_code == 429
    for _ in range(30):
        s.agent.check_in(credential)
        s.devices.count()


def test_wrong_codes_are_counted_like_wrong_passwords(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(failures_per_minute=10)
    wrong = knocking("AAAAA-AAAAA", "KM-1")
    with Sortitor(world.url) as device:
        assert device.agent.knock(wrong).codes == ["pass_unknown"]
        asked = wrong.model_dump(mode="json")
        # Twice as many and more: a minute may end among them, and counting begins again.
        answers = [
            device._transport.http.post("/agent/knock", json=asked).status_code for _ in range(25)
        ]
    assert set(answers[:9]) == {200}
    assert answers.count(429) >= 5
    assert world.rows("SELECT count(*) FROM arrivals") == [(0,)]


def test_one_caller_has_so_many_places_at_once(make_world, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr("sortitor.api.http.rates._WAIT_SECONDS", 0.3)
    world: World = make_world(at_once=2)
    inside, release = threading.Semaphore(0), threading.Event()

    def held_up(_: object) -> dict[str, object]:
        inside.release()
        release.wait(20)
        return {}

    monkeypatch.setattr("sortitor.operations.devices.facets", held_up)
    with ThreadPoolExecutor(3) as threads:

        def ask(role: Role) -> int:
            with http(world, role) as client:
                return client.get("/api/v1/devices/facets").status_code

        held = [threads.submit(ask, Role.VIEWER) for _ in range(2)]
        assert all(inside.acquire(timeout=20) for _ in held)
        assert ask(Role.VIEWER) == 429
        with http(world, Role.COORDINATOR) as other:
            assert other.get("/api/v1/devices").status_code == 200
        release.set()
        assert [one.result() for one in held] == [200, 200]


def test_a_request_ends_with_its_time_and_changes_nothing(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(request_seconds=1)
    before = world.rows("SELECT count(*) FROM journal")
    with http(world) as client:
        # A lock that another holds: without an end this would wait a minute.
        import psycopg

        with psycopg.connect(world.run.owner_url) as other:
            other.execute("LOCK TABLE people IN ACCESS EXCLUSIVE MODE")
            started = time.monotonic()
            answer = client.get("/api/v1/people")
            assert time.monotonic() - started < 10
        assert (answer.status_code, answer.json()["code"]) == (503, "out_of_time")
        assert answer.headers["retry-after"]
        assert client.get("/api/v1/people").status_code == 200
    assert world.rows("SELECT count(*) FROM journal") == before


def test_a_preview_ends_when_nobody_waits_for_it(world: World) -> None:
    import psycopg

    with psycopg.connect(world.run.owner_url) as other:
        other.execute("LOCK TABLE people IN ACCESS EXCLUSIVE MODE")
        with http(world) as client, pytest.raises(httpx.ReadTimeout):
            client.get("/api/v1/people", timeout=0.5)
        until = time.monotonic() + 8
        query = "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'"
        while time.monotonic() < until and world.rows(query) != [(0,)]:
            time.sleep(0.2)
        assert world.rows(query) == [(0,)]


def test_streams_cost_no_thread_and_have_an_end(world: World) -> None:
    s = world.client()
    with http(world) as client:
        taken = client.post(
            "/api/v1/lots",
            content=b"serial\nKM-1\n",
            headers={"Content-Type": "application/octet-stream", "Prefer": "respond-async"},
        ).json()
    path = f"/api/v1/jobs/{taken['job']['id']}/events"
    lines = []
    try:
        for _ in range(12):
            line = raw(world)
            lines.append(line)
            line.sendall(
                f"GET {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer"
                f" {world.tokens[Role.COORDINATOR]}\r\n\r\n".encode()
            )
        first = [line.recv(2000) for line in lines]
        assert [b"200 OK" in one for one in first].count(True) == 10
        assert [b"429" in one.split(b"\r\n")[0] for one in first].count(True) == 2
        started = time.monotonic()
        s.accounts.me()
        assert time.monotonic() - started < 1
        world.rows("UPDATE jobs SET phase = 'half way' WHERE true RETURNING id")
        told = b""
        while b"half way" not in told:
            told += lines[0].recv(4000)
        assert b"event: job" in told
        world.rows("UPDATE jobs SET state = 'done' WHERE true RETURNING id")
        # The last chunk is empty (RFC 9112 §7.1); the connection stays open for the next request.
        while not told.endswith(b"\r\n0\r\n\r\n"):
            told += lines[0].recv(4000) or pytest.fail("closed before its end")
        assert b'"state":"done"' in told
    finally:
        for line in lines:
            line.close()


def test_links_do_not_believe_the_host(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", *(f"KM-{i}0" for i in range(5))]))
    evil = {"Host": "evil.example", "Authorization": f"Bearer {world.tokens[Role.COORDINATOR]}"}
    page = httpx.get(f"{world.url}/api/v1/devices?limit=2", headers=evil)
    made = httpx.post(f"{world.url}/api/v1/passes", headers=evil, json={"label": "x"}).json()
    assert "evil" not in page.headers["link"] + made["url"] + made["qr_svg"]
    code = made["code"].replace("-", "")
    assert made["url"].endswith(f"/welcome#{code}"), "what follows # is never sent"
    token = world.in_person().accounts.add_token("d", Role.COORDINATOR, 1, Purpose.PEOPLE).secret
    shown = httpx.get(
        f"{world.url}/scim/v2/ServiceProviderConfig",
        headers={"Host": "evil.example", "Authorization": f"Bearer {token}"},
    )
    assert "evil" not in shown.text


def test_every_answer_carries_its_headers(world: World) -> None:
    with http(world) as client:
        for path in ("/api/v1/devices", "/api/v1/nothing", "/", "/handbook/", "/healthz"):
            answer = client.get(path)
            assert answer.headers["x-content-type-options"] == "nosniff", path
            assert "strict-transport-security" not in answer.headers
            if path.startswith("/api"):
                kept = "private, no-cache" if answer.is_success else "no-store"
                assert answer.headers["cache-control"] == kept
        head = client.head("/api/v1/devices")
        whole = client.get("/api/v1/devices")
        assert (head.status_code, head.content) == (200, b"")
        assert head.headers["content-length"] == whole.headers["content-length"]
        wrong = client.patch("/api/v1/devices")
        assert (wrong.status_code, "GET" in wrong.headers["allow"]) == (405, True)
        assert client.post("/api/v1/nothing").status_code == 404


def test_behind_tls_cookies_and_answers_say_so(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(public_url="https://devices.wrenmoor.example")
    with http(world, None) as client:
        answer = client.post("/api/v1/session", json={"name": "viewer", "password": PASSWORD})
    assert "Secure" in answer.headers["set-cookie"]
    assert answer.headers["strict-transport-security"]


def test_no_secret_is_kept_for_a_repeated_request(world: World) -> None:
    with http(world) as client:
        key = {"Idempotency-Key": "k1"}
        made = client.post("/api/v1/passes", json={"label": "x"}, headers=key)
        again = client.post("/api/v1/passes", json={"label": "x"}, headers=key)
    assert (made.status_code, again.status_code, again.json()["code"]) == (201, 409, "already_done")
    with http(world, Role.ADMINISTRATOR) as client:
        given = {"name": "ann", "password": "nine grey herons wait", "role": "viewer"}
        key = {"Idempotency-Key": "k2"}
        assert client.post("/api/v1/accounts", json=given, headers=key).status_code == 201
        assert client.post("/api/v1/accounts", json=given, headers=key).status_code == 201
    kept = str(world.rows("SELECT * FROM idempotency"))
    code = made.json()["code"]
    assert code not in kept
    assert code.replace("-", "") not in kept
    body = json.dumps(given).encode()
    import hashlib

    for guess in (body, b"POST /api/v1/accounts?\n" + body):
        assert hashlib.sha256(guess).hexdigest() not in kept


def test_the_request_id_is_ours(world: World) -> None:
    with http(world) as client:
        answer = client.get("/api/v1/devices", headers={"X-Request-Id": "chosen-by-them"})
    assert answer.headers["x-request-id"] != "chosen-by-them"


def test_nothing_hangs_behind_an_exhausted_pool(make_world) -> None:  # type: ignore[no-untyped-def]
    world: World = make_world(pool_size=1)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(world.run.engine.pool, "_timeout", 0.3)
        held = [world.run.engine.connect() for _ in range(2)]
        try:
            with http(world, None) as client:
                started = time.monotonic()
                busy = client.post("/api/v1/session", json={"name": "x", "password": "y" * 12})
                assert (busy.status_code, busy.json()["code"]) == (503, "busy")
                assert busy.headers["retry-after"]
                assert client.get("/readyz").status_code == 200
                assert time.monotonic() - started < 5
        finally:
            for one in held:
                one.close()


def test_ten_thousand_identifiers_are_checked_as_columns(world: World) -> None:
    with http(world, Role.VIEWER) as client:
        given = {"selection": {"identifiers": [f"KM-{i}-X" for i in range(10_000)]}}
        started = time.monotonic()
        answer = client.post(
            "/api/v1/devices/declare/preview", json={**given, "ownership": "corporate"}
        )
    assert answer.status_code in (200, 422), answer.text
    assert time.monotonic() - started < 20, "37 ms each would be six minutes"


@pytest.mark.parametrize("pattern", ["A{n|last 1}", "A{n|letters}", "A{~n}", "A{n|first 2}"])
def test_a_counter_that_is_cut_is_a_fault_of_the_template(world: World, pattern: str) -> None:
    with http(world, Role.VIEWER) as client:
        answer = client.post(
            "/api/v1/naming/preview",
            json={"selection": {}, "templates": [{"name": "t", "pattern": pattern}]},
        )
    assert (answer.status_code, "counter that is cut" in answer.text) == (422, True)


def test_edits_say_what_they_were_made_from(world: World) -> None:
    with http(world) as client:
        pool = {"name": "Decks", "seats": 5}
        made = client.post("/api/v1/pools", json=pool)
        path = f"/api/v1/pools/{made.json()['id']}"
        assert client.put(path, json={**pool, "seats": 6}).status_code == 428
        etag = {"If-Match": made.headers["etag"]}
        assert client.put(path, json={**pool, "seats": 6}, headers=etag).status_code == 200
        assert client.put(path, json={**pool, "seats": 7}, headers=etag).status_code == 412
        shown = client.get("/api/v1/naming")
        templates = {"templates": [{"name": "t", "pattern": "A{n}"}]}
        assert client.post("/api/v1/naming/save", json=templates).status_code == 428
        etag = {"If-Match": shown.headers["etag"]}
        saved = client.post("/api/v1/naming/save", json=templates, headers=etag)
        assert saved.status_code == 200
        again = client.post("/api/v1/naming/save", json=templates, headers=etag)
        assert again.status_code == 412


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", "/api/v1/orders", {"name": "WL-1", "ordered_on": 0}),
        (
            "POST",
            "/api/v1/orders/preview",
            {"name": "WL-1", "lines": [{"product": "x", "quantity": "5"}]},
        ),
        (
            "POST",
            "/api/v1/devices/declare/preview",
            {"selection": {"person_id": False}, "ownership": "corporate"},
        ),
        (
            "POST",
            "/api/v1/devices/declare/preview",
            {"selection": {"ids": [True]}, "ownership": "corporate"},
        ),
        ("POST", "/api/v1/pools/preview", {"name": "x", "seats": "many"}),
        ("POST", "/api/v1/pools/preview", {"name": "a\x00b", "seats": 1}),
        ("POST", "/api/v1/filters/check", {"filter": 'name eq "\ud800"'}),
    ],
)
def test_types_are_taken_as_they_are(world: World, method: str, path: str, body: object) -> None:
    with http(world) as client:
        text = json.dumps(body).encode()
        headers = {"Content-Type": "application/json"}
        answer = client.request(method, path, content=text, headers=headers)
    assert answer.status_code in (404, 422), answer.text
    if answer.status_code == 422:
        assert answer.headers["content-type"] == "application/problem+json"


def test_cursors_made_by_hand(world: World) -> None:
    import base64

    with http(world) as client:
        for value in (True, 10**30, [1, 2, 3], {"a": 1}, "x", [None, None], ["x", 10**40], 1.5):
            cursor = base64.urlsafe_b64encode(json.dumps(value).encode()).decode()
            for path in ("devices", "journal", "arrivals", "jobs", "people", "lots", "passes"):
                answer = client.get(f"/api/v1/{path}", params={"cursor": cursor})
                assert answer.status_code in (200, 422), (path, value, answer.text)


def test_refused_and_forgotten_sessions(world: World) -> None:
    with Sortitor(world.url) as s:
        s.accounts.sign_in("viewer", PASSWORD)
        [mine] = s.accounts.sessions()
        assert mine.address == "127.0.0.1"
        world.rows("UPDATE sessions SET used_at = now() - interval '5 hours' RETURNING id")
        with pytest.raises(SignInNeeded):
            s.accounts.me()
    with pytest.raises(Refused):
        world.client(Role.VIEWER).accounts.sessions(2)


@pytest.mark.parametrize("number", ["²", "9" * 19, "9" * 5_000])
def test_what_is_no_number_is_refused_with_words(world: World, number: str) -> None:
    world.client().cohorts.add(Cohort(name="Crew"))
    headers = {b"if-match": f'"{number}"'.encode("latin-1")}
    with http(world) as client:
        answer = client.patch("/api/v1/cohorts/1", json={"note": "x"}, headers=headers)
    assert (answer.status_code, answer.json()["code"]) == (422, "bad_etag")
