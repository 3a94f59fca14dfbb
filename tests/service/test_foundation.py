"""What everything stands on: embedded PostgreSQL, migrations, settings, queue, documents."""

import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

import httpx
import psycopg
import pytest
from alembic import command
from alembic.config import Config
from tests.processes import SORTITOR, serve
from tests.worlds import FAST, Database, World, in_a_loop

from sortitor.core.errors import BadInput, FactsMoved, SortitorError, Unavailable
from sortitor.core.vocabulary import Role
from sortitor.jobs import tasks
from sortitor.server.openapi import document
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.store import failures, schema
from sortitor.store.engine import make_engine, transaction

ROOT = Path(__file__).parents[2]


def postmaster(cluster: Cluster) -> int:
    return int((cluster.data / "postmaster.pid").read_text().splitlines()[0])


def test_the_cluster_is_private_and_survives_being_killed(open_folder: Path) -> None:
    first = Cluster(open_folder / "own", FAST)
    url = first.start()
    try:
        assert (open_folder / "own" / "database.secret").stat().st_mode & 0o777 == 0o600
        with psycopg.connect(url) as connection:
            assert connection.execute("SHOW listen_addresses").fetchone() == ("127.0.0.1",)
            assert connection.execute("SHOW password_encryption").fetchone() == ("scram-sha-256",)
        with pytest.raises(psycopg.OperationalError, match="password"):
            psycopg.connect(re.sub(r"sortitor:[^@]+@", "sortitor:wrong@", url))
        os.kill(postmaster(first), signal.SIGKILL)
        again = first.start()
        with psycopg.connect(again) as connection:
            assert connection.execute("SELECT 1").fetchone() == (1,)
    finally:
        first.stop()


def test_a_pid_file_that_names_another_program_is_cleared_away(open_folder: Path) -> None:
    cluster = Cluster(open_folder / "stale", FAST)
    cluster.start()
    cluster.stop()
    (cluster.data / "postmaster.pid").write_text(f"{os.getpid()}\n{cluster.data}\n0\n5999\n")
    cluster = Cluster(open_folder / "stale", FAST)
    with psycopg.connect(cluster.start()) as connection:
        assert connection.execute("SELECT 1").fetchone() == (1,)
    cluster.stop()


def test_a_second_service_of_one_directory_shares_the_cluster_and_leaves_it_running(
    open_folder: Path,
) -> None:
    one, two = Cluster(open_folder / "shared", FAST), Cluster(open_folder / "shared", FAST)
    url = one.start()
    assert two.start() == url
    assert (one.owner, two.owner) == (True, False)
    two.stop()
    psycopg.connect(url).close()
    one.stop()


def test_a_set_up_that_was_cut_short_is_begun_again(open_folder: Path) -> None:
    folder = open_folder / "cut"
    (folder / "cluster" / "base").mkdir(parents=True)
    cluster = Cluster(folder, FAST)
    psycopg.connect(cluster.start()).close()
    cluster.stop()


def test_a_killed_service_finds_its_database_and_stops_it_in_the_end(open_folder: Path) -> None:
    state = open_folder / "found"
    with serve(SORTITOR_STATE_DIR=str(state)) as process:
        pid = (state / "cluster" / "postmaster.pid").read_text().splitlines()[0]
        process.kill()
        assert Path(f"/proc/{pid}").exists(), "the database outlives its service"
        process.start()
        assert (state / "cluster" / "postmaster.pid").read_text().splitlines()[0] == pid
        assert httpx.get(f"{process.url}/readyz").json() == {"status": "ready"}
    assert not (state / "cluster" / "postmaster.pid").exists()


