"""What every room's tests share. The fixtures of the service are loaded where they are first asked
for: tests of the core start no server and import none.
"""

from __future__ import annotations

import gc
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from hypothesis import HealthCheck, settings

if TYPE_CHECKING:
    from tests.worlds import Database, World

    from sortitor.client import Sortitor

# The first draws build tables of characters, which is slow and no fault of a test.
settings.register_profile(
    "sortitor",
    derandomize=True,
    deadline=None,
    max_examples=30,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.register_profile(
    "explore", settings.get_profile("sortitor"), derandomize=False, max_examples=1000
)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "sortitor"))


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What is marked `in_order` stays so, however the others are shuffled."""
    places = [place for place, item in enumerate(items) if item.get_closest_marker("in_order")]
    in_order = sorted((items[place] for place in places), key=lambda item: item.location[:2])
    for place, item in zip(places, in_order, strict=True):
        items[place] = item


def pytest_collection_finish() -> None:
    """What is loaded by now stays: it is not looked through for garbage again and again."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


def _in_memory() -> Path | None:
    """Where a thousand databases are made and dropped a third sooner; None: the usual place."""
    memory = Path("/dev/shm")
    is_roomy = memory.is_dir() and shutil.disk_usage(memory).free > 8_000_000_000
    return memory if is_roomy else None


@pytest.fixture(scope="session")
def open_folder() -> Iterator[Path]:
    """A folder that the database's own system user can pass through."""
    folder = Path(tempfile.mkdtemp(prefix="sortitor-test-", dir=_in_memory()))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def database(open_folder: Path) -> Iterator[Database]:
    """One PostgreSQL a run, one database a test, copied from a template."""
    from tests.worlds import a_database

    with a_database(open_folder / "run") as made:
        yield made


@pytest.fixture
def world(database: Database) -> Iterator[World]:
    """The real service on loopback, with nothing in it."""
    from tests.worlds import a_world

    with a_world(database) as made:
        yield made


@pytest.fixture
def make_world(database: Database) -> Iterator[Callable[..., World]]:
    """Worlds with other settings."""
    from tests.worlds import a_world

    with ExitStack() as stack:
        yield lambda **settings: stack.enter_context(a_world(database, **settings))


@pytest.fixture
def s(world: World) -> Sortitor:
    """A coordinator's client."""
    return world.client()


@pytest.fixture
def two_services(database: Database) -> Iterator[tuple[str, str, str]]:
    """The addresses of two service processes on one database, and the database's URL."""
    from tests.processes import serve
    from tests.worlds import BUSY_TESTS

    url = database.fresh()
    limits = {f"SORTITOR_{name.upper()}": str(value) for name, value in BUSY_TESTS.items()}
    with (
        serve(SORTITOR_DATABASE_URL=url, **limits) as one,
        serve(SORTITOR_DATABASE_URL=url, SORTITOR_WORKER="false", **limits) as two,
    ):
        yield one.url, two.url, url
    database.drop(url)
