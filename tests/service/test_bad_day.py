"""Hostile and broken input: a clear error, the right status, nothing written."""

from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from tests.worlds import World, http, imei

WIDE = ",".join(f"column {i}" for i in range(10_000)).encode() + b"\n" + b"x" * 10 + b"\n"

FILES = {
    "binary": (bytes(range(256)) * 50, 415, "not_text"),
    "nul": (b"serial\nKM\x001\n", 415, "not_text"),
    "header alone": (b"serial,imei\n", 422, "no_rows"),
    "empty": (b"", 422, "empty_file"),
    "blank": (b" \n \n", 422, "empty_file"),
    "ten thousand columns": (WIDE, 413, "too_many_columns"),
    "open quote": (b'serial,site\n"KM-1,Dunlin\nKM-2,Petrel\n', 422, "unreadable_row"),
}


def _nothing_written(world: World) -> None:
    for table in ("devices", "identifiers", "lots", "lot_rows", "people", "arrivals"):
        assert world.rows(f"SELECT count(*) FROM {table}") == [(0,)], table


@pytest.mark.parametrize("name", FILES)
def test_a_file_that_is_no_manifest(world: World, name: str) -> None:
    content, status, code = FILES[name]
    with http(world) as client:
        answer = client.post("/api/v1/lots", content=content, headers={"Content-Type": "text/csv"})
    assert (answer.status_code, answer.json()["code"]) == (status, code), answer.text
    assert answer.json()["detail"]
    assert answer.json()["remedy"]
    assert answer.headers["content-type"].startswith("application/problem+json")
    _nothing_written(world)


def test_a_file_over_the_limit_is_refused_while_it_arrives(make_world) -> None:
    world = make_world(max_upload_bytes=2_000_000)
    read = 0

    def endless():
        nonlocal read
        yield b"serial\n"
        for _ in range(200):
            read += 1_000_000
            yield b"KM-0000001\n" * 90_910

    # The service may have closed before a busy sender has read the answer.
    with http(world) as client, suppress(httpx.TransportError):
        assert (
            client.post(
                "/api/v1/lots", content=endless(), headers={"Content-Type": "text/csv"}
            ).status_code
            == 413
        )
    assert read < 100_000_000, "the 200 MB were never taken in"
    _nothing_written(world)


def test_a_file_that_states_too_great_a_length(make_world) -> None:
    world = make_world(max_upload_bytes=100_000)
    with http(world) as client:
        answer = client.post(
            "/api/v1/lots",
            content=b"serial\n" + b"KM-1\n" * 50_000,
            headers={"Content-Type": "text/csv"},
        )
    assert answer.status_code == 413
    assert "100 kB" in answer.json()["detail"]


REQUESTS = {
    "negative quota": (
        "POST",
        "/api/v1/gate/preview",
        {"policies": [{"name": "Baseline", "quota": -1}]},
        422,
    ),
    "unknown field": ("POST", "/api/v1/pools", {"name": "p", "seats": 1, "colour": "red"}, 422),
    "no json": ("POST", "/api/v1/pools", "{", 422),
    "negative seats": ("POST", "/api/v1/pools", {"name": "p", "seats": -1}, 422),
    "window below": ("POST", "/api/v1/sweep-rules", {"name": "r", "idle_window_days": 20}, 422),
    "unknown group": (
        "POST",
        "/api/v1/gate/preview",
        {"policies": [{"name": "A", "groups": ["Nobody"]}]},
        422,
    ),
    "bad cursor": ("GET", "/api/v1/devices?cursor=!!!", None, 422),
    "cursor of another list": ("GET", "/api/v1/lots?cursor=WyJhIiwxXQ", None, 422),
    "too large a page": ("GET", "/api/v1/devices?limit=501", None, 422),
    "no such device": ("GET", "/api/v1/devices/999", None, 404),
    "no such number": ("GET", "/api/v1/devices/999999999999999999999", None, 422),
    "no such address": ("GET", "/api/v1/nothing", None, 404),
    "wrong method": ("PUT", "/api/v1/lots", {}, 405),
    "wrong media type": ("POST", "/api/v1/lots", {"a": 1}, 415),
    "no etag": ("PUT", "/api/v1/pools/1", {"name": "p", "seats": 1}, 428),
    "lone surrogate": ("GET", "/api/v1/devices?query=%ED%A0%80", None, 200),
    "nul in a search": ("GET", "/api/v1/devices?query=a%00b", None, 422),
    "nul in a name": ("POST", "/api/v1/pools", {"name": "a\u0000b", "seats": 1}, 422),
}


@pytest.mark.parametrize("name", REQUESTS)
def test_a_request_that_cannot_be(world: World, name: str) -> None:
    method, path, body, status = REQUESTS[name]
    with http(world) as client:
        given = (
            {"content": body, "headers": {"Content-Type": "application/json"}}
            if isinstance(body, str)
            else {"json": body}
        )
        answer = client.request(method, path, **(given if body is not None else {}))
    assert answer.status_code == status, answer.text
    if status >= 400:
        problem = answer.json()
        assert problem["status"] == status
        assert problem["detail"]
        assert problem["request_id"] == answer.headers["x-request-id"]
    _nothing_written(world)


def test_a_formula_in_a_name_neither_enters_nor_leaves(world: World, tmp_path: Path) -> None:
    s = world.client()
    people = tmp_path / "people.csv"
    people.write_text("user name,name\nmaud,=HYPERLINK(1)\n")
    with http(world) as client:
        answer = client.post(
            "/api/v1/people/imports/preview",
            content=people.read_bytes(),
            headers={"Content-Type": "text/csv"},
        )
        assert answer.status_code == 422
        assert "row 2" in answer.json()["detail"]
    lot = tmp_path / "lot.csv"
    lot.write_text("serial,note\n-KM1,plain\n")
    made = s.lots.check(lot)
    s.lots.apply(made.id, s.lots.preview(made.id).digest)
    assert "'-KM1" in s.devices.csv()


def test_a_bad_token_and_a_bad_credential(world: World) -> None:
    with http(world, None) as client:
        assert (
            client.get("/api/v1/devices", headers={"Authorization": "Bearer nonsense"}).status_code
            == 401
        )
        assert (
            client.post(
                "/api/v1/agent/check-in", json={}, headers={"Authorization": "Bearer nonsense"}
            ).status_code
            == 401
        )
        assert client.post("/api/v1/agent/check-in", json={}).status_code == 401


@pytest.mark.parametrize(
    "stated",
    [
        {},
        {"serial": "TBC"},
        {"imeis": ["3.5E+14"]},
        {"serial": "KM-1", "os_version": "fourteen"},
        {"serial": "KM-1", "imeis": [imei(1)] * 5},
    ],
)
def test_a_knock_that_makes_no_sense(world: World, stated: dict[str, object]) -> None:
    with http(world, None) as client:
        answer = client.post(
            "/api/v1/agent/knock", json={"code": "AAAAA-AAAAA", "platform": "android", **stated}
        )
    assert answer.status_code == 422
    assert answer.json()["detail"]
    _nothing_written(world)
