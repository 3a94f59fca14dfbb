"""Runs of sources: by schedule and once, from an address that may do anything, one at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from tests.sources import run
from tests.worlds import World

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RunState, SourceKind, SourceState
from sortitor.operations import jobs


@dataclass
class Shop:
    """What an address answers with, and what it was asked."""

    content: bytes = b"serial,maker\nKM-10001,Kelmar\nKM-10002,Kelmar\n"
    status: int = 200
    headers: dict[str, str] = field(default_factory=dict)
    asked: list[dict[str, str]] = field(default_factory=list)
    gate: threading.Event = field(default_factory=threading.Event)
    url: str = ""


@pytest.fixture
def shop() -> Iterator[Shop]:
    """A server of files on loopback."""
    made = Shop()
    made.gate.set()

    class Answers(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            made.asked.append({name.lower(): value for name, value in self.headers.items()})
            made.gate.wait(20)
            same = made.headers.get("ETag") and self.headers.get("If-None-Match")
            self.send_response(304 if same == made.headers.get("ETag", "-") else made.status)
            for name, value in made.headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(made.content)))
            self.end_headers()
            self.wfile.write(made.content)

        def log_message(self, *_: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    made.url = f"http://127.0.0.1:{server.server_port}/yard.csv"
    yield made
    made.gate.set()
    server.shutdown()
    server.server_close()
    thread.join()


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """A service that may ask this machine, with a worker."""
    return make_world(source_networks="127.0.0.0/8", source_megabytes=1, worker=True)


@pytest.fixture
def s(world: World) -> Sortitor:
    """A coordinator's client."""
    return world.client()


def document(shop: Shop, **more: Any) -> Source:
    return Source(name="Yard", kind=SourceKind.ROSTER, address=shop.url, **more)


def add(s: Sortitor, shop: Shop, **more: Any) -> str:
    return s.sources.add(document(shop, **more)).name


def test_what_has_not_changed_is_not_read_again(s: Sortitor, shop: Shop) -> None:
    """By its ETag; a token is shown; what changed is told."""
    source = add(s, shop)
    s.sources.give(source, "s3cret")
    shop.headers["ETag"] = '"one"'
    assert run(s, source).counts == {"devices_added": 2}
    assert run(s, source).counts == {}
    assert shop.asked[-1]["if-none-match"] == '"one"'
    assert shop.asked[-1]["authorization"] == "Bearer s3cret"
    shop.headers["ETag"] = '"two"'
    shop.content = b"serial,maker\nKM-10002,Kelmar\nKM-10003,Kelmar\n"
    assert run(s, source).counts == {"devices_added": 1, "devices_gone": 1}


def test_no_preview_shows_a_credential_to_another_place(s: Sortitor, shop: Shop) -> None:
    """Neither a look nor a preview of another scope sends it where somebody else says."""
    mine = "http://127.0.0.1:9/yard.csv"
    source = s.sources.add(Source(name="Yard", kind=SourceKind.ROSTER, address=mine)).id
    s.sources.give(source, "s3cret")
    there = Source(name="Yard", kind=SourceKind.ROSTER, address=shop.url)
    s.sources.sample(source, there)
    s.sources.preview_scope(source, there)
    assert len(shop.asked) == 2
    assert not [asked for asked in shop.asked if "authorization" in asked]


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"status": 404}, "refused"),
        ({"status": 401}, "token_refused"),
        ({"status": 302, "headers": {"Location": "http://127.0.0.1/"}}, "moved"),
        ({"content": b"x" * 1_100_000}, "too_large"),
        ({"content": b""}, "empty_file"),
        ({"content": b"maker\nKelmar\n"}, "no_number_column"),
        ({"content": b"%PDF-1.4 hello"}, None),
    ],
)
def test_an_address_that_gives_no_roster(
    s: Sortitor, shop: Shop, change: dict[str, Any], code: str | None
) -> None:
    """What was known stands, and the source says what is wrong."""
    source = add(s, shop)
    run(s, source)
    for name, value in change.items():
        setattr(shop, name, value)
    with pytest.raises(Refused) as refused:
        run(s, source)
    assert code in (None, refused.value.problem.code)
    shown = s.sources.show(source)
    assert (shown.state, shown.devices) == (SourceState.FAILING, 2)
    assert shown.last_problem is not None
    assert shown.last_problem["code"] == refused.value.problem.code


def test_two_runs_of_one_source_never_overlap(world: World, s: Sortitor, shop: Shop) -> None:
    """Whoever asks a second time is told; the schedule asks for none beside it."""
    source = add(s, shop)
    shop.gate.clear()
    job = s.sources.run(source)
    # Only now, so that the worker's own schedule does not come first.
    s.sources.edit(source, document(shop, every_minutes=5))
    with pytest.raises(Refused) as refused:
        s.sources.run(source)
    assert refused.value.problem.code == "runs_already"
    assert jobs.ask_due_sources(world.run.context("schedule")) == []
    shop.gate.set()
    s.jobs.follow(job, lambda job: None)
    assert len(list(s.sources.runs(source))) == 1


def test_the_schedule_asks_once_whoever_asks(world: World, s: Sortitor, shop: Shop) -> None:
    """Two processes look at the same moment: one run; and none before its time."""
    source = add(s, shop, every_minutes=30)
    shop.gate.clear()
    ctx = world.run.context("schedule")
    # The worker's own schedule may have been quicker.
    assert len([*jobs.ask_due_sources(ctx), *jobs.ask_due_sources(ctx)]) <= 1
    [first] = s.jobs.list()
    shop.gate.set()
    s.jobs.follow(first, lambda job: None)
    assert jobs.ask_due_sources(ctx) == []
    world.later(minutes=31)
    [again] = jobs.ask_due_sources(ctx)
    s.jobs.follow(s.jobs.show(again.id), lambda job: None)
    assert [one.by for one in s.sources.runs(source)] == ["schedule", "schedule"]
    world.later(hours=50)
    assert s.sources.show(source).state is SourceState.LATE


def test_a_run_is_stopped(s: Sortitor, shop: Shop) -> None:
    """Nothing of it is kept, and the next one may begin."""
    source = add(s, shop)
    shop.gate.clear()
    job = s.sources.run(source)
    s.jobs.cancel(job.id)
    shop.gate.set()
    with pytest.raises(Refused):
        s.jobs.follow(job, lambda job: None)
    [stopped] = s.sources.runs(source)
    assert stopped.state is RunState.CANCELLED
    assert run(s, source).counts == {"devices_added": 2}
