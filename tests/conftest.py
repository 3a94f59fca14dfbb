"""One PostgreSQL a run, one database a test (copied from a template), and the real service on
loopback.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest
import structlog
from hypothesis import HealthCheck, settings
from tests.worlds import FAST, PASSWORD, Database, World, a_world

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime

# The first draws build tables of characters, which is slow and no fault of a test.
settings.register_profile(
    "sortitor",
    derandomize=True,
    deadline=None,
    max_examples=60,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.register_profile(
    "explore", settings.get_profile("sortitor"), derandomize=False, max_examples=1000
)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "sortitor"))
# Plain, as the service has it: a traceback with all its variables takes a minute.
structlog.configure(
    processors=[
        structlog.dev.ConsoleRenderer(
            colors=False, exception_formatter=structlog.dev.plain_traceback
        )
    ],
    wrapper_class=structlog.make_filtering_bound_logger(40),
)


@pytest.fixture(scope="session")
def open_folder() -> Iterator[Path]:
    """A folder that the database's own system user can pass through."""
    folder = Path(tempfile.mkdtemp(prefix="sortitor-test-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def database(open_folder: Path) -> Iterator[Database]:
    cluster = Cluster(open_folder / "run", FAST)
    url = cluster.start("template_sortitor")
    tokens = {}
    with runtime(Settings(database_url=url)) as run:
        system = Context(run.engine, run.clock, run.limits, Actor("setup", Role.ADMINISTRATOR))
        for role in Role:
            account_id = accounts.add(system, role.value, PASSWORD, role)
            actor = Actor(role.value, role, account_id)
            _, tokens[role] = accounts.add_token(
                Context(run.engine, run.clock, run.limits, actor), "tests", role, 30
            )
    yield Database(url.removesuffix("template_sortitor"), tokens)
    cluster.stop()


@pytest.fixture
def world(database: Database) -> Iterator[World]:
    with a_world(database) as made:
        yield made


@pytest.fixture
def make_world(database: Database) -> Iterator[Callable[..., World]]:
    """Worlds with other settings."""
    with ExitStack() as stack:
        yield lambda **settings: stack.enter_context(a_world(database, **settings))


@pytest.fixture
def s(world: World) -> Sortitor:
    """A coordinator's client."""
    return world.client()
