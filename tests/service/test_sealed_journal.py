"""The journal's chain: sealed after its writers, proved, and broken by whoever touches it."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pytest
from tests.cli.conftest import Run
from tests.cli.conftest import run as run
from tests.worlds import NOW, World, import_lot, import_people, manifest

from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Role
from sortitor.operations import seals
from sortitor.operations.seals import seal
from sortitor.store.engine import transaction


def sealed(world: World) -> int:
    return seal(world.run.context("schedule"))


def past_the_triggers(world: World, statement: str) -> None:
    """As somebody with the database's own rights could do it."""
    with psycopg.connect(world.run.owner_url, autocommit=True) as connection:
        connection.execute("SET session_replication_role = replica")
        connection.execute(statement)


@pytest.fixture
def told(world: World, tmp_path: Path) -> World:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "zoë,Зоя مريم,,,,Crew")
    import_lot(s, manifest(tmp_path, ["serial,maker", *(f"KM-{i}00,Kelmar" for i in range(40))]))
    for device in list(s.devices.list(most=3)):
        s.devices.name(device.id, f"QUAY-{device.id}", "läuft")
    return world


def first_broken(world: World) -> int | None:
    parts = list(world.client().journal.verify())
    return parts[-1].broken_entry


def test_everything_is_sealed_once_in_order_and_verifies(told: World) -> None:
    assert sealed(told) > 4
    assert sealed(told) == 0
    rows = told.rows("SELECT place, entry_id FROM journal_seals ORDER BY place")
    assert [row[0] for row in rows] == list(range(1, len(rows) + 1))
    assert told.client().journal.head().waiting == 0
    [part] = told.client(Role.VIEWER).journal.verify()
    assert (part.checked, part.broken_entry, part.why) == (len(rows), None, "")


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE journal SET summary = 'nothing happened' WHERE id = {0}",
        "UPDATE journal SET actor = 'somebody' WHERE id = {0}",
        "UPDATE journal SET account_id = 999 WHERE id = {0}",
        "UPDATE journal SET at = at - interval '1 hour' WHERE id = {0}",
        "UPDATE journal SET recorded_at = recorded_at - interval '1 hour' WHERE id = {0}",
        "UPDATE journal SET after = '{{}}' WHERE id = {0}",
        "DELETE FROM journal WHERE id = {0}",
        "DELETE FROM journal_effects WHERE entry_id = {0}",
        'UPDATE journal_effects SET before = \'{{"name": "X"}}\' WHERE entry_id = {0}',
        "DELETE FROM journal_seals WHERE entry_id = {0}",
    ],
)
def test_the_first_entry_that_was_touched_is_named(told: World, statement: str) -> None:
    sealed(told)
    rows = told.rows("SELECT id FROM journal WHERE operation = 'device.name' ORDER BY id")
    number = int(str(rows[0][0]))
    past_the_triggers(told, statement.format(number))
    broken = first_broken(told)
    assert broken in (number, number + 1)
    assert list(told.client().journal.verify())[-1].why


def test_spans_of_created_devices_are_covered(told: World) -> None:
    sealed(told)
    [[entry]] = told.rows("SELECT entry_id FROM journal_creations")
    past_the_triggers(told, "UPDATE journal_creations SET last_device_id = last_device_id - 1")
    assert first_broken(told) == entry


def test_the_application_cannot_rewrite_what_it_wrote(told: World) -> None:
    for table in ("journal", "journal_effects", "journal_creations", "journal_seals"):
        for statement in (f"DELETE FROM {table}", f"TRUNCATE {table}"):
            with (
                pytest.raises(psycopg.errors.InsufficientPrivilege),
                psycopg.connect(told.run.url) as connection,
            ):
                connection.execute(statement)
            with pytest.raises(psycopg.Error):
                told.rows(statement)
    for statement in (
        "DROP TRIGGER journal_append_only ON journal",
        "ALTER TABLE journal DISABLE TRIGGER ALL",
        "SET session_replication_role = replica",
        "CREATE TABLE public.mine (id int)",
        "UPDATE alembic_version SET version_num = '0001'",
        "CREATE ROLE another",
    ):
        with (
            pytest.raises(psycopg.errors.InsufficientPrivilege),
            psycopg.connect(told.run.url) as connection,
        ):
            connection.execute(statement)


