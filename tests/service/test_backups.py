"""Backup and restore, upgrades, recovery, retention: as whoever is on call would do them."""

from __future__ import annotations

import os
import subprocess
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path

import psycopg
import pytest
from alembic import command
from click.testing import CliRunner
from tests.processes import SORTITOR, Process
from tests.worlds import (
    PASSWORD,
    World,
    a_pass,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.errors import SortitorError
from sortitor.core.vocabulary import Role
from sortitor.operations import retention
from sortitor.operations.seals import seal
from sortitor.server import backups, keeping, rootless, wiring
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.store import schema
from sortitor.store.engine import make_engine


@pytest.fixture
def filled(world: World, tmp_path: Path) -> World:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    import_lot(s, manifest(tmp_path, ["serial,maker", *(f"KM-{i}00,Kelmar" for i in range(30))]))
    s.agent.knock(knocking(a_pass(s, person="maud"), "KM-100"))
    seal(world.run.context("schedule"))
    return world


def backed_up(world: World, file: Path, recipient: str = "") -> dict[str, object]:
    return backups.write_backup(world.run.url, file, world.run.settings.key_files, recipient)


def keys_in(place: Path) -> dict[str, Path]:
    """Where the keys of a state directory lie."""
    return Settings(state_dir=place).key_files


def state(url: str) -> dict[str, object]:
    """Everything that is kept, but for what restoring itself notes."""
    with psycopg.connect(url) as connection:
        tables = connection.execute(
            "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace ="
            " 'public'::regnamespace AND relname NOT LIKE 'procrastinate%%' AND relname NOT IN"
            " ('journal', 'installation') ORDER BY 1"
        ).fetchall()
        return {
            table: connection.execute(
                f"SELECT md5(string_agg(t::text, '|' ORDER BY t::text)) FROM {table} t"
            ).fetchone()
            for (table,) in tables
        }


def test_the_drill_a_backup_while_it_runs_comes_back_verified(
    filled: World, open_folder: Path, tmp_path: Path
) -> None:
    """The dead disk: what was backed up comes back in another place, and its service answers."""
    file = tmp_path / "monday.sortitor"
    made = backed_up(filled, file)
    before = state(filled.run.owner_url)
    place = open_folder / "another"
    environment = {"SORTITOR_STATE_DIR": str(place), "PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
    done = subprocess.run(
        [SORTITOR, "restore", file], env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert f"{made['counts']['devices']:,} devices" in done.stdout  # type: ignore[index]
    service = Process(SORTITOR_STATE_DIR=str(place))
    try:
        with Sortitor(service.url) as s:
            s.accounts.sign_in("coordinator", PASSWORD)
            assert s.devices.count() == 30
            [part] = s.journal.verify()
            assert not part.why
        with psycopg.connect(Cluster(place).start()) as connection:
            assert connection.execute("SELECT count(*) FROM devices").fetchone() == (30,)
        after = state(Cluster(place).start())
    finally:
        service.stop()
    # The service that came back has a schedule of its own.
    moved = {"sessions", "journal_seals", "jobs", "fleet_days"}
    assert {k: v for k, v in after.items() if k not in moved} == {
        k: v for k, v in before.items() if k not in moved
    }
    again = subprocess.run(
        [SORTITOR, "restore", file], env=environment, capture_output=True, text=True, check=False
    )
    assert (again.returncode, "already" in again.stderr) == (3, True), again.stderr


def test_a_backup_is_of_one_moment(filled: World, tmp_path: Path) -> None:
    """Whoever writes meanwhile is wholly in it or not at all."""
    s = filled.client()
    files = []
    for number in range(3):
        file = tmp_path / f"{number}.sortitor"
        path = manifest(tmp_path, ["serial", *(f"N{number}-{i}0" for i in range(20))], f"{number}")
        lot = s.lots.check(path)
        made = backed_up(filled, file)
        s.lots.apply(lot.id, s.lots.preview(lot.id).digest, None)
        files.append(made["counts"]["devices"])  # type: ignore[index]
    assert files == [30, 50, 70]


def test_an_encrypted_backup_opens_for_its_key_only(
    filled: World, open_folder: Path, tmp_path: Path
) -> None:
    run = CliRunner()
    right, wrong = tmp_path / "right.identity", tmp_path / "wrong.identity"
    recipient = run.invoke(keeping.backup_key, [str(right)]).stdout.strip()
    run.invoke(keeping.backup_key, [str(wrong)])
    assert recipient.startswith("age1")
    file = tmp_path / "secret.sortitor"
    backed_up(filled, file, recipient)
    content = file.read_bytes()
    assert content.startswith(b"age-encryption.org/v1")
    assert b"manifest.json" not in content
    place = open_folder / "opened"
    keys, former = keys_in(place), filled.run.settings.key_files
    for identity, words in ((None, "encrypted"), (wrong, "cannot be opened")):
        with pytest.raises(SortitorError, match=words):
            backups.restore_embedded(file, place, keys, identity)
    found = backups.restore_embedded(file, place, keys, right)
    assert found.sealed > 0
    for name, key in keys.items():
        assert key.read_text() == former[name].read_text()
        assert key.stat().st_mode & 0o077 == 0
    assert not list(place.glob(".restoring*"))
    with pytest.raises(SortitorError, match="no age recipient"):
        backed_up(filled, file, "somebody")


def test_a_damaged_backup_leaves_nothing_behind(
    filled: World, open_folder: Path, tmp_path: Path
) -> None:
    file = tmp_path / "whole.sortitor"
    backed_up(filled, file)
    whole = file.read_bytes()
    place = open_folder / "damaged"
    for content in (whole[: len(whole) // 2], b"no backup", whole.replace(b"KM", b"XX", 3)):
        bad = tmp_path / "bad.sortitor"
        bad.write_bytes(content)
        if content == whole:
            continue
        with pytest.raises(SortitorError):
            backups.restore_embedded(bad, place, keys_in(place), None)
    forged = tmp_path / "forged.sortitor"
    with zipfile.ZipFile(file) as source, zipfile.ZipFile(forged, "w") as target:
        for name in source.namelist():
            text = source.read(name)
            if name == "manifest.json":
                text = text.replace(b'"devices": 30', b'"devices": 31')
            target.writestr(name, text)
    with pytest.raises(SortitorError, match="30 rows instead of 31"):
        backups.restore_embedded(forged, place, keys_in(place), None)
    assert backups.restore_embedded(file, place, keys_in(place), None).sealed > 0


def test_scheduled_backups_come_when_due_and_old_ones_go(
    filled: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "backups"
    moments = [filled.run.clock.wall() + timedelta(hours=hours) for hours in (0, 1, 25, 50, 75)]
    settings = filled.run.settings
    monkeypatch.setattr(settings, "backup_keep", 2)
    made = []
    for moment in moments:
        monkeypatch.setattr(wiring, "wall_now", lambda moment=moment: moment)
        made.append(wiring.back_up_when_due(filled.run, folder))
    assert [one is not None for one in made] == [True, False, True, True, True]
    assert sorted(folder.iterdir()) == [made[3], made[4]]


def test_of_several_at_once_one_writes_the_first_backup(filled: World, tmp_path: Path) -> None:
    folder = tmp_path / "backups"
    with ThreadPoolExecutor(4) as threads:
        made = list(threads.map(lambda _: wiring.back_up_when_due(filled.run, folder), range(4)))
    assert [one for one in made if one is not None] == list(folder.iterdir())


def test_an_older_database_is_never_changed_by_a_start(
    filled: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    url = filled.run.owner_url
    engine = make_engine(url, 1)
    with engine.begin() as connection:
        command.downgrade(schema._config(connection), "0008")
    with pytest.raises(SortitorError, match=r"older version \(schema 0008\)"):
        wiring.require_current(url, url)
    assert schema.state(engine).revision == "0008"
    monkeypatch.setenv("SORTITOR_DATABASE_URL", url)
    monkeypatch.setenv("SORTITOR_STATE_DIR", str(tmp_path))
    said = CliRunner().invoke(keeping.migrate, ["--check"]).output
    for words in ("0009", "Purpose", "Lock and disk cost", "Way back"):
        assert words in said
    assert schema.state(engine).revision == "0008", "--check changes nothing"
    assert CliRunner().invoke(keeping.migrate, input="n\n").exit_code == 1
    done = CliRunner().invoke(keeping.migrate, ["--yes"])
    assert done.exit_code == 0, done.output
    assert len(list((tmp_path / "backups").glob("before-*"))) == 1
    wiring.require_current(url, url)
    with engine.begin() as connection:
        connection.exec_driver_sql("UPDATE alembic_version SET version_num = '0999'")
    with pytest.raises(SortitorError, match="newer Sortitor has changed this database"):
        wiring.require_current(url, url)
    engine.dispose()


def test_a_lost_administrator_is_let_in_again(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    [number] = [one.id for one in admin.accounts.list() if one.name == "administrator"]
    world.rows("UPDATE accounts SET disabled_at = now() WHERE id = %s", number)
    monkeypatch.setenv("SORTITOR_DATABASE_URL", world.run.owner_url)
    monkeypatch.setenv("SORTITOR_STATE_DIR", str(tmp_path))
    fresh = "nine grey herons wait"
    weak = CliRunner().invoke(keeping.recover, ["administrator", "--password", "password1234"])
    assert (weak.exit_code, "too weak" in weak.output) == (3, True)
    done = CliRunner().invoke(keeping.recover, ["administrator", "--password", fresh])
    assert done.exit_code == 0, done.output
    with Sortitor(world.url) as s:
        assert s.accounts.sign_in("administrator", fresh).role is Role.ADMINISTRATOR
    with pytest.raises(SignInNeeded):
        admin.accounts.list()
    entry = next(iter(world.client().journal.list("account.edit")))
    assert entry.actor == "recovery"


def test_what_is_old_goes_and_is_shown_before(filled: World, tmp_path: Path) -> None:
    s = filled.client()
    [lot] = [one.id for one in s.lots.list()]
    draft = s.lots.check(manifest(tmp_path, ["serial", "D-1"], "draft.csv"))
    filled.rows(
        "INSERT INTO mails (at, to_address, subject, kind, state) SELECT %s, 'a@b.example', s,"
        " 'test', s FROM unnest(ARRAY['sent', 'waiting']) s",
        filled.now,
    )
    told = "INSERT INTO reminded (key, ends_on, days, at) VALUES ('pool', %s, 30, %s)"
    filled.rows(told, filled.now.date(), filled.now)
    filled.later(days=801)
    shown = {one.what: one.count for one in s.retention.preview()}
    assert (shown["arrivals"], shown["uploaded files"]) == (1, 1)
    assert (shown["mails that were sent"], shown["notes of what was reminded of"]) == (1, 1)
    done = {one.what: one.count for one in retention.carry_out(filled.run.context("schedule"))}
    assert done["arrivals"] == 1
    assert list(s.arrivals.list()) == []
    with pytest.raises(Refused, match="let go after its time"):
        s.lots.file(lot)
    assert s.lots.file(draft.id), "a draft keeps its file"
    assert all(one.count == 0 for one in s.retention.preview() if one.what != "kept answers")
    assert filled.rows("SELECT state FROM mails") == [("waiting",)], "what is to be sent stays"
    assert filled.rows("SELECT summary FROM journal WHERE operation = 'retention.run'")


def test_root_becomes_a_user_of_its_own(open_folder: Path) -> None:
    place = open_folder / "rootless"
    service = Process(SORTITOR_STATE_DIR=str(place), SORTITOR_RUN_AS="sortitor")
    try:
        own = Path(f"/proc/{service.process.pid}/status").read_text()
        uid = int(next(line for line in own.splitlines() if line.startswith("Uid:")).split()[1])
        with psycopg.connect(Cluster(place).start()) as connection:
            row = connection.execute(
                "SELECT rolsuper FROM pg_roles WHERE rolname = 'sortitor_application'"
            ).fetchone()
            users = connection.execute(
                "SELECT DISTINCT usename FROM pg_stat_activity WHERE application_name <> 'psql'"
                " AND datname = 'sortitor' AND pid <> pg_backend_pid()"
            ).fetchall()
    finally:
        started = time.monotonic()
        service.stop()
    assert service.process.returncode == 0
    assert time.monotonic() - started < 20
    # Where the program itself lies in root's own folder, nobody else can run it: it says so and
    # stays.
    user = rootless._user("sortitor", place) if os.geteuid() == 0 else None
    assert (uid != 0) == (user is None or rootless._can_run(user))
    assert row == (False,)
    assert users == [("sortitor_application",)]