def test_a_taken_port_and_a_bad_setting_are_said_plainly(
    open_folder: Path, database: Database
) -> None:
    url = database.fresh()
    with serve(SORTITOR_DATABASE_URL=url) as process:
        port = process.url.rsplit(":", 1)[1]
        done = subprocess.run(
            [SORTITOR, "serve", "--port", port],
            env={**process.environment},
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        assert done.returncode == 3
        assert f"Port {port}" in done.stderr
        assert "Traceback" not in done.stderr
    bad = subprocess.run(
        [SORTITOR, "serve"],
        env={**os.environ, "SORTITOR_POOL_SIZE": "many"},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert bad.returncode == 2
    assert "SORTITOR_POOL_SIZE" in bad.stderr
    database.drop(url)


def test_the_migrations_give_the_tables_that_the_code_knows(database: Database) -> None:
    url = database.fresh()
    engine = make_engine(url, 1)
    schema.upgrade(engine)
    schema.check(engine)
    engine.dispose()
    database.drop(url)


def test_every_migration_goes_down_and_up_again_with_what_it_had(database: Database) -> None:
    """Down from the newest and back: the tables are the same, and what both versions know is
    kept.
    """
    url = database.fresh()
    with psycopg.connect(url) as connection:
        connection.execute(
            "INSERT INTO devices (stage, stage_at, created_at, name, name_basis, tags, os_version)"
            " VALUES ('awaited', now(), now(), 'WM-1', 'inferred', '{Spare}', '14.02')"
        )
        connection.execute("INSERT INTO sightings SELECT id, '2026-10-01Z' FROM devices")
    engine = make_engine(url, 1)

    def go(step: Callable[[Config, str], None], target: str) -> None:
        with engine.begin() as connection:
            step(schema._config(connection), target)

    go(command.downgrade, "0005")
    with psycopg.connect(url) as connection:
        assert connection.execute("SELECT name, name_basis FROM devices").fetchall() == [
            ("WM-1", "declared")
        ]
    go(command.upgrade, "head")
    schema.check(engine)
    with psycopg.connect(url) as connection:
        assert connection.execute(
            "SELECT name, name_basis, folded(tags), os_numbers FROM devices"
        ).fetchall() == [("WM-1", "inferred", ["spare"], [14, 2])]
        assert connection.execute(
            "SELECT last_seen_at = '2026-10-01Z', seen_on FROM sightings, devices"
        ).fetchall() == [(True, date(2026, 10, 1))]
        connection.execute("DELETE FROM devices")
        assert connection.execute("SELECT FROM sightings").fetchall() == []
    # The queue's own tables (0003) do not go down by themselves.
    go(command.downgrade, "0003")
    with psycopg.connect(url) as connection:
        assert connection.execute(
            "SELECT to_regclass('cohorts'), to_regclass('order_lines')"
        ).fetchall() == [(None, None)]
    go(command.upgrade, "head")
    schema.check(engine)
    engine.dispose()
    database.drop(url)


def test_every_constraint_that_a_user_can_meet_has_its_words(database: Database) -> None:
    url = database.fresh()
    with psycopg.connect(url) as connection:
        unique = connection.execute(
            "SELECT relname FROM pg_index JOIN pg_class ON oid = indexrelid WHERE indisunique AND"
            " relname LIKE 'uq_%%' AND relnamespace = 'public'::regnamespace"
        ).fetchall()
    never_met = {
        "uq_passes_code_hash",
        "uq_rulebooks_name",
        "uq_sessions_secret_hash",
        "uq_sessions_id",
        "uq_journal_seals_entry_id",
        "uq_tokens_secret_hash",
    }
    assert {row[0] for row in unique} - never_met <= set(failures.CONSTRAINTS)
    database.drop(url)


def test_a_value_that_only_the_database_refuses_is_in_the_log(
    world: World, caplog: pytest.LogCaptureFixture
) -> None:
    with pytest.raises(BadInput, match="cannot be stored"), transaction(world.run.engine) as one:
        one.exec_driver_sql("SELECT %s::text::bytea", (r"their\secret",))
    # The world's own service may have something to say at the same moment.
    (record,) = [one for one in caplog.records if one.name == failures.__name__]
    assert record.exc_info
    assert "SELECT" in str(record.exc_info[1])
    assert "secret" not in str(record.exc_info[1])


def test_every_error_has_its_status() -> None:
    from sortitor.api.http.problems import STATUS, status_of

    def every(kind: type[SortitorError]) -> set[type[SortitorError]]:
        return {kind}.union(*(every(sub) for sub in kind.__subclasses__()))

    for kind in every(SortitorError) - {SortitorError}:
        assert any(issubclass(kind, known) for known in STATUS), kind
    assert status_of(FactsMoved(None)) == 409
    assert status_of(BadInput("c", "d")) == 422
    assert status_of(Unavailable("c", "d")) == 503


def test_documents_say_what_the_code_says() -> None:
    assert (ROOT / "console" / "openapi.json").read_text() == document() + "\n"


def test_every_route_has_words_a_tag_and_typed_answers() -> None:
    import json

    spec = json.loads(document())
    for path, methods in spec["paths"].items():
        for method, route in methods.items():
            assert route.get("description"), f"{method} {path}"
            assert route["tags"], f"{method} {path}"


def test_idle_bounds_come_from_the_settings() -> None:
    with pytest.raises(ValueError, match="IDLE_WINDOW"):
        Settings(idle_window_min_days=50, idle_window_max_days=40)


def test_the_queue_runs_the_daily_sweep_and_takes_up_stalled_jobs(world: World) -> None:
    async def work() -> list[tuple[str, str]]:
        app = tasks.make_app(world.run.url)
        async with app.open_async():
            await app.configure_task("sortitor:sweep").defer_async(timestamp=0)
            await app.run_worker_async(
                wait=False,
                additional_context={"context": world.run.context("schedule")},
                install_signal_handlers=False,
            )
            return [(job.task_name, job.status) for job in await app.job_manager.list_jobs_async()]

    assert ("sortitor:sweep", "succeeded") in in_a_loop(work())


def test_numbers_for_those_who_run_it(world: World) -> None:
    assert httpx.get(f"{world.url}/healthz").json() == {"status": "alive"}
    assert httpx.get(f"{world.url}/metrics").status_code == 401, "numbers are for no stranger"
    shown = {"Authorization": f"Bearer {world.tokens[Role.VIEWER]}"}
    text = httpx.get(f"{world.url}/metrics", headers=shown).text
    assert "# TYPE sortitor_devices gauge" in text
    assert re.fullmatch(
        r"[A-Za-z0-9._-]+", httpx.get(f"{world.url}/healthz").headers["x-request-id"]
    )


def test_the_client_and_the_command_line_work_without_the_service_installed() -> None:
    code = (
        "import sys; import sortitor.client, sortitor.cli.main, sortitor.cli.lots; bad ="
        " {'sqlalchemy', 'fastapi', 'polars', 'psycopg'} & set(sys.modules); sys.exit(',"
        " '.join(bad) or 0)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_tests_of_the_core_import_no_server() -> None:
    code = (
        "import sys, importlib, pathlib; import tests.conftest;"
        " [importlib.import_module('tests.core.' + path.stem) for path in"
        " pathlib.Path('tests/core').glob('test_*.py')]; bad = {'sqlalchemy', 'fastapi',"
        " 'psycopg', 'tests.worlds'} & set(sys.modules); sys.exit(', '.join(bad) or 0)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False, cwd=ROOT
    )
    assert done.returncode == 0, done.stderr


def test_help_is_quick_because_nothing_heavy_is_imported() -> None:
    started = time.perf_counter()
    code = (
        "import sys; from sortitor.cli.main import root; root.main(['--help'],"
        " standalone_mode=False); sys.exit(', '.join({'httpx', 'rich', 'pydantic'} &"
        " set(sys.modules)) or 0)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert time.perf_counter() - started < 20, "a bound against hanging, not a measurement"
