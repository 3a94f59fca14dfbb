"""What one knock costs and does: round trips, one entry, one settling, a name for its audience."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import psycopg
import pytest
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client.errors import Refused
from sortitor.core.arrivals import Key, facts_after
from sortitor.core.vocabulary import Activation, LotStatus, Outcome, Ownership
from sortitor.schemas.arrivals import Announced
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import Policy
from sortitor.schemas.naming import Template
from sortitor.schemas.passes import PassTerms

MOST = 16


@pytest.fixture
def door(world: World, tmp_path: Path) -> World:
    """People, a lot, policies by device, cohorts by name, a list to be placed in, a counter."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,,,Crew")
    lines = [f"KM-{n},Kelmar,{imei(n)},Dunlin,gangway" for n in range(1, 8)]
    lot = manifest(tmp_path, ["serial,maker,imei,site,tags", *lines])
    import_lot(s, lot, ownership="corporate")
    policies = [Policy(name="Scanners", devices='tags eq "gangway"'), *s.gate.show().policies]
    s.gate.apply(policies, s.gate.preview(policies).digest)
    change_baseline(s, quota=5)
    s.naming.save(
        [
            Template(name="gangway", pattern="G-{n|pad 3}", devices='tags eq "gangway"'),
            Template(name="all", pattern="D-{n|pad 4}"),
        ]
    )
    s.cohorts.add(Cohort(name="Named", filter='name sw "G-"'))
    s.cohorts.add(Cohort(name="Kelmars"))
    world.rows("CREATE EXTENSION pg_stat_statements")
    return world


def statements(world: World, act: Callable[[], object]) -> dict[str, int]:
    """What the database was asked in the service's own connections: statement → how often."""
    with psycopg.connect(world.run.owner_url, autocommit=True) as connection:
        connection.execute("SELECT pg_stat_statements_reset()")
        act()
        found = connection.execute(
            "SELECT query, sum(calls) FROM pg_stat_statements JOIN pg_database d ON d.oid = dbid"
            " WHERE datname = current_database() AND query NOT LIKE '%pg_stat_statements%'"
            " GROUP BY query"
        ).fetchall()
    return {str(query): int(str(calls)) for query, calls in found}


def test_a_knock_costs_at_most_sixteen_round_trips_whichever_way_it_goes(door: World) -> None:
    s, device = door.client(), door.client(None)
    anybody, person = a_pass(s), a_pass(s, person="maud", cohort="Kelmars")
    shared = a_pass(s, activation=Activation.SHARED, cohort="Kelmars")
    terms = PassTerms(label="test", activation=Activation.SHARED)
    secret = s.passes.add(terms, passcode="gangplank").code
    credential: list[str | None] = []
    # Every connection plans the settling of cohorts once.
    for number in range(90, 96):
        device.agent.knock(knocking(shared, f"BW-{number}"))

    def came() -> Outcome:
        answer = device.agent.knock(knocking(person, "KM-1", imeis=[imei(1)]))
        credential.append(answer.credential)
        return answer.outcome

    def retired_comes_back() -> Outcome:
        return device.agent.knock(knocking(person, "KM-2", imeis=[imei(2)])).outcome

    assert device.agent.knock(knocking(person, "KM-2", imeis=[imei(2)])).device_id
    door.rows("UPDATE devices SET stage = 'retired' WHERE name = 'G-001'")
    door.rows("UPDATE credentials SET revoked_at = now()")
    ways: dict[str, tuple[Callable[[], Outcome], Outcome]] = {
        "awaited, of a person": (came, Outcome.ADMITTED),
        "comes back with its key": (
            lambda: (
                device.agent.knock(knocking(person, "KM-1", imeis=[imei(1)]), credential[0]).outcome
            ),
            Outcome.ADMITTED,
        ),
        "claims to be one in use": (
            lambda: device.agent.knock(knocking(shared, "KM-1", imeis=[imei(1)])).outcome,
            Outcome.PARKED,
        ),
        "retired, comes back": (retired_comes_back, Outcome.PARKED),
        "awaited, of nobody": (
            lambda: device.agent.knock(knocking(anybody, "KM-3", imeis=[imei(3)])).outcome,
            Outcome.PARKED,
        ),
        "unknown, of a person": (
            lambda: device.agent.knock(knocking(person, "BW-1")).outcome,
            Outcome.ADMITTED,
        ),
        "unknown, shared": (
            lambda: device.agent.knock(knocking(shared, "BW-2")).outcome,
            Outcome.ADMITTED,
        ),
        "names somebody else": (
            lambda: device.agent.knock(knocking(person, "BW-3", person="eve")).outcome,
            Outcome.REFUSED,
        ),
        "asked": (
            lambda: device.agent.knock(knocking(secret, "BW-4", protocol=2)).outcome,
            Outcome.ASKED,
        ),
        "with a passcode": (
            lambda: device.agent.knock(knocking(secret, "KM-5", passcode="gangplank")).outcome,
            Outcome.ADMITTED,
        ),
        "wrong code": (
            lambda: device.agent.knock(knocking("AAAAAAAAAA", "BW-5")).outcome,
            Outcome.REFUSED,
        ),
    }
    for way, (knock, outcome) in ways.items():
        came_to: list[Outcome] = []
        entries = door.rows("SELECT count(*) FROM journal")[0][0]
        asked = statements(door, lambda k=knock, found=came_to: found.append(k()))
        assert came_to == [outcome], way
        assert sum(asked.values()) <= MOST, (way, asked)
        settled = sum(calls for query, calls in asked.items() if "hold_cohorts" in query)
        told = int(str(door.rows("SELECT count(*) FROM journal")[0][0])) - int(str(entries))
        let_in = outcome in (Outcome.ADMITTED, Outcome.PARKED) and "claims" not in way
        assert (settled, told) == ((1, 1) if let_in else (0, 0)), way


