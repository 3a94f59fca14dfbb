"""What is done one after the other, so that nobody can take the place of all: hashing, batches of
check-ins, arrivals of one device.
"""

import asyncio
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import psycopg
import pytest
from tests.worlds import World, a_pass, in_a_loop, knocking

from sortitor.api.http import sign_ins
from sortitor.api.http.sign_ins import SignIns, on_the_hashing_thread
from sortitor.client import Sortitor
from sortitor.core.errors import NotSignedIn, SlowDown, Unavailable
from sortitor.core.lifecycle import Sighting
from sortitor.core.vocabulary import Activation, Outcome, Role
from sortitor.operations import accounts
from sortitor.operations.checkins import CheckIns, Seen
from sortitor.operations.context import Actor, Context


@dataclass
class Refusing(CheckIns):
    """A database that takes no text with a NUL, in whatever batch it comes."""

    batches: list[int] = field(default_factory=list)

    async def many(self, batch: Sequence[Sighting]) -> list[Seen]:
        self.batches.append(len(batch))
        if any("\0" in (one.os_version or "") for one in batch):
            raise ValueError("a NUL")
        return [(1, None, "active") for _ in batch]


def test_a_batch_that_fails_is_tried_one_by_one(world: World) -> None:
    async def all_at_once(versions: Sequence[str]) -> tuple[list[object], list[int]]:
        door = Refusing(pool=None, clock=world.run.clock)  # type: ignore[arg-type]
        sightings = [Sighting(b"x", world.now, version) for version in versions]
        answers = await asyncio.gather(*map(door.one, sightings), return_exceptions=True)
        return list(answers), door.batches

    answers, batches = in_a_loop(all_at_once(["14", "14\0", "14.2"]))
    assert [isinstance(one, ValueError) for one in answers] == [False, True, False]
    assert batches == [3, 1, 1, 1]


def test_a_batch_is_not_tried_one_by_one_where_the_database_is_away(world: World) -> None:
    class Away(Refusing):
        async def many(self, batch: Sequence[Sighting]) -> list[Seen]:
            self.batches.append(len(batch))
            raise Unavailable("unavailable", "The database is away.", "")

    async def two() -> tuple[list[object], list[int]]:
        door = Away(pool=None, clock=world.run.clock)  # type: ignore[arg-type]
        sightings = [Sighting(b"x", world.now, "14") for _ in range(2)]
        answers = await asyncio.gather(*map(door.one, sightings), return_exceptions=True)
        return list(answers), door.batches

    answers, batches = in_a_loop(two())
    assert all(isinstance(one, Unavailable) for one in answers)
    assert batches == [2]


def test_one_password_is_checked_at_a_time() -> None:
    inside, most, lock = 0, 0, threading.Lock()

    def check() -> None:
        nonlocal inside, most
        with lock:
            inside += 1
            most = max(most, inside)
        time.sleep(0.01)
        with lock:
            inside -= 1

    async def twelve() -> None:
        await asyncio.gather(*(on_the_hashing_thread(check) for _ in range(12)))

    in_a_loop(twelve())
    assert most == 1


def test_no_more_than_sixty_wait_for_their_password(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    going = threading.Event()

    def never_right(*given: object) -> None:
        assert going.wait(20)
        raise NotSignedIn("not_signed_in", "No.", "")

    monkeypatch.setattr(accounts, "try_password", never_right)
    ctx = Context(world.run.engine, world.run.clock, world.run.limits, Actor("x", Role.VIEWER))

    async def a_hundred() -> list[object]:
        door = SignIns()
        tries = [
            asyncio.create_task(door.attempt(ctx, f"guess {n}", "guess", "192.0.2.1"))
            for n in range(100)
        ]
        await asyncio.sleep(0.05)
        going.set()
        return list(await asyncio.gather(*tries, return_exceptions=True))

    answers = in_a_loop(a_hundred())
    assert sum(isinstance(one, SlowDown) for one in answers) == 100 - sign_ins._MOST_WAITING
    assert sum(isinstance(one, NotSignedIn) for one in answers) == sign_ins._MOST_WAITING


def test_arrivals_of_one_device_wait_for_each_other_before_anything_is_read(world: World) -> None:
    """Whoever holds the identifier goes first; other devices pass by."""
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    held = "SELECT pg_advisory_xact_lock(hashtextextended('serial:KM-1', 0))"
    waiting = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted"

    def knock(serial: str) -> str:
        with Sortitor(world.url) as device:
            return device.agent.knock(knocking(code, serial)).outcome

    with ThreadPoolExecutor(1) as thread, psycopg.connect(world.run.owner_url) as holder:
        holder.execute(held)
        late = thread.submit(knock, "KM-1")
        until = time.monotonic() + 10
        while world.rows(waiting) != [(1,)]:
            assert time.monotonic() < until, "nobody waits for the identifier"
            assert not late.done()
        assert knock("KM-2") == Outcome.ADMITTED
        holder.rollback()
        assert late.result(10) == Outcome.ADMITTED
