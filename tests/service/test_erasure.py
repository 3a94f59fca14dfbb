"""Erasing retired devices: nothing of them stays, the journal verifies, a certificate tells."""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

import polars as pl
import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from joserfc import jws
from joserfc.jwk import OKPKey
from tests.worlds import (
    NOW,
    World,
    a_pass,
    change_baseline,
    hold,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.erasing import fingerprint
from sortitor.core.lifecycle import steps
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Role
from sortitor.operations import seals
from sortitor.operations.context import Actor, Context
from sortitor.operations.sweeps import runs
from sortitor.schemas.devices import Selection
from sortitor.schemas.sweeps import Erasure, Rule
from sortitor.store.engine import url_of

SERIAL, TAG, NOTE = "ZQ7KM4410W", "WL-TAG-77", "Maud's own stickers"
#: What must be found nowhere afterwards.
WORDS = (SERIAL, TAG, "LAMP-ZQ7", "stickers")


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """Mails are written, and nobody sends them."""
    return make_world(mail_host="mail.invalid", mail_from="devices@wrenmoor.example")


def context(world: World) -> Context:
    run = world.run
    return Context(run.engine, run.clock, run.limits, Actor("schedule", Role.ADMINISTRATOR))


def ids(*numbers: int) -> Selection:
    return Selection(ids=list(numbers))


def retire(s: Sortitor, *numbers: int) -> None:
    s.devices.retire(ids(*numbers), s.devices.preview_retire(ids(*numbers)).digest)


def erase(s: Sortitor, *numbers: int) -> Erasure:
    shown = s.devices.preview_erase(ids(*numbers))
    return s.devices.erase(ids(*numbers), shown.digest, len(numbers), "sold")


def a_life(world: World, tmp_path: Path) -> Sortitor:
    """Device 1 with all that can be said of one, device 2 beside it in the same lot."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    import_lot(
        s,
        manifest(tmp_path, ["serial,asset tag,note", f"{SERIAL},{TAG},{NOTE}", "KM-2,WL-2,Galley"]),
        ownership="corporate",
        platform="android",
        maker="Kelmar",
    )
    code = a_pass(s, activation=Activation.SHARED)
    s.agent.knock(knocking(code, SERIAL))
    s.devices.assign(1, "maud", s.devices.preview_assign(1, "maud").digest)
    s.devices.name(1, "LAMP-ZQ7", "Maud's stickers")
    held = hold(s, 1, until=NOW.date() + timedelta(9), reason="stickers")
    s.holds.end(held.id)
    second = manifest(tmp_path, ["serial,note", f"{SERIAL},{NOTE}", "KM-3,"], "second.csv")
    import_lot(s, second, ownership="corporate", platform="android", maker="Kelmar")
    rule = s.sweep_rules.add(
        Rule(name="Quiet", idle_window_days=30, dormant_days=7, brake_percent=100)
    )
    world.later(days=31)
    s.sweeps.apply(rule.id, s.sweeps.preview(rule.id).digest)
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), SERIAL))
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-2"))
    world.rows(
        "INSERT INTO mails (at, to_address, subject, body, kind, state)"
        " SELECT at, to_address, subject, body, kind, 'sent' FROM mails"
    )
    retire(s, 1)
    assert s.agent.knock(knocking("AAAAA-AAAAA", SERIAL)).outcome is Outcome.REFUSED
    return s


def everything(world: World) -> str:
    """All that the database holds, as text; the cells of lots unpacked."""
    with psycopg.connect(world.run.owner_url) as connection:
        tables = connection.execute(
            "SELECT c.relname FROM pg_class c WHERE c.relkind = 'r'"
            " AND c.relnamespace = 'public'::regnamespace"
        ).fetchall()
        found = []
        for (table,) in tables:
            for row in connection.execute(f'SELECT * FROM "{table}" t'):  # type: ignore[call-overload]
                for value in row:
                    if isinstance(value, bytes) and value.startswith(b"ARROW1"):
                        found.append(pl.read_ipc(value).write_csv())
                    elif isinstance(value, bytes):
                        found.append(value.decode("utf-8", "replace"))
                    elif isinstance(value, dict | list):
                        found.append(json.dumps(value, ensure_ascii=False))
                    else:
                        found.append(str(value))
    return "\n".join(found)


def verified(s: Sortitor, world: World) -> bool:
    seals.seal(context(world))
    parts = list(s.journal.verify())
    assert [part for part in parts if part.broken_entry is not None] == []
    return sum(part.checked for part in parts) > 0


def test_nothing_of_it_stays_and_the_journal_verifies(world: World, tmp_path: Path) -> None:
    s = a_life(world, tmp_path)
    before = everything(world)
    assert [word for word in WORDS if word not in before] == [], "there is something to erase"
    shown = s.devices.preview_erase(ids(1, 2))
    counts = {count.key: count.count for count in shown.counts}
    assert (counts["erased"], counts["other"], counts["files"]) == (1, 1, 2)
    assert counts["arrivals"] >= 2
    assert "cannot be taken back" in shown.warnings[0]
    with pytest.raises(Refused) as refused:
        s.devices.erase(ids(1, 2), shown.digest, 2, "sold")
    assert refused.value.problem.code == "confirm_erasure"
    done = s.devices.erase(ids(1, 2), shown.digest, 1, "sold")

    after = everything(world)
    assert [word for word in WORDS if word.lower() in after.lower()] == []
    assert "KM-2" in after, "what stands beside it stays"
    assert "Galley" in after
    assert verified(s, world)
    with pytest.raises(Refused) as gone:
        s.devices.show(1)
    assert gone.value.problem.status == 404
    assert f"certificate {done.id}" in gone.value.problem.detail
    # What counts devices, lists them or opens their lots goes on.
    assert [device.id for device in s.devices.list()] == [2, 3]
    for lot in list(s.lots.list()):
        assert s.lots.show(lot.id)
        assert list(s.lots.rows(lot.id))
    for entry in list(s.journal.list()):
        assert s.journal.show(entry.id)
    assert all(arrival.stated.get("serial") != SERIAL for arrival in s.arrivals.list())
    # Nothing brings it back.
    entry = next(e for e in s.journal.list() if e.operation == "device.erase")
    with pytest.raises(Refused) as final:
        s.journal.preview_revert(entry.id)
    assert final.value.problem.code == "cannot_be_reverted"
    retired = next(e for e in s.journal.list() if e.operation == "device.retire")
    undoing = {c.key: c.count for c in s.journal.preview_revert(retired.id).counts}
    assert (undoing["restored"], undoing["left"]) == (0, 1)
    # The identifiers are free: it comes again as a new device.
    again = s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), SERIAL))
    assert again.outcome is Outcome.ADMITTED
    assert again.device_id not in (1, 2, 3)


def test_the_certificate_tells_who_what_and_when(world: World, tmp_path: Path) -> None:
    s = a_life(world, tmp_path)
    done = erase(s, 1)
    assert [one.id for one in s.erasures.list()] == [done.id]
    found = s.erasures.certificate(done.id)
    assert (found["by"], found["reason"]) == ("coordinator", "sold")
    assert found["at"].startswith(f"{world.now:%F}")
    [device] = found["devices"]
    assert (device["number"], device["ownership"]) == (1, "corporate")
    # Whoever knows the serial number finds it again.
    assert {"kind": "serial", "sha256": fingerprint(found["salt"], SERIAL)} in device["identifiers"]
    assert SERIAL not in json.dumps(found)
    checked = jws.deserialize_compact(
        found["signed"], OKPKey.import_key(found["key"]), algorithms=["Ed25519"]
    )
    told = json.loads(checked.payload)
    assert told == {name: found[name] for name in told}


def test_of_somebodys_own_device_the_certificate_says_the_number_alone(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    own = a_pass(s, ownership=Ownership.PERSONAL, person="maud")
    s.agent.knock(knocking(own, SERIAL, imeis=[imei(3)]))
    retire(s, 1)
    done = erase(s, 1)
    [device] = s.erasures.certificate(done.id)["devices"]
    assert (device["ownership"], device["identifiers"]) == ("personal", [])


def test_what_only_looks_alike_in_other_rows_stays(world: World, tmp_path: Path) -> None:
    """A device called like a site takes no rows of that site with it."""
    s = world.client()
    lines = ["serial,site,note", "KM-1,PETREL,first", "KM-2,PETREL,second"]
    import_lot(s, manifest(tmp_path, lines), ownership="corporate", platform="android")
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-1"))
    s.devices.name(1, "PETREL")
    retire(s, 1)
    erase(s, 1)
    [lot] = list(s.lots.list())
    assert [row.cells["note"] for row in s.lots.rows(lot.id)] == [None, "second"]


def test_refused_arrivals_of_the_same_numbers_go_and_others_stay(world: World) -> None:
    """Also where nobody knew the device, however short its number; not because of a mere name."""
    s = world.client()
    change_baseline(s, android="10")
    code = a_pass(s, activation=Activation.SHARED)
    for serial, imeis in (("KM-1", [imei(1)]), ("OTHER", [imei(1)]), ("BRIDGE-9", [imei(2)])):
        old = knocking(code, serial, imeis=imeis, os_version="5")
        assert s.agent.knock(old).outcome is Outcome.REFUSED
    s.agent.knock(knocking(code, "KM-1", imeis=[imei(1)]))
    s.devices.name(1, "BRIDGE-9")
    retire(s, 1)
    erase(s, 1)
    stated = [arrival.stated.get("serial") for arrival in s.arrivals.list()]
    assert sorted(filter(None, stated)) == ["BRIDGE-9"]


def test_only_what_is_retired_and_free_of_holds_goes(world: World, tmp_path: Path) -> None:
    s = a_life(world, tmp_path)
    with pytest.raises(Refused) as refused:
        erase(s, 2)
    assert refused.value.problem.code == "nothing_to_do"
    with pytest.raises(psycopg.errors.RestrictViolation):
        world.rows("DELETE FROM devices WHERE stage = 'active'")
    retire(s, 2)
    with pytest.raises(Refused):
        s.devices.erase(ids(2), s.devices.preview_erase(ids(1)).digest, 1)
    with pytest.raises(Refused) as viewer:
        world.client(Role.VIEWER).devices.erase(ids(2), "x", 1)
    assert viewer.value.problem.status == 403


def test_a_journal_that_was_emptied_without_an_erasure_is_broken(
    world: World, tmp_path: Path
) -> None:
    """What the owner of the database does behind the service is seen."""
    s = a_life(world, tmp_path)
    erase(s, 1)
    assert verified(s, world)
    named = next(e for e in s.journal.list() if e.operation == "lot.apply")
    with psycopg.connect(world.run.owner_url, autocommit=True) as owner:
        with pytest.raises(psycopg.errors.RestrictViolation):
            owner.execute("UPDATE journal SET summary = 'x' WHERE id = %s", [named.id])
        owner.execute("SET sortitor.erasing = 'yes'")
        [[erasing]] = owner.execute(
            "SELECT id FROM journal WHERE operation = 'device.erase'"
        ).fetchall()
        owner.execute(
            "UPDATE journal SET summary = 'Erased', erased_by = %s WHERE id = %s",
            [erasing, named.id],
        )
    assert [part.broken_entry for part in s.journal.verify()] == [named.id]
    with psycopg.connect(own_role(world), autocommit=True) as service:
        service.execute("SET sortitor.erasing = 'yes'")
        with pytest.raises(psycopg.errors.InsufficientPrivilege):
            service.execute("UPDATE journal SET summary = 'x'")
        with pytest.raises(psycopg.errors.RestrictViolation):
            service.execute("SELECT erase_from_journal('{2}', 1)")


def own_role(world: World) -> str:
    """The address with which the service itself speaks to the database."""
    return url_of(world.run.engine)


def test_a_rule_erases_after_its_retention(world: World, tmp_path: Path) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    for n in range(3):
        s.agent.knock(knocking(code, f"KM-{n}"))
    rule = s.sweep_rules.add(
        Rule(name="Quiet", idle_window_days=30, retention_days=100, every_hours=6, brake_percent=60)
    )
    retire(s, 1)
    hold(s, 2, until=NOW.date() + timedelta(400))
    world.later(days=99)
    assert s.sweeps.preview_erasure(rule.id).nothing_to_do
    assert not [item for item in s.today.show().items if item.kind == "erasure"]
    world.later(days=1)
    assert s.sweeps.preview_erasure(rule.id).examples_total == 1
    [item] = [item for item in s.today.show().items if item.kind == "erasure"]
    assert (item.count, item.command) == (1, f"sortitor sweep erase {rule.id}")
    runs.run_scheduled(context(world))
    assert [one.devices for one in s.erasures.list()] == [1]
    assert "100 days after" in s.erasures.certificate(1)["reason"]
    # More at once than the brake allows waits for a coordinator; what is held stays.
    world.rows("UPDATE sweep_rules SET document = document || '{\"brake_percent\": 1}'")
    world.later(days=101)
    runs.run_scheduled(context(world))
    assert len(list(s.erasures.list())) == 1
    shown = s.sweeps.preview_erasure(rule.id)
    s.sweeps.erase(rule.id, shown.digest, 1, "looked at")
    assert [device.id for device in s.devices.list()] == [2]
    assert verified(s, world)


# ---- by chance


#: Every step that the table knows, there and back.
TABLE = {f"{before}>{after}" for before, after in steps(True)}


@dataclass
class Life:
    """One device, whose credential is the latest that it was given."""

    world: World
    s: Sortitor
    rule: int
    serial: str
    credential: str = ""

    @property
    def number(self) -> int:
        """Its number; one that no device has where it is not in the fleet."""
        return next((device.id for device in self.s.devices.list(query=self.serial)), 0)

    def knock(self) -> None:
        code = a_pass(self.s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
        self.credential = self.s.agent.knock(knocking(code, self.serial)).credential or ""

    def check_in(self) -> None:
        self.s.agent.check_in(self.credential)

    def retire(self) -> None:
        retire(self.s, self.number)

    def bring_back(self) -> None:
        chosen = ids(self.number)
        self.s.devices.bring_back(chosen, self.s.devices.preview_bring_back(chosen).digest)

    def erase(self) -> None:
        erase(self.s, self.number)

    def hold(self) -> None:
        hold(self.s, self.number, until=self.world.now.date() + timedelta(5))

    def sweep(self) -> None:
        self.s.sweeps.apply(self.rule, self.s.sweeps.preview(self.rule).digest)

    def revert_last(self) -> None:
        entry = next(iter(self.s.journal.list(most=1)))
        self.s.journal.revert(entry.id, self.s.journal.preview_revert(entry.id).digest)

    def revert_one_before(self) -> None:
        entry = list(self.s.journal.list(most=3))[-1]
        self.s.journal.revert(entry.id, self.s.journal.preview_revert(entry.id).digest)

    def wait(self) -> None:
        self.world.later(days=13)


ACTS = [
    Life.knock,
    Life.check_in,
    Life.retire,
    Life.bring_back,
    Life.erase,
    Life.hold,
    Life.sweep,
    Life.revert_last,
    Life.revert_one_before,
    Life.wait,
    Life.wait,
]


def test_whatever_happens_in_whatever_order_the_table_holds(world: World) -> None:
    s = world.client()
    rule = s.sweep_rules.add(
        Rule(name="Quiet", idle_window_days=21, dormant_days=5, brake_percent=100)
    )
    serials = (f"LIFE-{n}" for n in itertools.count())

    @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.lists(st.tuples(st.sampled_from(ACTS), st.integers(0, 2)), min_size=5, max_size=15))
    def lives(acts: list[tuple[Callable[[Life], None], int]]) -> None:
        several = [Life(world, s, rule.id, next(serials)) for _ in range(3)]
        for life in several:
            life.knock()
        for act, place in acts:
            # It may be refused, in words; nothing else may come of it.
            with suppress(Refused, SignInNeeded):
                act(several[place])
        hold_together(world)
        assert verified(s, world)

    lives()


def hold_together(world: World) -> None:
    """What must be so whatever happened."""
    took = world.rows(
        "SELECT DISTINCT before ->> 'stage' || '>' || (after ->> 'stage') FROM journal_effects"
        " WHERE before ? 'stage' AND after ? 'stage'"
    )
    assert {str(step) for (step,) in took} <= TABLE
    for nothing in (
        "SELECT FROM devices WHERE retire_on IS NOT NULL AND stage <> 'dormant'",
        "SELECT FROM erased_devices JOIN devices ON id = device_id",
        "SELECT FROM credentials c JOIN devices d ON d.id = c.device_id"
        " WHERE d.stage = 'retired' AND c.revoked_at IS NULL AND c.claim_id IS NULL",
        "SELECT FROM identifiers i LEFT JOIN devices d ON d.id = i.device_id WHERE d.id IS NULL",
    ):
        assert not world.rows(nothing), nothing
