"""One call: retries keep their key, problems become exceptions, pages are followed."""

import httpx
import pytest
from pydantic import BaseModel

from sortitor.client import Sortitor
from sortitor.client.errors import (
    Broken,
    Conflict,
    FactsMoved,
    Invalid,
    NotAllowed,
    NotFound,
    Refused,
    SignInNeeded,
    SlowDown,
    SortitorError,
    Stale,
    TimedOut,
    Unreachable,
    Unreadable,
    job_problem,
)
from sortitor.schemas.jobs import Job

PROBLEM = {"type": "urn:x", "title": "t", "detail": "what", "code": "c", "remedy": "do"}
EMPTY = {
    "title": "t",
    "apply_label": "a",
    "counts": [],
    "examples": [],
    "examples_total": 0,
    "warnings": [],
    "bars": [],
    "bars_line_days": None,
    "digest": "d",
}


class Item(BaseModel):
    id: int


def client(
    *answers: httpx.Response | Exception, monkeypatch: pytest.MonkeyPatch
) -> tuple[Sortitor, list[httpx.Request]]:
    """A client whose service gives these answers in turn."""
    monkeypatch.setattr("time.sleep", lambda _: None)
    asked: list[httpx.Request] = []
    waiting = list(answers)

    def answer(request: httpx.Request) -> httpx.Response:
        asked.append(request)
        given = waiting.pop(0)
        if isinstance(given, Exception):
            raise given
        return given

    s = Sortitor("http://sortitor.example", "token")
    s._transport.http.close()
    s._transport.http = httpx.Client(
        transport=httpx.MockTransport(answer),
        base_url="http://sortitor.example/api/v1",
        headers=s._transport.http.headers,
    )
    return s, asked


def test_a_post_is_tried_again_under_the_same_key(monkeypatch: pytest.MonkeyPatch) -> None:
    s, asked = client(
        httpx.ConnectError("away"),
        httpx.Response(503, json={**PROBLEM, "status": 503}),
        httpx.Response(204),
        monkeypatch=monkeypatch,
    )
    with s:
        s.devices.name(1, "LAMP-1")
    assert len({request.headers["idempotency-key"] for request in asked}) == 1
    assert len(asked) == 3
    assert asked[0].headers["authorization"] == "Bearer token"


@pytest.mark.parametrize(
    ("status", "kind"),
    [
        (401, SignInNeeded),
        (403, NotAllowed),
        (404, NotFound),
        (409, Conflict),
        (412, Stale),
        (428, Stale),
        (422, Invalid),
        (415, Invalid),
        (418, Refused),
        (500, Broken),
    ],
)
def test_a_problem_is_an_exception_with_its_words(
    status: int, kind: type[Exception], monkeypatch: pytest.MonkeyPatch
) -> None:
    s, asked = client(
        httpx.Response(status, json={**PROBLEM, "status": status}), monkeypatch=monkeypatch
    )
    with s, pytest.raises(SortitorError, match="what") as caught:
        s.devices.show(1)
    assert type(caught.value) is kind
    assert caught.value.problem.remedy == "do"
    assert len(asked) == 1, "what is refused is not tried again"