def test_a_template_names_its_audience_by_what_is_known_once_the_device_is_let_in(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Bridge,,Crew", "odo,Odo Gannet,,Deck,,Office")
    lines = ["KM-1,Kelmar,gangway;deck:Boat", "KM-2,Kelmar,gangway", "KM-3,Kelmar,"]
    lot = manifest(tmp_path, ["serial,maker,tags", *lines])
    import_lot(s, lot, ownership="corporate")
    s.naming.save(
        [
            Template(
                name="crew",
                pattern="{person_department|upper|first 3}-{serial|last 1}",
                devices='person.groups eq "Crew"',
            ),
            Template(
                name="gangway",
                pattern='{tag.deck|upper|or "GANG"}-{n|pad 2}',
                devices='tags eq "gangway" and ownership eq "corporate"',
            ),
            Template(name="rest", pattern="{maker|upper|first 3}-{n}"),
        ]
    )
    anybody = a_pass(s)
    named = [
        s.agent.knock(knocking(a_pass(s, person="maud"), "KM-3")).name,
        s.agent.knock(knocking(a_pass(s, person="odo"), "KM-1")).name,
        s.agent.knock(knocking(anybody, "KM-2")).name,
        s.agent.knock(knocking(anybody, "KM-90", maker="Brackwell")).name,
    ]
    assert named == ["BRI-3", "BOAT-01", "GANG-02", "BRA-1"]
    # Naming the whole fleet by the same templates changes nothing.
    counts = {c.key: c.count for c in s.naming.preview(Selection()).counts}
    assert (counts["renamed"], counts["same"]) == (0, 4)


def test_a_name_that_is_taken_is_stepped_over(world: World) -> None:
    s = world.client()
    s.naming.save([Template(name="all", pattern="D-{n|pad 2}")])
    code = a_pass(s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    first = s.agent.knock(knocking(code, "KM-1"))
    s.devices.name(first.device_id or 0, "D-02")
    assert [s.agent.knock(knocking(code, f"KM-{n}")).name for n in (2, 3)] == ["D-03", "D-04"]


def test_a_device_that_keeps_its_person_is_named_by_them() -> None:
    keys = [Key("serial", "KM-1", "kelmar", "KM-1")]
    before = {"person.userName": "maud", "person.groups": ["Crew"], "serial": ["KM-0"]}
    kept = facts_after(before, {"os_version": "14"}, keys, {})
    assert (kept["person.userName"], kept["serial"]) == ("maud", ["KM-0", "KM-1"])
    assert facts_after(before, {}, keys, {"person.userName": "odo"})["person.userName"] == "odo"


def test_no_templates_name_nothing(world: World) -> None:
    assert world.client().naming.check([]) == []


def test_a_template_of_a_bad_filter_is_refused_where_it_stands(world: World) -> None:
    s = world.client()
    with pytest.raises(Refused, match="sight") as refused:
        s.naming.save([Template(name="all", pattern="D-{n}", devices='sight eq "Dunlin"')])
    assert refused.value.problem.errors[0].pointer == "/templates/0/devices"


def test_a_machine_tells_of_itself_with_a_pass_into_a_draft_lot(world: World) -> None:
    s, machine = world.client(), world.client(None)
    code = a_pass(s, max_uses=1)
    told = Announced(
        code=code,
        machine="fathom-14",
        serial="PW-7KQ2X",
        maker="Pellworth",
        macs=["00:1b:44:11:3a:b7"],
    )
    lot = s.lots.show(machine.agent.announce(told))
    assert (lot.status, lot.created_by) == (LotStatus.DRAFT, "device")
    assert "fathom-14" in lot.name
    assert machine.agent.announce(told) == lot.id, "the same again is the same lot"
    assert s.passes.show(next(iter(s.passes.list())).id).uses == 0
    assert s.devices.count() == 0, "until a coordinator applies it"
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest)
    assert [device.serial for device in s.devices.list()] == ["PW-7KQ2X"]
    said = set()
    s.passes.revoke(next(iter(s.passes.list())).id)
    for wrong in (code, "AAAAA-AAAAA", "="):
        with pytest.raises(Refused) as refused:
            machine.agent.announce(told.model_copy(update={"code": wrong}))
        said.add((refused.value.problem.code, refused.value.problem.detail))
    assert len(said) == 1, "no answer tells a pass that ended from one that never was"


def test_a_machine_with_a_pass_that_has_a_passcode(world: World) -> None:
    s, machine = world.client(), world.client(None)
    made = s.passes.add(PassTerms(label="Laptops"), passcode="blue heron 7")
    told = Announced(code=made.code, serial="PW-1")
    said = set()
    for wrong in (None, "blue heron 8", " "):
        with pytest.raises(Refused) as refused:
            machine.agent.announce(told.model_copy(update={"passcode": wrong}))
        said.add(refused.value.problem.code)
    assert said == {"pass_unknown"}
    assert list(s.lots.list()) == []
    right = told.model_copy(update={"passcode": "blue heron 7"})
    assert s.lots.show(machine.agent.announce(right)).status == LotStatus.DRAFT


def test_only_so_many_machines_wait(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sortitor.operations.arrivals.announcing.MOST_WAITING", 2)
    code = a_pass(world.client())
    machine = world.client(None)
    for number in (1, 2):
        machine.agent.announce(Announced(code=code, serial=f"PW-{number}00"))
    with pytest.raises(Refused, match="wait to be looked at"):
        machine.agent.announce(Announced(code=code, serial="PW-300"))
    with pytest.raises(Refused, match="Nothing that identifies"):
        machine.agent.announce(Announced(code=code))
