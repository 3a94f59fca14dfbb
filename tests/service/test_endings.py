"""Ending: every process ends with 0 on a signal, whenever it comes, and leaves nothing undone."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest
from tests.cli.conftest import Run
from tests.cli.conftest import run as run
from tests.processes import SORTITOR
from tests.worlds import World, http, manifest

from sortitor.cli.connection import save_profile
from sortitor.core.vocabulary import JobState, Role
from sortitor.schemas.sweeps import Rule


def environment(world: World, **more: str) -> dict[str, str]:
    return {
        **os.environ,
        "SORTITOR_DATABASE_URL": world.run.url,
        "SORTITOR_OWNER_URL": world.run.owner_url,
        "SORTITOR_STATE_DIR": str(world.run.settings.state_dir),
        "SORTITOR_PORT": "0",
        "SORTITOR_RUN_AS": "",
        "SORTITOR_LOG_LEVEL": "error",
        **more,
    }


def test_a_service_ends_whenever_it_is_asked_to(world: World) -> None:
    """Also in the very moment of its start, when it once stayed for ever without listening."""
    chance = random.Random(5)
    # The modules are loaded once before, so that the moments fall into the start itself.
    for number in range(7):
        process = subprocess.Popen(
            [SORTITOR, "serve"],
            env=environment(world),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        time.sleep(0.9 + chance.random() * 2.2)
        process.send_signal(signal.SIGINT if number % 2 else signal.SIGTERM)
        _, said = process.communicate(timeout=25)
        # 2: Ctrl-C while the program itself was still being loaded.
        good = {0, 2, -signal.SIGTERM, -signal.SIGINT}
        assert process.returncode in good, said.decode()[-500:]


def test_a_service_that_is_ready_ends_with_0(world: World) -> None:
    process = subprocess.Popen(
        [SORTITOR, "serve"], env=environment(world), stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    assert "ready" in process.stdout.readline()
    process.terminate()
    process.communicate(timeout=25)
    assert process.returncode == 0


def test_a_worker_finishes_or_hands_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = [f"W-{number:06}" for number in range(60_000)]
    lot = s.lots.check(manifest(tmp_path, ["serial", *lines]))
    digest = s.lots.preview(lot.id).digest
    with http(world) as client:
        job = client.post(
            f"/api/v1/lots/{lot.id}/apply",
            json={"digest": digest},
            headers={"Prefer": "respond-async"},
        ).json()
    rounds = 0
    while s.jobs.show(job["id"]).state is not JobState.DONE and rounds < 6:
        rounds += 1
        process = subprocess.Popen([SORTITOR, "work"], env=environment(world))
        until = time.monotonic() + 60
        while s.jobs.show(job["id"]).state is JobState.WAITING and time.monotonic() < until:
            time.sleep(0.05)
        until = time.monotonic() + (0.2 if rounds == 1 else 20)
        while s.jobs.show(job["id"]).state is JobState.RUNNING and time.monotonic() < until:
            time.sleep(0.1)
        started = time.monotonic()
        process.terminate()
        assert process.wait(30) == 0
        assert time.monotonic() - started < 20
        assert s.jobs.show(job["id"]).state in (JobState.WAITING, JobState.DONE)
        assert s.devices.count() in (0, 60_000)
    assert s.devices.count() == 60_000


def test_a_sweep_of_more_devices_than_a_statement_has_parameters(world: World) -> None:
    s = world.client()
    world.rows(
        "INSERT INTO devices (stage, stage_at, ownership, ownership_basis, created_at,"
        " enrolled_at) SELECT 'active', now(), 'corporate', 'declared', now(), '2025-01-01' FROM"
        " generate_series(1, 66000) RETURNING 1"
    )
    world.saw("true", datetime(2025, 2, 1, tzinfo=UTC))
    rule = s.sweep_rules.add(Rule(name="all", idle_window_days=30, brake_percent=100))
    shown = s.sweeps.preview(rule.id)
    # Their order by idle days moves all the time; whom it takes does not.
    world.saw("id %% 2 = 0", datetime(2025, 1, 1, tzinfo=UTC))
    assert s.sweeps.apply(rule.id, shown.digest).retired == 66_000
    assert world.rows("SELECT count(*) FROM devices WHERE stage = 'retired'") == [(66_000,)]


def test_a_saved_token_goes_only_to_where_it_was_given(
    run: Run, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert run("account", "list", role=None).code == 3
    save_profile("default", world.url, world.tokens[Role.COORDINATOR], 1)
    assert run("device", "list", role=None).code == 0
    shown: list[str] = []

    def heard(self: object, request: httpx.Request) -> object:
        shown.append(str(request.headers.get("authorization")))
        raise httpx.ConnectError("nobody is there")

    for elsewhere in ("http://localhost:1", "http://127.0.0.1:2", "https://evil.example"):
        monkeypatch.setenv("SORTITOR_URL", elsewhere)
        with monkeypatch.context() as patch:
            patch.setattr("httpx.Client.send", heard)
            assert run("device", "list", role=None).code != 0
    assert set(shown) == {"None"}


def test_an_edit_of_a_template_changes_what_is_named(run: Run, world: World) -> None:
    edit = ("name", "edit", "Laptops")
    assert run(*edit, "L-{n}", "--platform", "windows", "--yes").code == 0
    assert run(*edit, "LAP-{n}", "--yes").code == 0
    [first, _] = world.client().naming.show().templates
    assert (first.pattern, first.platforms) == ("LAP-{n}", ("windows",))
    assert run(*edit).code == 2
    assert run(*edit, "X-{n}").code == 2, "a pipe cannot agree"
    assert run(*edit, "--all-platforms", "--yes").code == 0
    assert world.client().naming.show().templates[0].platforms == ()
