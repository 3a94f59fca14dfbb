"""A primary with a standby: writes go to the one, heavy reads to the other while it follows, and
when the primary dies nothing that was acknowledged is lost.
"""

import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest
from tests.processes import serve
from tests.standbys import Pair, a_pair

from sortitor.client import Sortitor
from sortitor.client.errors import SortitorError
from sortitor.core.filters import parse
from sortitor.core.selection import Selection
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Gap, Role, SourceKind
from sortitor.operations import accounts, context, levels, naming
from sortitor.operations.cohorts.documents import COHORTS
from sortitor.operations.context import Actor, Context
from sortitor.operations.gate import documents
from sortitor.operations.gate.replay import replay
from sortitor.operations.licences.pools import POOLS
from sortitor.operations.orders import ORDERS
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sweeps import runs
from sortitor.operations.sweeps.rules import RULES
from sortitor.operations.sweeps.rules import look as look_of_rule
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order
from sortitor.schemas.sweeps import Rule
from sortitor.server.settings import Settings
from sortitor.server.wiring import Runtime, runtime
from sortitor.store import levels as store_levels
from sortitor.store.engine import Connection, url_of

#: In which the service writes again, without anybody starting it again.
MOST_SECONDS = 15


@pytest.fixture
def pair() -> Iterator[Pair]:
    with a_pair() as found:
        yield found


def administrator(run: Runtime) -> Context:
    return Context(run.engine, run.clock, run.limits, Actor("test", Role.ADMINISTRATOR))


def settings(pair: Pair, tmp_path: Path) -> Settings:
    return Settings(
        database_url=pair.url,  # type: ignore[arg-type]
        standby_url=pair.standby_url,  # type: ignore[arg-type]
        state_dir=tmp_path / "state",
    )


def token_of(pair: Pair, tmp_path: Path) -> str:
    with runtime(settings(pair, tmp_path)) as run:
        number = accounts.add(
            administrator(run), "maud", "a long enough password", Role.ADMINISTRATOR
        )
        actor = Actor("maud", Role.ADMINISTRATOR, number)
        _, token = accounts.add_token(
            Context(run.engine, run.clock, run.limits, actor), "test", Role.ADMINISTRATOR, 1
        )
    return token


class Writer(threading.Thread):
    """Writes orders as fast as they are acknowledged, whatever fails meanwhile."""

    def __init__(self, s: Sortitor) -> None:
        super().__init__(daemon=True)
        self.s, self.ended = s, threading.Event()
        self.acknowledged: list[tuple[float, str]] = []

    def run(self) -> None:
        number = 0
        while not self.ended.is_set():
            number += 1
            try:
                self.s.orders.add(Order(name=f"WL-{number:05}"))
            except SortitorError:
                time.sleep(0.05)
                continue
            self.acknowledged.append((time.monotonic(), f"WL-{number:05}"))

    def wait_for_more(self, since: float) -> float:
        """When the next one was acknowledged."""
        until = time.monotonic() + 60
        while not (later := [at for at, _ in self.acknowledged if at > since]):
            assert time.monotonic() < until, "nothing is written any more"
            time.sleep(0.02)
        return later[0]


def test_no_acknowledged_write_is_lost_with_the_primary(pair: Pair, tmp_path: Path) -> None:
    token = token_of(pair, tmp_path)
    place = {
        "SORTITOR_DATABASE_URL": pair.url,
        "SORTITOR_STANDBY_URL": pair.standby_url,
        "SORTITOR_STATE_DIR": str(tmp_path / "state"),
    }
    with (
        serve(**place) as one,
        serve(**place, SORTITOR_WORKER="no") as other,
        Sortitor(one.url, token, retries=0) as s,
        Sortitor(other.url, token) as beside,
    ):
        writer = Writer(s)
        writer.start()
        writer.wait_for_more(time.monotonic())
        time.sleep(1)
        pair.kill_the_primary()
        died = time.monotonic()
        pair.promote()
        again = writer.wait_for_more(died + 0.01)
        assert again - died < MOST_SECONDS
        writer.ended.set()
        writer.join(30)
        names = {one.name for one in beside.orders.list()}
        assert {name for _, name in writer.acknowledged} <= names
        assert beside.orders.add(Order(name="After")).name == "After"


