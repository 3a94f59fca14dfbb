"""Whatever a file does to its reader, the service goes on, keeps its memory, and writes nothing."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import threading
import time
from functools import partial
from pathlib import Path

import pytest
from tests.hostile import NAMED, far_apart, generated
from tests.worlds import World, http, sized

from sortitor.client import Sortitor
from sortitor.core.vocabulary import JobState
from sortitor.operations import files, jobs
from sortitor.operations.context import Context, Leash
from sortitor.operations.file_readers import FileLimits, house

_MOST_BYTES = 900_000_000


@pytest.fixture(scope="module")
def shared(database):  # type: ignore[no-untyped-def]
    from tests.worlds import a_world

    with a_world(database, file_memory_mb=600, file_seconds=40) as made:
        yield made


def own_memory() -> int:
    words = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    return int(words["VmRSS"].split()[0]) * 1024


def offered(world: World, content: bytes) -> int:
    with http(world) as client:
        client.timeout = 200
        before = own_memory()
        answer = client.post(
            "/api/v1/lots",
            content=content,
            headers={"Content-Type": "application/octet-stream"},
        )
        assert own_memory() - before < _MOST_BYTES
    assert answer.status_code < 500, answer.text
    if answer.status_code >= 400:
        problem = answer.json()
        assert problem["detail"]
        assert problem["remedy"]
    return answer.status_code


@pytest.mark.parametrize("name", NAMED)
def test_a_file_made_to_harm_is_refused_with_words(shared: World, name: str) -> None:
    before = shared.rows("SELECT count(*) FROM devices")
    assert offered(shared, NAMED[name]) in (201, 413, 415, 422)
    assert shared.rows("SELECT count(*) FROM devices") == before
    with Sortitor(shared.url) as nobody, pytest.raises(Exception, match="signed in"):
        nobody.devices.count()


@pytest.mark.parametrize("name", ["a byte order mark alone", "empty braces", "half of a pair"])
def test_people_files_too(shared: World, name: str) -> None:
    with http(shared) as client:
        answer = client.post(
            "/api/v1/people/imports/preview",
            content=NAMED[name],
            headers={"Content-Type": "application/octet-stream"},
        )
    assert answer.status_code in (415, 422), answer.text


@pytest.mark.large
def test_hundreds_of_hostile_files_in_bounded_memory(shared: World) -> None:
    devices = shared.rows("SELECT count(*) FROM devices")
    for name, content in generated(20_261_126, 500 if sized(1) > 1 else 24):
        assert offered(shared, content) in (200, 201, 413, 415, 422), name
    assert shared.rows("SELECT count(*) FROM devices") == devices
    child = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024
    assert child < 600_000_000 + _MOST_BYTES, "no reader took more than it was given"


def test_a_job_whose_worker_dies_is_tried_once_more_and_then_failed(world: World) -> None:
    s = world.client()
    ctx = world.run.context("schedule")
    with http(world) as client:
        taken = client.post(
            "/api/v1/lots",
            content=b"serial\nKM-1\n",
            headers={"Content-Type": "application/octet-stream", "Prefer": "respond-async"},
        ).json()
    number = taken["job"]["id"]
    for attempt in (1, 2):
        # What a killed worker leaves behind: taken up, and not over.
        world.rows(
            "UPDATE jobs SET state = 'running', attempts = %s WHERE id = %s RETURNING id",
            attempt,
            number,
        )
    jobs.run(ctx, number)
    job = s.jobs.show(number)
    assert (job.state, (job.problem or {}).get("code")) == (JobState.FAILED, "worker_died")
    assert "ended 2 times" in (job.problem or {})["detail"]
    assert list(s.lots.list()) == []


def test_a_worker_that_ends_hands_its_job_back(world: World) -> None:
    leash = Leash(None)
    base = world.run.context("schedule")
    ctx = Context(base.engine, base.clock, base.limits, base.actor, leash=leash)
    with http(world) as client:
        taken = client.post(
            "/api/v1/lots",
            content=b"serial\nKM-1\n",
            headers={"Content-Type": "application/octet-stream", "Prefer": "respond-async"},
        ).json()
    leash.end()
    jobs.run(ctx, taken["job"]["id"])
    state = world.rows("SELECT state, attempts FROM jobs WHERE id = %s", taken["job"]["id"])
    assert state == [("waiting", 0)]
    jobs.run(base, taken["job"]["id"])
    assert world.client().jobs.show(taken["job"]["id"]).state is JobState.DONE


def test_a_reader_ends_with_the_request() -> None:
    def gone() -> None:
        raise InterruptedError

    with pytest.raises(InterruptedError):
        files.read_file(
            NAMED["a long text a million times"], "table", files.Reading(), FileLimits(), gone
        )


def test_a_file_that_is_sent_slowly_to_its_reader_is_read_whole(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """The reader is not ready, and the file is larger than a pipe: it once waited for ever."""
    monkeypatch.setattr(files, "_LOOK_EVERY_SECONDS", 0.01)
    house.close()
    content = b"serial\n" + b"".join(b"KM-%07d\n" % number for number in range(200_000))
    found = files.read_file(content, "table", files.Reading(), FileLimits())
    assert found.cells.height == 200_000


def test_no_reader_stays_behind() -> None:
    for _ in range(3):
        files.read_file(b"serial\nKM-1\n", "table", files.Reading(), FileLimits())
    time.sleep(0.2)
    process = house._process
    assert process is not None
    everybody = filter(str.isdecimal, os.listdir("/proc"))
    assert [pid for pid in everybody if _parent(pid) == process.pid] == []
    assert threading.active_count() < 200


def test_readers_are_there_again_after_their_house_was_killed() -> None:
    read = partial(files.read_file, b"serial\nKM-1\n", "table", files.Reading())
    read(FileLimits())
    process = house._process
    assert process is not None
    process.kill()
    process.wait()
    assert read(FileLimits()).cells.height == 1


def test_a_house_ends_with_its_service() -> None:
    begun = (
        "from sortitor.operations import files as f\n"
        "f.read_file(b'serial\\nKM-1\\n', 'table', f.Reading(), f.FileLimits())\n"
        "print(f.house._process.pid, flush=True)\n"
        "import os; os.kill(os.getpid(), 9)\n"
    )
    told = subprocess.run([sys.executable, "-c", begun], capture_output=True, check=False)
    house = Path("/proc", told.stdout.decode().strip())
    until = time.monotonic() + 10
    while house.exists() and time.monotonic() < until:
        time.sleep(0.05)
    assert told.stdout
    assert not house.exists()


def _parent(pid: str) -> int:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    except OSError:
        return 0


def test_words_name_the_cell_that_stands_alone(shared: World) -> None:
    with http(shared) as client:
        answer = client.post(
            "/api/v1/lots",
            content=far_apart("XFD", 1_048_576),
            headers={"Content-Type": "application/octet-stream"},
        )
    assert (answer.status_code, "XFD1048576" in answer.json()["detail"]) == (413, True)
