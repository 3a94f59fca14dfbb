"""Files that are kept for devices: taken in as they come, whole or not at all, and handed to those
that get them.
"""

from __future__ import annotations

import hashlib
import os
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from random import Random

import httpx
import pytest
from tests.processes import serve
from tests.worlds import World, a_pass, http, import_lot, knocking, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded, SortitorProblem
from sortitor.core.vocabulary import Activation, Ownership, Role
from sortitor.operations.kits import files
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.files import KeptFile
from sortitor.schemas.kits import Item

MB = 1024**2


def a_file(folder: Path, name: str, size: int = 3 * MB) -> Path:
    path = folder / name
    path.write_bytes(Random(name).randbytes(size))
    return path


def document(kept: KeptFile, *cohorts: str, name: str = "Deck plans") -> Item:
    payload = {
        "kind": "document",
        "file_name": kept.name,
        "digest": kept.digest,
        "size": kept.size,
    }
    given = [{"cohort": one} for one in cohorts]
    return Item.model_validate({"name": name, "payload": payload, "given": given})


def bytes_there(world: World) -> list[str]:
    """What lies in the storage."""
    folder = Path(world.run.settings.files_at)
    return sorted(str(one.relative_to(folder)) for one in folder.rglob("*") if one.is_file())


@pytest.fixture
def devices(world: World, tmp_path: Path) -> list[str]:
    """The credentials of a device on deck and of one that is not."""
    s = world.client()
    path = manifest(tmp_path, ["serial,site", "KM-0,Deck", "KM-1,Bridge"])
    import_lot(s, path, platform="android", ownership="corporate")
    s.cohorts.add(Cohort(name="Deck", filter='site eq "Deck"'))
    code = a_pass(s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    answers = [s.agent.knock(knocking(code, f"KM-{number}")) for number in range(2)]
    return [str(answer.credential) for answer in answers]


def test_a_file_is_kept_named_and_fetched_by_those_who_get_it(
    world: World, devices: list[str], tmp_path: Path
) -> None:
    s, heard = world.client(), []
    path = a_file(tmp_path, "plans.pdf")
    kept = s.files.put(path, heard=lambda done, total: heard.append((done, total)))
    assert (kept.name, kept.size, kept.items) == ("plans.pdf", 3 * MB, [])
    assert kept.digest == hashlib.sha256(path.read_bytes()).hexdigest()
    assert heard[-1] == (3 * MB, 3 * MB)
    assert s.files.put(path, "again.pdf") == s.files.get(kept.digest)
    s.items.add(document(kept, "Deck"))
    assert [(one.digest, one.items) for one in s.files.list()] == [(kept.digest, ["Deck plans"])]
    assert bytes_there(world) == [f"files/{kept.digest[:2]}/{kept.digest}"]
    back = tmp_path / "back"
    s.agent.file(devices[0], kept.digest, back)
    assert back.read_bytes() == path.read_bytes()
    s.files.fetch(kept.digest, back)
    assert back.read_bytes() == path.read_bytes()
    for credential, error in ((devices[1], Refused), ("nobody", SignInNeeded)):
        with pytest.raises(error):
            s.agent.file(credential, kept.digest, back)
    with pytest.raises(Refused, match="may not"):
        world.client(Role.VIEWER).files.put(path)
    # What it no longer gets it no longer fetches.
    s.items.edit("Deck plans", document(kept))
    with pytest.raises(Refused, match="no file"):
        s.agent.file(devices[0], kept.digest, back)


@pytest.mark.parametrize(
    ("asked", "status", "part"),
    [
        ("bytes=0-9", 206, (0, 10)),
        ("bytes=100-", 206, (100, None)),
        ("bytes=-7", 206, (-7, None)),
        ("bytes=5-99999999999", 206, (5, None)),
        ("bytes=3145728-", 416, None),
        ("bytes=-0", 416, None),
        ("bytes=9-3", 416, None),
        ("bytes=0-1,4-5", 200, (0, None)),
        ("lines=1-2", 200, (0, None)),
        ("bytes=-", 416, None),
    ],
)
def test_parts_of_a_file(
    world: World,
    tmp_path: Path,
    asked: str,
    status: int,
    part: tuple[int, int | None] | None,
) -> None:
    path = a_file(tmp_path, "plans.pdf")
    kept = world.client().files.put(path)
    with http(world) as client:
        answer = client.get(f"/api/v1/files/{kept.digest}/content", headers={"Range": asked})
    assert answer.status_code == status
    if part is None:
        assert answer.headers["content-range"] == f"bytes */{3 * MB}"
    else:
        assert answer.content == path.read_bytes()[part[0] : part[1]]


def test_what_a_caller_has_is_not_sent_again(world: World, tmp_path: Path) -> None:
    kept = world.client().files.put(a_file(tmp_path, "Pläne, neu.pdf", 10))
    where = f"/api/v1/files/{kept.digest}/content"
    with http(world) as client:
        whole = client.get(where)
        assert whole.headers["etag"] == f'"{kept.digest}"'
        assert whole.headers["accept-ranges"] == "bytes"
        assert whole.headers["repr-digest"].startswith("sha-256=:")
        assert "filename*=UTF-8''Pl%C3%A4ne%2C%20neu.pdf" in whole.headers["content-disposition"]
        again = client.get(where, headers={"If-None-Match": whole.headers["etag"]})
        assert (again.status_code, again.content) == (304, b"")
        for tag, status in ((whole.headers["etag"], 206), ('"another"', 200)):
            answer = client.get(where, headers={"Range": "bytes=2-4", "If-Range": tag})
            assert answer.status_code == status
        head = client.head(where)
        assert (head.status_code, head.headers["content-length"], head.content) == (200, "10", b"")
        assert client.get(f"/api/v1/files/{'0' * 64}/content").status_code == 404
        assert client.get("/api/v1/files/plans/content").status_code == 422


def test_what_is_not_right_is_refused_and_nothing_of_it_stays(
    make_world: Callable[..., World], tmp_path: Path
) -> None:
    world = make_world(max_file_bytes=2 * MB)
    s, path = world.client(), a_file(tmp_path, "plans.pdf", 1 * MB)
    with http(world) as client:
        for body, query, status, words in (
            (b"", "name=a", 422, "empty"),
            (b"x", f"name=a&digest={'0' * 64}", 422, "has the SHA-256"),
            (b"x", "name=a&digest=abc", 422, "digest"),
            (b"x", "", 422, "name"),
            (b"x" * (2 * MB + 1), "name=a", 413, "larger"),
        ):
            answer = client.post(f"/api/v1/files?{query}", content=body)
            assert (answer.status_code, words in answer.text) == (status, True), answer.text
        # Of a length that nobody said beforehand.
        pieces: Iterator[bytes] = (b"x" * MB for _ in range(3))
        answer = client.post("/api/v1/files?name=a", content=pieces)
        assert answer.status_code == 413
    assert (s.files.list(), bytes_there(world)) == ([], [])
    kept = s.files.put(path)
    s.items.add(document(kept))
    other = document(kept.model_copy(update={"size": 5}), name="Other")
    with pytest.raises(Refused, match="has 1,048,576 bytes, not 5"):
        s.items.add(other)
    with pytest.raises(Refused, match="No file is kept here"):
        s.items.add(document(kept.model_copy(update={"digest": "0" * 64}), name="Other"))
    picture = {"kind": "setting", "setting": "home-picture", "value": "0" * 64}
    with pytest.raises(Refused, match="No file is kept here"):
        s.items.add(Item.model_validate({"name": "Picture", "payload": picture}))
    s.items.add(
        Item.model_validate({"name": "Picture", "payload": {**picture, "value": kept.digest}})
    )
    assert s.files.get(kept.digest).items == ["Deck plans", "Picture"]


def test_what_nothing_names_goes(world: World, tmp_path: Path) -> None:
    s, ctx = world.client(), world.run.context("test")
    named, other = (s.files.put(a_file(tmp_path, name, 100)) for name in ("named", "other"))
    s.items.add(document(named))
    with pytest.raises(Refused, match="is named by item “Deck plans”"):
        s.files.remove(named.digest)
    third = s.files.put(a_file(tmp_path, "third", 100))
    s.files.remove(third.digest)
    world.later(days=89)
    files.keep_up(ctx)
    assert {one.name for one in s.files.list()} == {"named", "other"}
    world.later(days=2)
    files.keep_up(ctx)
    assert [one.name for one in s.files.list()] == ["named"]
    told = [entry.summary for entry in s.journal.list(most=2)]
    assert told[0] == "1 file let go that nothing named for 90 days"
    # The bytes go once they have lain there for a day; what broke off, too.
    folder = Path(world.run.settings.files_at)
    for half in ("incoming/0123", "incoming/4567#1"):
        (folder / half).parent.mkdir(exist_ok=True)
        (folder / half).write_bytes(b"half")
    files.keep_up(ctx)
    assert len(bytes_there(world)) == 4
    for path in folder.rglob("*"):
        os.utime(path, (0, 0))
    files.keep_up(ctx)
    assert bytes_there(world) == [f"files/{named.digest[:2]}/{named.digest}"]
    assert other.digest not in {one.digest for one in s.files.list()}


def test_a_file_that_was_lost_with_its_storage_is_put_in_again(
    world: World, tmp_path: Path
) -> None:
    s, path, back = world.client(), a_file(tmp_path, "plans.pdf", 100), tmp_path / "back"
    kept = s.files.put(path)
    [there] = bytes_there(world)
    (Path(world.run.settings.files_at) / there).unlink()
    with pytest.raises(SortitorProblem, match="storage of files"):
        s.files.fetch(kept.digest, back)
    assert s.files.put(path).digest == kept.digest
    s.files.fetch(kept.digest, back)
    assert back.read_bytes() == path.read_bytes()


def test_the_same_file_from_many_at_once_is_one(world: World, tmp_path: Path) -> None:
    path = a_file(tmp_path, "plans.pdf")
    clients = [world.client() for _ in range(6)]
    threads = [threading.Thread(target=one.files.put, args=(path,)) for one in clients]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(world.client().files.list()) == 1
    assert len(bytes_there(world)) == 1
    [(entries,)] = world.rows("SELECT count(*) FROM journal WHERE operation = 'file.keep'")
    assert entries == 1


def sends_half(url: str, token: str) -> socket.socket:
    """A connection over which half of a file has come."""
    host, port = httpx.URL(url).netloc.decode().split(":")
    connection = socket.create_connection((host, int(port)))
    head = (
        f"POST /api/v1/files?name=half HTTP/1.1\r\nHost: {host}\r\n"
        f"Authorization: Bearer {token}\r\n"
        f"Content-Type: application/octet-stream\r\nContent-Length: {20 * MB}\r\n\r\n"
    )
    connection.sendall(head.encode() + b"x" * 10 * MB)
    return connection


def test_a_file_that_breaks_off_leaves_nothing(world: World) -> None:
    connection = sends_half(world.url, world.tokens[Role.COORDINATOR])
    connection.close()
    until = time.monotonic() + 10
    while bytes_there(world) and time.monotonic() < until:
        time.sleep(0.05)
    assert (world.client().files.list(), bytes_there(world)) == ([], [])


def test_a_killed_service_keeps_no_half_of_a_file(
    make_world: Callable[..., World], tmp_path: Path
) -> None:
    world = make_world()
    kept = tmp_path / "kept"
    with serve(
        SORTITOR_DATABASE_URL=world.run.url,
        SORTITOR_STATE_DIR=str(tmp_path),
        SORTITOR_FILES_AT=str(kept),
        SORTITOR_WORKER="false",
    ) as process:
        connection = sends_half(process.url, world.tokens[Role.COORDINATOR])
        until = time.monotonic() + 10
        while not list(kept.rglob("*#*")) and time.monotonic() < until:
            time.sleep(0.02)
        assert list(kept.rglob("*#*"))
        process.kill()
        connection.close()
        process.start()
        with Sortitor(process.url, world.tokens[Role.COORDINATOR]) as s:
            assert s.files.list() == []
            whole = s.files.put(a_file(tmp_path, "whole"))
            assert s.files.get(whole.digest).size == 3 * MB


@contextmanager
def s3() -> Iterator[str]:
    """Storage that speaks the S3 protocol; gives its address."""
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    url = f"http://{host}:{port}"
    try:
        httpx.put(f"{url}/crew", headers=_ANYBODY).raise_for_status()
        yield url
    finally:
        server.stop()


_ANYBODY = {"Authorization": "AWS4-HMAC-SHA256 Credential=k/20260117/us-east-1/s3/aws4_request"}


def test_files_lie_in_other_storage_as_well(
    make_world: Callable[..., World], tmp_path: Path
) -> None:
    with s3() as url:
        world = make_world(
            files_at="s3://crew/devices",
            files_endpoint=url,
            files_region="us-east-1",
            files_key_id="k",
            files_secret="s",
        )
        s, ctx, back = world.client(), world.run.context("test"), tmp_path / "back"
        path = a_file(tmp_path, "large", 20 * MB)
        kept = s.files.put(path)
        s.files.fetch(kept.digest, back)
        assert back.read_bytes() == path.read_bytes()
        with http(world) as client:
            where = f"/api/v1/files/{kept.digest}/content"
            part = client.get(where, headers={"Range": f"bytes={9 * MB}-"})
        assert part.content == path.read_bytes()[9 * MB :]
        assert ctx.storage.digests(world.run.clock.wall() + timedelta(1)) == [kept.digest]
        s.files.remove(kept.digest)
        assert ctx.storage.digests(world.run.clock.wall() + timedelta(1)) == []
        kept = s.files.put(path)
    # The storage is away: said so, and nothing is half.
    with pytest.raises(SortitorProblem, match="storage of files") as error:
        s.files.fetch(kept.digest, back)
    assert error.value.problem.status == 503
    assert world.client().files.get(kept.digest).size == 20 * MB