def test_heavy_reads_go_to_a_standby_that_follows(
    pair: Pair, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(context, "_BEHIND_SECONDS", 0.3)
    with runtime(settings(pair, tmp_path)) as run:
        ctx = run.context("test")
        assert ctx.engine is run.work_engine
        assert url_of(ctx.aside().engine) == pair.standby_url
        with ctx.aside().reading(one_moment=True) as connection:
            driver = connection.connection.driver_connection
            assert isinstance(driver, psycopg.Connection)
            assert driver.execute("SELECT pg_is_in_recovery()").fetchone() == (True,)
        # One that is behind is not asked.
        pair.at_standby("SELECT pg_wal_replay_pause()")
        with psycopg.connect(pair.primary_url, autocommit=True) as primary:
            primary.execute("CREATE TABLE something (id int)")
        time.sleep(0.5)
        assert ctx.aside().engine is run.work_engine
        pair.at_standby("SELECT pg_wal_replay_resume()")
        until = time.monotonic() + 20
        while url_of(ctx.aside().engine) != pair.standby_url:
            assert time.monotonic() < until
            time.sleep(0.05)
        # Nor one that is no longer there.
        pair.standby.halt()
        assert ctx.aside().engine is run.work_engine


def test_previews_of_the_fleet_are_made_by_a_standby_that_has_everything(
    pair: Pair, tmp_path: Path
) -> None:
    with runtime(settings(pair, tmp_path)) as run:
        ctx = administrator(run)
        with psycopg.connect(pair.primary_url) as primary:
            primary.execute(
                "WITH d AS (INSERT INTO devices (stage, stage_at, created_at, enrolled_at, seen_on,"
                " name) SELECT 'active', now(), now(), now(), current_date - 60, 'WM-' || n FROM"
                " generate_series(1, 9) n RETURNING id) INSERT INTO sightings SELECT id FROM d"
            )
        aside = replace(ctx, standby=run.standby)
        assert url_of(aside.aside(as_now=True).engine) == pair.standby_url
        rule = RULES.add(ctx, Rule(name="Quiet", idle_window_days=40))
        # Asked of the standby itself, so that whatever would write there fails.
        there = replace(ctx, engine=run.standby)
        gate = documents.read(ctx).document
        everything = Selection(filter=parse("id pr"))
        for look in (
            lambda one: documents.GATE.preview_edit(one, documents.GATE_ID, gate),
            lambda one: replay(one, gate).fleet.looked_at,
            lambda one: RULES.preview_edit(one, rule.id, Rule(name="Quiet", idle_window_days=50)),
            lambda one: look_of_rule(one, rule.document).counts,
            lambda one: runs.preview(one, rule.id),
            lambda one: POOLS.preview_add(one, Pool(name="Seats", seats=3, filter="id pr")),
            lambda one: COHORTS.preview_add(one, Cohort(name="All", filter="idleDays ge 1")),
            lambda one: naming.preview(one, None, everything),
        ):
            assert look(there) == look(ctx) == look(aside)
        assert runs.preview(aside, rule.id).examples_total == 9
        # A preview says what is so at this moment: nobody waits for one that stands still.
        pair.at_standby("SELECT pg_wal_replay_pause()")
        ORDERS.add(ctx, Order(name="WL-2"))
        assert url_of(aside.aside().engine) == pair.standby_url
        assert aside.aside(as_now=True).engine is run.engine


_ROSTERS = """
INSERT INTO devices (stage, stage_at, created_at, enrolled_at, seen_on, name, model, site)
SELECT CASE WHEN n = 9 THEN 'retired' ELSE 'active' END, now(), now(), now(), current_date,
    'WM-' || n, 'Deckhand 8', 'Quill' FROM generate_series(1, 9) n;
INSERT INTO sightings SELECT id FROM devices;
INSERT INTO identifiers (kind, value, maker, device_id)
SELECT 'serial', 'DH80010' || id, 'kelmar', id FROM devices;
INSERT INTO roster_devices (source_id, key, serial, maker, site, changed_at)
SELECT source, 'line ' || n, CASE WHEN n = 7 THEN 'DH8OO1O7' ELSE 'DH80010' || n END, 'kelmar',
    CASE WHEN n = 3 THEN 'Tarn' ELSE 'Quill' END, now()
FROM (VALUES (%(one)s, 2), (%(other)s, 4)) AS s (source, most), generate_series(most, 11) n;
INSERT INTO roster_devices (source_id, key, serial, maker, changed_at)
VALUES (%(one)s, 'again', 'DH800105', 'kelmar', now())
"""


def test_rosters_are_compared_by_a_standby(
    pair: Pair, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same disagreements and patterns as the primary finds; what is kept is written there."""
    with runtime(settings(pair, tmp_path)) as run:
        ctx = administrator(run)
        one, other = (
            SOURCES.add(ctx, Source(name=name, kind=SourceKind.ROSTER, covers="id pr")).id
            for name in ("Deck books", "Quay books")
        )
        with psycopg.connect(pair.primary_url, cursor_factory=psycopg.ClientCursor) as primary:
            primary.execute(_ROSTERS, {"one": one, "other": other})
        read_by: list[str] = []
        find = store_levels.find

        def told(connection: Connection, reading: Connection, ids: Sequence[int]) -> None:
            read_by.append(url_of(reading.engine))
            find(connection, reading, ids)

        monkeypatch.setattr(store_levels, "find", told)

        def compared(ctx: Context) -> tuple[object, ...]:
            with psycopg.connect(pair.primary_url) as primary:
                primary.execute("DELETE FROM discrepancies")
            levels.refresh(ctx)
            found = levels.overview(ctx)
            gaps = levels.page(ctx, levels.Chosen(), None, 100)
            known = [levels.present(ctx, one["mask"], None, 100) for one in found.patterns]
            return (
                [(one["name"], one["devices"]) for one in found.rosters],
                found.patterns,
                known,
                sorted((gap.kind, gap.label, gap.field, gap.near_percent) for gap in gaps),
            )

        at_the_primary = compared(ctx)
        assert compared(replace(ctx, standby=run.standby)) == at_the_primary
        assert read_by == [url_of(run.engine), pair.standby_url]
        kinds = {gap[0] for gap in at_the_primary[-1]}
        assert kinds == set(Gap)


def test_one_that_became_the_primary_is_no_standby(pair: Pair, tmp_path: Path) -> None:
    with runtime(settings(pair, tmp_path)) as run:
        pair.kill_the_primary()
        pair.promote()
        ctx = run.context("test")
        assert ctx.aside().engine is run.work_engine
        with ctx.reading() as connection:
            driver = connection.connection.driver_connection
            assert isinstance(driver, psycopg.Connection)
            assert driver.execute("SELECT pg_is_in_recovery()").fetchone() == (False,)
