"""Two processes at once, a killed process, a lost database: all or nothing, and a clear state
afterwards.
"""

import asyncio
import threading
import time
from pathlib import Path

import httpx
import psycopg
import pytest
from tests.doors import knock_at_once
from tests.processes import serve
from tests.worlds import (
    Database,
    World,
    a_pass,
    http,
    imei,
    in_a_loop,
    manifest,
    sized,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Broken, Refused, Unreachable
from sortitor.core.vocabulary import Activation, LotStatus, Role, Verdict


@pytest.mark.large
def test_two_appliers_of_one_draft_apply_it_once(
    two_services, database: Database, tmp_path: Path
) -> None:
    one, two, url = two_services
    outcomes: list[str] = []
    rows = sized(2_000)
    with (
        Sortitor(one, database.tokens[Role.COORDINATOR], timeout_seconds=1800) as first,
        Sortitor(two, database.tokens[Role.COORDINATOR], timeout_seconds=1800) as second,
    ):
        lot = first.lots.check(
            manifest(tmp_path, ["serial,maker", *(f"KM-{i},Kelmar" for i in range(rows))]),
            watch=lambda job: None,
        )
        digest = first.lots.preview(lot.id).digest

        def apply(s: Sortitor) -> None:
            try:
                outcomes.append(s.lots.apply(lot.id, digest).status)
            except Refused as error:
                outcomes.append(error.problem.code)

        threads = [threading.Thread(target=apply, args=(s,)) for s in (first, second)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        # Whoever waited longer for the other's lock than anybody waits is to try again.
        if "changed_meanwhile" in outcomes:
            outcomes.remove("changed_meanwhile")
            apply(second)
    assert sorted(outcomes) == ["applied", "not_a_draft"]
    with psycopg.connect(url) as connection:
        assert connection.execute("SELECT count(*) FROM devices").fetchone() == (rows,)


@pytest.mark.large
@pytest.mark.parametrize("victim", ["service", "database"])
def test_killed_in_the_middle_of_a_large_lot(
    open_folder: Path, tmp_path: Path, victim: str
) -> None:
    """The service (or PostgreSQL under it) dies while a lot is applied; the same command brings it
    back, whole.
    """
    state, rows = open_folder / f"killed-{victim}", sized(30_000)
    with serve(SORTITOR_STATE_DIR=str(state)) as process:
        with Sortitor(process.url) as s:
            s.accounts.first(
                (state / "first-administrator.txt").read_text().strip(),
                "harbour",
                "a long enough password",
            )
            s.accounts.sign_in("harbour", "a long enough password")
            token = s.accounts.add_token("kill", Role.COORDINATOR, 1).secret
        with Sortitor(process.url, token) as s:
            lot = s.lots.check(
                manifest(
                    tmp_path,
                    [
                        "serial,maker,imei",
                        *(f"KM-{i},Kelmar,{imei(i)}" for i in range(1, rows + 1)),
                    ],
                ),
                watch=lambda job: None,
            )
            assert lot.counts[Verdict.ADD] == rows
            digest = s.lots.preview(lot.id).digest
        answered: list[str] = []

        def apply() -> None:
            with Sortitor(process.url, token, timeout_seconds=60) as mine:
                try:
                    answered.append(mine.lots.apply(lot.id, digest).status)
                except (Unreachable, Broken, Refused) as error:
                    answered.append(type(error).__name__)

        thread = threading.Thread(target=apply)
        thread.start()
        postmaster = int((state / "cluster" / "postmaster.pid").read_text().splitlines()[0])
        wait_until_writing(state)
        if victim == "service":
            process.kill()
        else:
            import os
            import signal

            os.kill(postmaster, signal.SIGKILL)
            process.kill()
        thread.join()
        assert answered != ["applied"], "the kill came in the middle"
        process.start()
        with Sortitor(process.url, token) as s:
            now = s.lots.show(lot.id)
            assert (now.status, s.devices.count()) in [
                (LotStatus.DRAFT, 0),
                (LotStatus.APPLIED, rows),
            ]
            if now.status is LotStatus.DRAFT:
                s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)
            assert s.devices.count() == rows


def wait_until_writing(state: Path) -> None:
    """Return once a session of the cluster is copying devices or identifiers in."""
    port = (state / "cluster" / "postmaster.pid").read_text().splitlines()[3]
    url = (
        f"postgresql://sortitor:{(state / 'database.secret').read_text()}@127.0.0.1:{port}/sortitor"
    )
    with psycopg.connect(url, autocommit=True) as connection:
        until = time.monotonic() + 60
        while time.monotonic() < until:
            busy = connection.execute(
                "SELECT count(*) FROM pg_stat_progress_copy WHERE relid IN ('devices'::regclass,"
                " 'identifiers'::regclass)"
            ).fetchone()
            if busy and busy[0]:
                return
            time.sleep(0.01)
    raise AssertionError("the lot was never written")


def test_a_lost_connection_is_said_and_the_next_request_works(world: World) -> None:
    s = world.client()
    s.devices.count()
    with psycopg.connect(world.run.url, autocommit=True) as connection:
        connection.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname ="
            " current_database() AND pid <> pg_backend_pid()"
        )
    assert s.devices.count() == 0
    assert httpx.get(f"{world.url}/readyz").status_code == 200


def test_the_same_key_does_nothing_twice(world: World) -> None:
    body = {"name": "Signage", "seats": 5}
    with http(world) as client:
        first = client.post("/api/v1/pools", json=body, headers={"Idempotency-Key": "k1"})
        again = client.post("/api/v1/pools", json=body, headers={"Idempotency-Key": "k1"})
        assert (first.status_code, again.status_code) == (201, 201)
        assert again.json() == first.json()
        assert again.headers["idempotent-replay"] == "true"
        other = client.post(
            "/api/v1/pools", json={**body, "seats": 6}, headers={"Idempotency-Key": "k1"}
        )
        assert (other.status_code, other.json()["code"]) == (422, "key_reused")
        failed = client.post("/api/v1/pools", json=body, headers={"Idempotency-Key": "k2"})
        assert failed.status_code == 409
        assert (
            client.post(
                "/api/v1/pools",
                json={"name": "Other", "seats": 1},
                headers={"Idempotency-Key": "k2"},
            ).status_code
            == 201
        ), "a failed request left no claim"
    assert world.rows("SELECT count(*) FROM pools") == [(2,)]


def test_check_ins_at_once_are_all_committed(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    answers = knock_at_once(
        [world.url],
        [{"code": code, "platform": "linux", "serial": f"BW-{i:03}"} for i in range(30)],
    )
    credentials = [a.json()["credential"] for a in answers]
    world.later(days=2)

    async def all_of_them() -> list[int]:
        async with httpx.AsyncClient(timeout=60) as client:
            calls = [
                client.post(
                    f"{world.url}/api/v1/agent/check-in",
                    json={},
                    headers={"Authorization": f"Bearer {c}"},
                )
                for c in credentials * 3
            ]
            return [a.status_code for a in await asyncio.gather(*calls)]

    assert set(in_a_loop(all_of_them())) == {200}
    query = "SELECT count(*) FROM sightings WHERE date_trunc('second', last_seen_at) = %s"
    assert world.rows(query, world.now) == [(30,)]