def test_what_is_not_the_moment_is_tried_again_when_the_service_says(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    busy = httpx.Response(429, json={**PROBLEM, "status": 429}, headers={"Retry-After": "7"})
    s, asked = client(busy, httpx.Response(204), monkeypatch=monkeypatch)
    waits: list[float] = []
    monkeypatch.setattr("tenacity.nap.time.sleep", waits.append)
    with s:
        s.devices.name(1, "LAMP-1")
    assert (len(asked), waits) == (2, [7.0])
    late = httpx.Response(429, json={**PROBLEM, "status": 429}, headers={"Retry-After": "600"})
    s, asked = client(late, monkeypatch=monkeypatch)
    with s, pytest.raises(SlowDown) as caught:
        s.devices.show(1)
    assert (len(asked), caught.value.seconds) == (1, 600), "nobody waits ten minutes unasked"


@pytest.mark.parametrize(
    "told", ["soon", "²", "-1", "9" * 5_000, "Mon, 01 Jan 0001 00:00:00 -0000", "Mon, 99 Jan 2026"]
)
def test_a_time_to_wait_that_is_none_is_not_waited_for(
    told: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    headers = {"Retry-After": told.encode("latin-1"), "Date": b"Sat, 28 Nov 2026 10:00:00 GMT"}
    busy = httpx.Response(503, json={**PROBLEM, "status": 503}, headers=headers)
    s, asked = client(busy, httpx.Response(204), monkeypatch=monkeypatch)
    waits: list[float] = []
    monkeypatch.setattr("tenacity.nap.time.sleep", waits.append)
    with s:
        s.devices.name(1, "LAMP-1")
    assert len(asked) == 2
    assert waits[0] < 1


def test_what_may_have_been_done_is_not_repeated(monkeypatch: pytest.MonkeyPatch) -> None:
    for fault in (httpx.ReadError("cut"), httpx.ReadTimeout("late")):
        s, asked = client(fault, monkeypatch=monkeypatch)
        with s, pytest.raises(Unreachable) as caught:
            s.pools.patch(1, {"seats": 3}, revision=1)
        assert len(asked) == 1
        assert isinstance(caught.value, TimedOut) == isinstance(fault, httpx.ReadTimeout)
    away = httpx.ConnectError("away")
    s, asked = client(away, httpx.Response(204), monkeypatch=monkeypatch)
    with s:
        s.pools.remove(1, revision=1)
    assert len(asked) == 2, "nothing had been sent"


def test_facts_that_moved_bring_the_new_preview(monkeypatch: pytest.MonkeyPatch) -> None:
    s, _ = client(
        httpx.Response(409, json={**PROBLEM, "status": 409, "preview": EMPTY}),
        monkeypatch=monkeypatch,
    )
    with s, pytest.raises(FactsMoved) as caught:
        s.lots.apply(1, "old")
    assert caught.value.preview.digest == "d"


def test_an_answer_that_is_no_problem_document_is_told_too(monkeypatch: pytest.MonkeyPatch) -> None:
    s, _ = client(*[httpx.Response(502, text="<html>gateway</html>")] * 3, monkeypatch=monkeypatch)
    with s, pytest.raises(Broken, match="502"):
        s.devices.show(1)


def test_an_answer_of_something_else_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    for answer in (
        httpx.Response(200, text="<html>welcome</html>"),
        httpx.Response(200, json={"items": [{"id": 1}], "next": None}),
    ):
        s, _ = client(answer, monkeypatch=monkeypatch)
        with s, pytest.raises(Unreadable, match="cannot read"):
            s.groups.list()


def test_a_request_can_be_held_back_by_whoever_is_asked_first(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    s, asked = client(httpx.Response(204), monkeypatch=monkeypatch)
    seen: list[tuple[str, str]] = []

    def ask(method: str, address: str) -> None:
        seen.append((method, address))
        raise LookupError

    s.ask_first(ask)
    with s, pytest.raises(LookupError):
        s.devices.name(1, "LAMP-1")
    assert asked == []
    [(method, address)] = seen
    assert method == "POST"
    assert "/devices/1/" in address


def test_nobody_there(monkeypatch: pytest.MonkeyPatch) -> None:
    s, asked = client(*[httpx.ConnectError("away")] * 3, monkeypatch=monkeypatch)
    with s, pytest.raises(Unreachable, match="does not answer"):
        s.devices.show(1)
    assert len(asked) == 3


def test_pages_are_followed_as_far_as_they_are_wanted(monkeypatch: pytest.MonkeyPatch) -> None:
    pages = [
        httpx.Response(200, json={"items": [{"id": n} for n in part], "next": cursor})
        for part, cursor in (([1, 2], "a"), ([3, 4], "b"), ([5], None))
    ]
    s, asked = client(*pages, monkeypatch=monkeypatch)
    with s:
        assert [
            item.id
            for item in s._transport.pages(Item, "/x", {"query": "q", "none": None, "empty": []})
        ] == [1, 2, 3, 4, 5]
    assert [dict(request.url.params).get("cursor") for request in asked] == [None, "a", "b"]
    assert all(
        "none" not in request.url.params and "empty" not in request.url.params for request in asked
    )
    s, asked = client(
        httpx.Response(200, json={"items": [{"id": 1}], "next": "a"}), monkeypatch=monkeypatch
    )
    with s:
        assert [item.id for item in s._transport.pages(Item, "/x", {}, most=1)] == [1]
    assert asked[0].url.params["limit"] == "1"


def a_job(**values: object) -> Job:
    given = {
        "id": 1,
        "kind": "apply",
        "title": "Apply lot 1",
        "subject_id": 1,
        "actor": "x",
        "state": "failed",
        "phase": "",
        "done": 0,
        "total": 0,
        "created_at": "2026-01-01T00:00:00Z",
        "started_at": None,
        "finished_at": None,
        "problem": None,
        "result": "/x",
    }
    return Job.model_validate({**given, **values})


def test_what_a_job_failed_of() -> None:
    assert isinstance(
        job_problem(a_job(problem={"code": "facts", "detail": "moved", "remedy": "look"})), Refused
    )
    assert isinstance(
        job_problem(a_job(problem={"code": "unexpected", "detail": "oh", "remedy": "again"})),
        Broken,
    )
    assert "stopped" in str(job_problem(a_job(state="cancelled")))


def test_a_job_is_followed_to_its_end(monkeypatch: pytest.MonkeyPatch) -> None:
    states = [a_job(state="running", done=1, total=2), a_job(state="done", done=2, total=2)]
    s, _ = client(
        *[httpx.Response(200, content=job.model_dump_json()) for job in states],
        monkeypatch=monkeypatch,
    )
    seen: list[str] = []
    with s:
        s.jobs.follow(a_job(state="waiting"), lambda job: seen.append(job.state))
    assert seen == ["waiting", "running", "done"]
