"""The gate over HTTP: facets and audiences at the door, the effective gate, and a change replayed
against the fleet and the arrivals as they were.
"""

from __future__ import annotations

import csv
import io
from pathlib import Path
from random import Random

import polars as pl
import pytest
from tests.draws import first_of
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.gate import Arrival, Gate, Holding, decide, replay
from sortitor.core.gate.replay import turned
from sortitor.core.vocabulary import (
    Activation,
    Facet,
    Listed,
    Outcome,
    Ownership,
    Platform,
    Returning,
    Role,
)
from sortitor.schemas.gate import (
    EffectiveAsked,
    Listing,
    PlatformRule,
    Policy,
    Quota,
    Try,
    VersionBounds,
)

ANDROID = Platform.ANDROID


def with_policies(s: Sortitor, *policies: Policy) -> list[Policy]:
    """The gate in force with policies before its baseline."""
    return [*policies, s.gate.show().policies[-1]]


def save(s: Sortitor, policies: list[Policy]) -> None:
    s.gate.apply(policies, s.gate.preview(policies).digest)


def test_policies_for_people_and_for_declared_devices_decide_at_the_door(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "odo,Odo Gannet,,,,Crew")
    import_lot(s, manifest(tmp_path, ["serial,maker,model,tags", "KM-1,Kelmar,Scan 2,gangway"]))
    scanners = Policy(
        name="Scanners",
        devices='tags eq "gangway"',
        platforms={ANDROID: PlatformRule(versions=VersionBounds(oldest="15"))},
    )
    odo = Policy(name="Odo alone", people=("odo",), quota=Quota(devices=1))
    save(s, with_policies(s, scanners, odo))
    maud, odo = a_pass(s, person="maud"), a_pass(s, person="odo")
    assert s.agent.knock(knocking(maud, "KM-1")).codes == ["os_too_old"]
    assert s.agent.knock(knocking(odo, "KM-2")).outcome is Outcome.ADMITTED
    assert s.agent.knock(knocking(odo, "KM-3")).codes == ["quota_reached"]
    assert s.agent.knock(knocking(maud, "KM-4")).outcome is Outcome.ADMITTED


