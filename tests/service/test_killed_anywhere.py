"""kill -9 at any point of an apply, a sweep, a seal or a restore: nothing is half there, and the
journal verifies.
"""

from __future__ import annotations

import os
import random
import subprocess
import threading
import time
from contextlib import suppress
from pathlib import Path

import psycopg
import pytest
from tests.processes import SORTITOR, Process
from tests.worlds import PASSWORD, manifest, sized

from sortitor.client import Sortitor
from sortitor.client.errors import SortitorProblem, Unreachable
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import Given, Item, Kit
from sortitor.schemas.sweeps import Rule
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime

_opened: list[Sortitor] = []
KILLS = 50 if sized(1) > 1 else 6
ROWS = 4_000 if sized(1) > 1 else 800


@pytest.fixture
def service(open_folder: Path) -> Process:
    place = open_folder / f"killed-{random.randrange(10**9)}"
    settings = Settings(state_dir=place)
    with runtime(settings) as run:
        system = Context(run.engine, run.clock, run.limits, Actor("recovery", Role.ADMINISTRATOR))
        accounts.add(system, "ann", PASSWORD, Role.ADMINISTRATOR)
    made = Process(SORTITOR_STATE_DIR=str(place), SORTITOR_SIGN_INS_PER_MINUTE="10000")
    yield made  # type: ignore[misc]
    while _opened:
        _opened.pop().close()
    if made.process.poll() is None:
        made.stop()
    with suppress(Exception):
        Cluster(place).halt()


def in_person(service: Process) -> Sortitor:
    s = Sortitor(service.url, timeout_seconds=60)
    _opened.append(s)
    s.accounts.sign_in("ann", PASSWORD)
    return s


def killed(service: Process, act, chance: random.Random, longest: float) -> None:  # type: ignore[no-untyped-def]
    """Do it, and kill the service within that time; then start it again."""

    def quietly() -> None:
        with suppress(SortitorProblem, Unreachable, OSError):
            act()

    worker = threading.Thread(target=quietly)
    worker.start()
    time.sleep(chance.random() * longest)
    service.kill()
    worker.join()
    service.start()


@pytest.mark.large
def test_nothing_is_half_applied_and_the_journal_verifies(service: Process, tmp_path: Path) -> None:
    chance = random.Random(20_261_126)
    whole, applied = 0, 0
    for number in range(KILLS):
        s = in_person(service)
        kind = number % 3
        if kind < 2:
            lines = [f"K{number}-{row:05}" for row in range(ROWS)]
            lot = s.lots.check(manifest(tmp_path, ["serial", *lines], f"{number}.csv"))
            digest = s.lots.preview(lot.id).digest
            act = lambda: s.lots.apply(lot.id, digest, None)  # noqa: E731, B023
            killed(service, act, chance, 0.8)
            s = in_person(service)
            status = s.lots.show(lot.id).status
            whole += ROWS if status == "applied" else 0
            applied += status == "applied"
        else:
            rule = s.sweep_rules.add(
                Rule(name=f"r{number}", idle_window_days=21, brake_percent=100)
            )
            digest = s.sweeps.preview(rule.id).digest
            act = lambda: s.sweeps.apply(rule.id, digest)  # noqa: E731, B023
            killed(service, act, chance, 0.4)
            s = in_person(service)
        assert s.devices.count() == whole
        entries = [e for e in s.journal.list("lot.apply")]
        assert len(entries) == applied, "an entry for each lot that was applied, and no other"
        parts = list(s.journal.verify())
        assert not parts[-1].why, parts[-1]
    s = in_person(service)
    until = time.monotonic() + 30
    while s.journal.head().waiting and time.monotonic() < until:
        time.sleep(0.5)
    assert s.journal.head().waiting == 0, "what waited for its seal got it"
    assert not list(s.journal.verify())[-1].why


@pytest.mark.slow
@pytest.mark.large
def test_a_kit_is_given_whole_or_not_at_all(service: Process, tmp_path: Path) -> None:
    """Neither an assignment nor a push is ever half there."""
    chance = random.Random(15)
    s = in_person(service)
    lines = [f"K-{row:05},{['Deck', 'Quay'][row % 2]}" for row in range(ROWS)]
    lot = s.lots.check(manifest(tmp_path, ["serial,site", *lines]), defaults={"platform": "ios"})
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest, None)
    s.cohorts.add(Cohort(name="Deck", filter='site eq "Deck"'))
    payload = {"kind": "setting", "setting": "screen-lock", "value": True}
    s.items.add(Item.model_validate({"name": "Lock", "payload": payload}))
    everybody = Selection(filter="id pr")
    for number in range(max(4, KILLS // 5)):
        to_deck = (Given(cohort="Deck"),)
        kit = Kit(name=f"Kit {number}", items=("Lock",), given=to_deck)
        if number % 2:
            digest = s.kits.preview_push(everybody).digest
            act = lambda: s.kits.push(everybody, digest)  # noqa: E731, B023
        else:
            act = lambda: s.kits.add(kit)  # noqa: E731, B023
        killed(service, act, chance, 0.2)
        s = in_person(service)
        there = [one.name for one in s.kits.list()]
        gets = s.devices.count(filter='items eq "Lock"')
        assert gets == (ROWS // 2 if there else 0), there
        entries = [entry.operation for entry in s.journal.list()]
        assert entries.count("kit.add") == len(there)
        with psycopg.connect(Cluster(_place(service)).start("sortitor")) as connection:
            asked = "SELECT (SELECT count(*) FROM givings), (SELECT count(*) FROM kit_pushes)"
            assert connection.execute(asked).fetchone() == (len(there), entries.count("kit.push"))


def _place(service: Process) -> Path:
    return Path(service.environment["SORTITOR_STATE_DIR"])


@pytest.mark.slow
@pytest.mark.large
def test_a_restore_that_is_killed_leaves_no_database(
    service: Process, open_folder: Path, tmp_path: Path
) -> None:
    s = in_person(service)
    lot = s.lots.check(manifest(tmp_path, ["serial", *(f"B-{i:05}" for i in range(ROWS))]))
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest, None)
    file = tmp_path / "b.sortitor"
    environment = {**os.environ, "SORTITOR_STATE_DIR": service.environment["SORTITOR_STATE_DIR"]}
    subprocess.run([SORTITOR, "backup", file], env=environment, check=True, capture_output=True)
    place = open_folder / f"again-{random.randrange(10**9)}"
    environment["SORTITOR_STATE_DIR"] = str(place)
    command = [SORTITOR, "restore", file]
    chance = random.Random(7)
    finished = False
    for _ in range(max(4, KILLS // 5)):
        program = subprocess.Popen(command, env=environment, stderr=subprocess.DEVNULL)
        try:
            finished = program.wait(1 + chance.random() * 4) == 0
        except subprocess.TimeoutExpired:
            program.kill()
            program.wait()
        cluster = Cluster(place)
        with psycopg.connect(cluster.start("postgres")) as connection:
            there = connection.execute(
                "SELECT FROM pg_database WHERE datname = 'sortitor'"
            ).fetchone()
        cluster.stop()
        assert (there is not None) == finished or there is not None
        if there is not None:
            break
    if not finished and there is None:
        subprocess.run(command, env=environment, check=True, capture_output=True)
    restored = Process(SORTITOR_STATE_DIR=str(place))
    try:
        again = in_person(restored)
        assert again.devices.count() == ROWS
        assert not list(again.journal.verify())[-1].why
    finally:
        restored.stop()