def test_a_head_that_was_given_out_proves_what_came_before(told: World) -> None:
    s = told.client()
    sealed(told)
    head = s.journal.head()
    s.devices.name(next(iter(s.devices.list(most=1))).id, "BOW-1", None)
    sealed(told)
    assert s.journal.check_head(head.signed).holds
    # Whoever has the database's rights can make a new chain over what he changed; not an old head.
    past_the_triggers(told, "UPDATE journal SET summary = 'x' WHERE operation = 'lot.apply'")
    past_the_triggers(told, "DELETE FROM journal_seals")
    with transaction(told.run.engine) as connection:
        seals.look_at_all(connection)
    sealed(told)
    assert first_broken(told) is None
    found = s.journal.check_head(head.signed)
    assert (found.holds, "another digest" in found.why) == (False, True)
    with pytest.raises(Refused, match="not signed by this installation"):
        s.journal.check_head(head.signed[:-4] + "AAAA")
    assert head.key["crv"] == "Ed25519"
    assert "d" not in head.key, "the private half stays here"


def test_a_transaction_that_is_late_is_sealed_all_the_same(told: World) -> None:
    """Its number is lower than that of entries which are sealed already."""
    sealed(told)
    insert = (
        "INSERT INTO journal (at, actor, operation, subject, summary) VALUES (now(), 'late',"
        " 'hold.end', 'device', 'late') RETURNING id"
    )
    with psycopg.connect(told.run.url) as late:
        row = late.execute(insert).fetchone()
        told.client().devices.name(1, "STERN-1", None)
        assert sealed(told) == 1
        late.commit()
    assert sealed(told) == 1
    assert row is not None
    [[place]] = told.rows("SELECT place FROM journal_seals WHERE entry_id = %s", row[0])
    assert place == told.client().journal.head().place
    assert first_broken(told) is None


def test_many_writers_and_many_sealers(told: World) -> None:
    s = told.client()
    numbers = [device.id for device in s.devices.list(most=30)]

    def name(number: int) -> int:
        told.client().devices.name(number, f"HOLD-{number}", None)
        return sealed(told)

    with ThreadPoolExecutor(8) as threads:
        list(threads.map(name, numbers))
    sealed(told)
    [[entries]] = told.rows("SELECT count(*) FROM journal")
    assert told.client().journal.head().place == entries
    assert first_broken(told) is None


def test_a_frozen_clock_is_said_and_accounts_are_numbered(told: World, run: Run) -> None:
    entry = next(iter(told.client().journal.list("device.name")))
    [[account]] = told.rows("SELECT id FROM accounts WHERE name = 'coordinator'")
    assert (entry.at.replace(microsecond=0), entry.account_id) == (NOW, account)
    assert abs((entry.recorded_at - told.run.clock.wall()).total_seconds()) < 60
    shown = run("journal", "show", entry.id).out
    assert "Recorded" in shown
    assert f"account {account}" in shown


def test_from_a_terminal(told: World, run: Run, tmp_path: Path) -> None:
    sealed(told)
    head = tmp_path / "head.jws"
    head.write_text(run("journal", "head").out)
    assert "are unchanged" in run("journal", "verify", "--head", head).err
    out = tmp_path / "journal.jsonl"
    assert run("journal", "export", "--to", out).code == 0
    lines = [json.loads(line) for line in out.read_text().splitlines()]
    assert [line["place"] for line in lines] == list(range(1, len(lines) + 1))
    assert told.rows("SELECT summary FROM journal WHERE operation = 'export'")
    past_the_triggers(told, "UPDATE journal SET reason = 'other' WHERE operation = 'device.name'")
    broken = run("journal", "verify")
    assert broken.code != 0
    assert "is broken after" in broken.err
    assert run("journal", "export", "--to", out, "--overwrite", role=Role.VIEWER).code == 4
