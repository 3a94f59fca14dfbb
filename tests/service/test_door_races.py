"""The door under stress: everybody at once, on two processes; always exactly the allowed number."""

from __future__ import annotations

import contextlib
import os
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TypeAlias

import psycopg
import pytest
from tests.doors import knock_at_once
from tests.worlds import (
    Database,
    World,
    a_pass,
    change_baseline,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.vocabulary import Activation, Outcome, Role
from sortitor.schemas.arrivals import WayAnswers
from sortitor.schemas.naming import Template
from sortitor.schemas.passes import PassTerms

#: How often a race is run; a hundred times by `make large`.
RUNS = int(os.environ.get("SORTITOR_TEST_RUNS", "4"))
Services: TypeAlias = tuple[str, str, str]


def test_sixty_knocks_at_once_with_one_person_and_quota_three_admit_three(
    two_services: Services, database: Database, tmp_path: Path
) -> None:
    one, two, url = two_services
    with Sortitor(one, database.tokens[Role.COORDINATOR]) as s:
        import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
        change_baseline(s, quota=3)
        code = a_pass(s, person="maud")
    stated = {
        "code": code,
        "platform": "android",
        "os_version": "14",
        "person": "maud",
        "maker": "Kelmar",
    }
    answers = knock_at_once([one, two], [{**stated, "serial": f"KM-{i:03}"} for i in range(60)])
    assert {a.status_code for a in answers} == {200}
    outcomes = Counter(a.json()["outcome"] for a in answers)
    assert outcomes == {"admitted": 3, "refused": 57}
    assert {code for a in answers for code in a.json()["codes"]} == {"quota_reached"}
    with psycopg.connect(url) as connection:
        assert connection.execute(
            "SELECT stage, count(*) FROM devices GROUP BY stage"
        ).fetchall() == [("active", 3)]
        assert connection.execute(
            "SELECT count(*), count(DISTINCT lower(name)) FROM devices"
        ).fetchone() == (3, 3)


def test_a_pass_of_five_uses_lets_five_in_however_many_come_at_once(
    two_services: Services, database: Database
) -> None:
    one, two, _ = two_services
    with Sortitor(one, database.tokens[Role.COORDINATOR]) as s:
        code = a_pass(s, activation=Activation.SHARED, max_uses=5)
    answers = knock_at_once(
        [one, two], [{"code": code, "platform": "linux", "serial": f"BW-{i:03}"} for i in range(24)]
    )
    assert Counter(a.json().get("outcome", a.json().get("code")) for a in answers)["admitted"] == 5
    assert {a.status_code for a in answers} <= {200, 409}


def test_one_device_knocking_many_times_at_once_is_one_device(
    two_services: Services, database: Database
) -> None:
    one, two, url = two_services
    with Sortitor(one, database.tokens[Role.COORDINATOR]) as s:
        code = a_pass(s, activation=Activation.SHARED)
    answers = knock_at_once(
        [one, two],
        [{"code": code, "platform": "linux", "serial": "BW-1", "maker": "Brackwell"}] * 12,
    )
    assert {a.status_code for a in answers} == {200}
    assert len({a.json()["device_id"] for a in answers}) == 1
    with psycopg.connect(url) as connection:
        assert connection.execute(
            "SELECT count(*) FROM credentials WHERE revoked_at IS NULL AND claim_id IS NULL"
        ).fetchone() == (1,)


def test_a_number_is_drawn_while_another_device_is_still_on_its_way_in(world: World) -> None:
    s = world.client()
    s.naming.save([Template(name="deck", pattern="DECK-{n|pad 4}")])
    held, free = a_pass(s), a_pass(s)
    with psycopg.connect(world.run.owner_url) as connection, ThreadPoolExecutor(1) as threads:
        connection.execute("SELECT FROM passes WHERE id = 1 FOR UPDATE")
        first = threads.submit(s.agent.knock, knocking(held, "KM-1"))
        until = time.monotonic() + 20
        while not connection.execute("SELECT FROM counters").fetchall():
            assert time.monotonic() < until
        assert s.agent.knock(knocking(free, "KM-2")).name == "DECK-0002"
        assert not first.done()
        connection.commit()
        assert first.result().name == "DECK-0001"


def test_more_devices_than_connections_get_their_numbers(
    make_world: Callable[..., World],
) -> None:
    world = make_world(pool_size=1)
    s = world.client()
    s.naming.save([Template(name="deck", pattern="DECK-{n|pad 4}")])
    code = a_pass(s, activation=Activation.SHARED)
    answers = knock_at_once(
        [world.url], [{"code": code, "platform": "linux", "serial": f"BW-{i}"} for i in range(24)]
    )
    assert sorted(a.json().get("name") for a in answers) == [f"DECK-{n:04}" for n in range(1, 25)]


def test_devices_that_arrive_while_they_are_renamed_wait_for_nobody(
    two_services: Services, database: Database, tmp_path: Path
) -> None:
    one, two, url = two_services
    serials = [f"KM-{i:03}" for i in range(60)]
    with Sortitor(one, database.tokens[Role.COORDINATOR]) as s:
        s.naming.save([Template(name="deck", pattern="DECK-{n|pad 4}")])
        lines = [f"{serial},Kelmar,android" for serial in serials]
        import_lot(s, manifest(tmp_path, ["serial,maker,platform", *lines]))
        code = a_pass(s, activation=Activation.SHARED)
        bodies = [knocking(code, serial).model_dump(exclude_none=True) for serial in serials]
        with ThreadPoolExecutor(1) as threads:
            knocks = threads.submit(knock_at_once, [one, two], bodies)
            while not knocks.done():
                with contextlib.suppress(FactsMoved):
                    s.naming.rename(s.naming.preview().digest)
            answers = knocks.result()
    assert {a.status_code for a in answers} == {200}
    with psycopg.connect(url) as connection:
        found = connection.execute("SELECT count(*), count(DISTINCT name) FROM devices")
        assert found.fetchone() == (60, 60)
        assert deadlocks(connection) == 0


@pytest.mark.large
def test_a_pass_of_ten_raced_by_forty_lets_ten_in_each_time(
    two_services: Services, database: Database
) -> None:
    one, two, url = two_services
    for run in range(RUNS):
        with Sortitor(one, database.tokens[Role.COORDINATOR]) as s:
            code = a_pass(s, activation=Activation.SHARED, max_uses=10)
        bodies = [
            {"code": code, "platform": "linux", "serial": f"BW-{run}-{i:03}"} for i in range(40)
        ]
        answers = knock_at_once([one, two], bodies)
        assert {a.status_code for a in answers} == {200}
        assert Counter(a.json()["outcome"] for a in answers) == {"admitted": 10, "refused": 30}
    with psycopg.connect(url) as connection:
        found = connection.execute("SELECT count(*), count(DISTINCT lower(name)) FROM devices")
        assert found.fetchone() == (10 * RUNS, 10 * RUNS)
        assert deadlocks(connection) == 0


@pytest.mark.large
def test_knocks_assignments_a_returning_device_and_a_revert_at_once_keep_the_quota(
    two_services: Services, database: Database, tmp_path: Path
) -> None:
    one, two, url = two_services
    people = [f"p{run}" for run in range(RUNS)]
    with (
        Sortitor(one, database.tokens[Role.COORDINATOR]) as first,
        Sortitor(two, database.tokens[Role.COORDINATOR]) as second,
    ):
        import_people(first, tmp_path, *(f"{name},Person {name},,,," for name in people))
        change_baseline(first, quota=3)
        parking = a_pass(first, activation=Activation.COORDINATOR)
        for run, person in enumerate(people):
            code = a_pass(first, person=person)

            def came(number: int, code: str = code, run: int = run) -> int:
                answer = first.agent.knock(knocking(code, f"KM-{run}-{number}"))
                assert answer.outcome is Outcome.ADMITTED
                return answer.device_id or 0

            def knocks(number: int, code: str = code, run: int = run) -> Callable[[], None]:
                service = (first, second)[number % 2]
                stated = knocking(code, f"KM-{run}-{number}")
                return lambda: void(service.agent.knock(stated))

            # One stays, one is taken away (and that will be reverted), one comes back.
            came(0)
            taken, returning = came(1), came(2)
            for device_id in (taken, returning):
                assign(first, device_id, None)
            entry = first.devices.show(taken).timeline[0].entry_id
            waiting = [
                first.agent.knock(knocking(parking, f"KM-{run}-{number}")).device_id or 0
                for number in (3, 4)
            ]
            acts: list[Callable[[], None]] = [
                *(knocks(number) for number in (2, 5, 6, 7)),
                *(lambda d=d, p=person: assign(second, d, p) for d in waiting),
                lambda e=entry: revert(first, e),
            ]
            with ThreadPoolExecutor(len(acts)) as threads:
                list(threads.map(lambda act: act(), acts))
            assert first.people.show(person).holding == 3, person
    with psycopg.connect(url) as connection:
        assert deadlocks(connection) == 0


def void(_: object) -> None:
    """Whatever came of it."""


def assign(s: Sortitor, device_id: int, person: str | None) -> None:
    """Give a device to somebody."""
    look = lambda: s.devices.preview_assign(device_id, person).digest  # noqa: E731
    unless_full(lambda: void(s.devices.assign(device_id, person, look())))


def revert(s: Sortitor, entry: int) -> None:
    """Take an entry back."""
    unless_full(lambda: void(s.journal.revert(entry, s.journal.preview_revert(entry).digest)))


def unless_full(act: Callable[[], None]) -> None:
    """Do it as often as it takes, as a colleague would; the quota may stand against it."""
    for _ in range(20):
        try:
            return act()
        except FactsMoved:
            continue
        except Refused as error:
            if error.problem.code != "quota_reached":
                raise
            return None
    raise AssertionError("the facts never came to rest")


def deadlocks(connection: psycopg.Connection[tuple[object, ...]]) -> object:
    """How often the database had to end one of two that waited for each other."""
    query = "SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()"
    return (connection.execute(query).fetchone() or [None])[0]


def test_a_claim_that_is_collected_while_the_device_knocks_again_waits_for_nobody(
    two_services: Services, database: Database
) -> None:
    one, two, url = two_services
    with Sortitor(one, database.tokens[Role.COORDINATOR]) as s, Sortitor(two) as device:
        shared = a_pass(s, activation=Activation.SHARED)
        told = s.passes.add(
            PassTerms(label="asked", activation=Activation.SHARED), passcode="gangplank"
        ).code
        device.agent.knock(knocking(shared, "KM-1"))

        def collect(secret: str) -> None:
            with contextlib.suppress(Refused):
                device.agent.collect(secret)

        for _ in range(RUNS * 3):
            secret = device.agent.knock(knocking(told, "KM-1", protocol=2)).secret or ""
            device.agent.answer(secret, WayAnswers(passcode="gangplank"))
            with ThreadPoolExecutor(3) as threads:
                done = [
                    threads.submit(collect, secret),
                    threads.submit(device.agent.knock, knocking(shared, "KM-1")),
                    threads.submit(s.agent.knock, knocking(shared, "KM-1")),
                ]
                assert [one.exception() for one in done] == [None, None, None]
    with psycopg.connect(url) as connection:
        assert deadlocks(connection) == 0