def test_what_a_device_says_of_its_make_does_not_change_what_was_declared(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,model", "KM-1,Kelmar,Scan 2"]))
    only = Listing(listed=Listed.ONLY, names=("Mate 3",))
    last = s.gate.show().policies[-1]
    rules = {**last.platforms, ANDROID: PlatformRule(open=True, models=only)}
    save(s, [last.model_copy(update={"platforms": rules})])
    code = a_pass(s, activation=Activation.SHARED)
    assert s.agent.knock(knocking(code, "KM-1", model="Mate 3")).codes == ["model_denied"]
    assert s.agent.knock(knocking(code, "KM-9", model="MATE-3")).outcome is Outcome.ADMITTED
    change_baseline(s, platforms={**rules, ANDROID: PlatformRule(open=True)})
    answer = s.agent.knock(knocking(code, "KM-1", model="Mate 3"))
    assert s.devices.show(answer.device_id or 0).model == "Scan 2"


def test_a_policy_names_whom_it_knows_only(world: World) -> None:
    s = world.client()
    with pytest.raises(Refused, match="nobody's user name"):
        s.gate.preview(with_policies(s, Policy(name="X", people=("nobody.here",))))
    with pytest.raises(Refused, match="which nobody is in"):
        s.gate.preview(with_policies(s, Policy(name="X", groups=("Nowhere",))))


def test_the_quota_holds_when_a_coordinator_gives_a_device(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    change_baseline(s, quota=1)
    code, waiting = a_pass(s, person="maud"), a_pass(s, activation=Activation.COORDINATOR)
    s.agent.knock(knocking(code, "KM-1"))
    parked = s.agent.knock(knocking(waiting, "KM-2")).device_id or 0
    shown = s.devices.preview_assign(parked, "maud")
    assert shown.warnings[0].startswith("Cannot be done: Baseline allows 1 device per person")
    with pytest.raises(Refused, match="allows 1 device per person"):
        s.devices.assign(parked, "maud", shown.digest)
    [quota] = s.people.show("maud").quotas
    assert (quota.counted, quota.devices, quota.words) == (1, 1, "1 device")


def test_the_quota_holds_when_a_change_is_taken_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "odo,Odo Gannet,,,,Crew")
    change_baseline(s, quota=1)
    first = s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1")).device_id or 0
    s.devices.assign(first, "odo", s.devices.preview_assign(first, "odo").digest)
    given = next(e for e in s.journal.list() if e.operation == "device.assign")
    s.agent.knock(knocking(a_pass(s, person="maud"), "KM-2"))
    digest = s.journal.preview_revert(given.id).digest
    with pytest.raises(Refused, match="Maud Fenwick would have 2 of 1 device"):
        s.journal.revert(given.id, digest)
    assert s.devices.show(first).person_name == "Odo Gannet"
    change_baseline(s, quota=2)
    s.journal.revert(given.id, s.journal.preview_revert(given.id).digest)
    assert s.people.show("maud").holding == 2


def test_the_quota_holds_when_a_lot_gives_a_device(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    change_baseline(s, quota=1)
    s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1"))
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-2"))
    path = manifest(tmp_path, ["serial,maker,person", "KM-2,Kelmar,maud"])
    with pytest.raises(Refused, match="Maud Fenwick would have 2"):
        import_lot(s, path)
    assert s.people.show("maud").holding == 1
    change_baseline(s, quota=2)
    import_lot(s, manifest(tmp_path, ["serial,maker,person", "KM-2,Kelmar,maud"], "again.csv"))
    assert s.people.show("maud").holding == 2


def test_a_policy_ends_by_itself_and_says_whom_it_concerns(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(
        s, tmp_path, *(f"p{n},Person {n},,,,{'Officers' if n < 3 else ''}" for n in range(9))
    )
    change_baseline(s, quota=1)
    today = world.now.date()
    refit = Policy(name="Refit", groups=("Officers",), quota=Quota(devices=2), until=today)
    policies = with_policies(s, refit)
    shown = s.gate.preview(policies)
    assert {one.key: one.count for one in shown.counts}["concerned"] == 3
    line = shown.examples[0]
    assert (line.subject, line.before, line.after) == ("3 people", "1 device", "2 devices")
    save(s, policies)
    assert [(one.kind, one.ends_on) for one in s.ends.list()] == [("policy", today)]
    code = a_pass(s, person="p0", max_uses=9)
    assert s.agent.knock(knocking(code, "KM-1")).outcome is Outcome.ADMITTED
    assert s.agent.knock(knocking(code, "KM-2")).outcome is Outcome.ADMITTED
    assert s.agent.knock(knocking(code, "KM-3")).outcome is Outcome.REFUSED
    world.later(days=1)
    # It counts no more; who has two keeps them.
    [standing] = s.people.show("p0").quotas
    assert (standing.counted, standing.devices, standing.policy) == (2, 1, "Baseline")
    [remark] = s.gate.check(s.gate.show().policies)
    assert "ended on" in remark.detail
    assert [one for one in s.ends.list() if one.kind == "policy"] == []
    effective = s.gate.effective(EffectiveAsked(person="p0"))
    assert effective.policies == ["Baseline"]


def test_a_version_that_is_not_stated_is_what_it_depends_on(world: World) -> None:
    s = world.client()
    change_baseline(s, android="13")
    tried = s.gate.attempt(Try(platform=Platform.ANDROID, ownership=Ownership.CORPORATE))
    assert tried.depends == "It depends on the system version: 13 or later (Baseline) is let in."
    old = Try(platform=Platform.ANDROID, os_version="9", ownership=Ownership.CORPORATE)
    assert s.gate.attempt(old).depends is None


def test_the_effective_gate_of_a_person_a_group_and_a_device(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    import_lot(s, manifest(tmp_path, ["serial,maker,tags", "KM-1,Kelmar,gangway"]))
    crew = Policy(name="Crew", groups=("crew",), quota=Quota(devices=2))
    scanners = Policy(
        name="Scanners", devices='tags eq "gangway"', declared_only=True, note="Nobody has them"
    )
    save(s, with_policies(s, crew, scanners))

    def quota_and_declared(asked: EffectiveAsked) -> tuple[str, str]:
        found = s.gate.effective(asked)
        words = {one.facet: one for one in found.statements if one.platform is None}
        return words[Facet.QUOTA].policy, words[Facet.DECLARED_ONLY].policy

    assert quota_and_declared(EffectiveAsked(person="maud")) == ("Crew", "Baseline")
    assert quota_and_declared(EffectiveAsked(group="CREW")) == ("Crew", "Baseline")
    assert quota_and_declared(EffectiveAsked(device="KM-1")) == ("Baseline", "Scanners")
    assert quota_and_declared(EffectiveAsked(person="maud", device="KM-1")) == ("Crew", "Scanners")
    assert quota_and_declared(EffectiveAsked()) == ("Baseline", "Baseline")
    proposed = (crew.model_copy(update={"groups": None}), s.gate.show().policies[-1])
    assert quota_and_declared(EffectiveAsked(policies=proposed)) == ("Crew", "Baseline")
    with pytest.raises(Refused, match="no group Nowhere"):
        s.gate.effective(EffectiveAsked(group="Nowhere"))


# ---- replay


def some_gate(random: Random, base: Policy) -> list[Policy]:
    """A gate that speaks of much."""

    def rule() -> PlatformRule:
        return PlatformRule(
            open=random.choice([None, True, True, False]),
            versions=random.choice([None, VersionBounds(oldest="13"), VersionBounds(newest="13")]),
            makers=random.choice([None, Listing(listed=Listed.ALL_BUT, names=("ond-ry",))]),
            models=random.choice([None, Listing(listed=Listed.ONLY, names=("Mate 3",))]),
            ownerships=random.choice([None, None, (Ownership.CORPORATE,)]),
            quota=random.choice([None, Quota(devices=1, ownerships=(Ownership.PERSONAL,))]),
        )

    platforms = {platform: rule() for platform in random.sample(list(Platform), 2)}
    crew = Policy(
        name="Crew",
        groups=random.choice([None, ("Crew",)]),
        people=random.choice([None, ("p1", "p2")]),
        devices=random.choice([None, 'tags eq "gangway" or purchasedOn lt "2025-06-01"']),
        platforms=platforms,
        quota=random.choice([None, Quota(devices=2)]),
        returning=random.choice([None, Returning.PARK, Returning.REFUSE]),
    )
    declared = random.choice([False, False, True])
    changed = base.model_copy(update={"declared_only": declared, "quota": Quota(devices=3)})
    return [crew, changed]


def a_busy_door(world: World, tmp_path: Path, random: Random) -> Sortitor:
    s = world.client()
    import_people(
        s, tmp_path, *(f"p{n},P {n},,,,{random.choice(['Crew', 'Office'])}" for n in range(8))
    )
    lines = [
        f"KM-{n}0,Kelmar,Mate 3,{random.choice(['gangway', 'deck'])},{2024 + n % 2}-07-01"
        for n in range(12)
    ]
    header = "serial,maker,model,tags,purchased_on"
    import_lot(s, manifest(tmp_path, [header, *lines]), ownership="corporate")
    codes = [a_pass(s), a_pass(s, activation=Activation.SHARED)]
    codes += [a_pass(s, person=f"p{n}") for n in range(8)]
    for _ in range(60):
        s.agent.knock(
            knocking(
                random.choice(codes),
                f"KM-{random.randrange(25)}0",
                platform=random.choice(["android", "ios"]),
                os_version=random.choice(["12", "13.1", "14", None]),
                maker=random.choice(["Kelmar", "Ondry"]),
                model=random.choice(["Mate 3", "Halyard S2"]),
            )
        )
    world.later(days=2)
    return s


@pytest.mark.parametrize("seed", first_of(*range(4)))
def test_a_replay_is_deciding_each_arrival_anew(world: World, tmp_path: Path, seed: int) -> None:
    random = Random(seed)
    s = a_busy_door(world, tmp_path, random)
    base = s.gate.show().policies[-1]
    save(s, some_gate(random, base))
    current = Gate(policies=s.gate.show().policies)
    facts = [row[0] for row in world.rows("SELECT facts FROM arrivals ORDER BY id")]
    for _ in range(5):
        proposed = Gate(policies=tuple(some_gate(random, base)))
        anew = {"refused": 0, "parked": 0, "admitted": 0}
        for one in facts:
            arrival = replay.remembered(one)  # type: ignore[arg-type]
            turn = turned(decide(arrival, current), decide(arrival, proposed))
            if turn is not None:
                anew[turn.after] += 1
        found = s.gate.replay(proposed.policies).arrivals
        assert found.looked_at == len(facts)
        assert {name: getattr(found, name) for name in anew} == anew
        rows = list(s.gate.replayed(proposed.policies, "arrivals"))
        assert len(rows) == sum(anew.values())
        for tally in found.tallies:
            some = s.gate.replayed(proposed.policies, "arrivals", tally.outcome, tally.code)
            assert len(list(some)) == tally.number


@pytest.mark.parametrize("seed", first_of(*range(8)))
def test_a_replay_of_the_fleet_is_each_device_knocking_again(
    world: World, tmp_path: Path, seed: int
) -> None:
    random = Random(seed)
    s = a_busy_door(world, tmp_path, random)
    base = s.gate.show().policies[-1]
    current = Gate(policies=s.gate.show().policies)
    people = {p.name: p for p in s.people.list()}
    for _ in range(5):
        proposed = Gate(policies=tuple(some_gate(random, base)))
        anew = {"refused": [], "parked": [], "admitted": []}  # type: dict[str, list[int]]
        for line in s.devices.list(filter='stage eq "active" or stage eq "parked"'):
            device = s.devices.show(line.id)
            person = people.get(device.person_name or "")
            declared = device.lot_id is not None
            [(tags, bought)] = world.rows(
                "SELECT tags, purchased_on FROM devices WHERE id = %s", device.id
            )
            known = {"tags": tags, "purchasedOn": bought} if declared else None
            arrival = Arrival(
                platform=Platform(device.platform),
                os_version=device.os_version,
                ownership=Ownership(device.ownership),
                declared=device.ownership_basis != "inferred",
                # Quotas are counted by person, not by device.
                person=person.user_name if person else None,
                groups=frozenset(person.groups if person else ()),
                holding=Holding(),
                maker=device.maker,
                model=device.model,
                known=known,
                shown=replay.Pass(activation=Activation.SHARED),
            )
            turn = turned(decide(arrival, current), decide(arrival, proposed))
            if turn is not None:
                anew[turn.after].append(device.id)
        found = s.gate.replay(proposed.policies).fleet
        for outcome, numbers in anew.items():
            assert getattr(found, outcome) == len(numbers)
            rows = s.gate.replayed(proposed.policies, "fleet", Outcome(outcome))
            assert [row.device_id for row in rows] == numbers


def test_a_replay_goes_out_as_a_file_and_leaves_old_arrivals_alone(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    code = a_pass(s, person="maud")
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-{number}0"))
    world.rows("UPDATE arrivals SET facts = NULL WHERE id = (SELECT min(id) FROM arrivals)")
    last = s.gate.show().policies[-1]
    strict = {**last.platforms, ANDROID: PlatformRule(open=False)}
    proposed = [last.model_copy(update={"platforms": strict})]
    found = s.gate.replay(proposed)
    assert (found.fleet.refused, found.arrivals.refused, found.without_facts) == (3, 2, 1)
    text = s.gate.replay_file(proposed, "fleet").decode("utf-8-sig")
    lines = list(csv.DictReader(io.StringIO(text)))
    assert [line["Person"] for line in lines] == ["Maud Fenwick"] * 3
    assert lines[0]["Why"] == "Baseline keeps Android out."
    book = s.gate.replay_file(proposed, "arrivals", "xlsx")
    assert pl.read_excel(io.BytesIO(book)).height == 2
    world.later(days=91)
    assert s.gate.replay(proposed).arrivals.looked_at == 0
    assert world.client(Role.VIEWER).gate.replay(proposed).fleet.refused == 3
