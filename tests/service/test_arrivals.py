"""Passes, knocks, check-ins: who comes in, under which name, and what the gate remembers of it."""

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path

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
    report,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Role, Stage
from sortitor.schemas.arrivals import RelayedCheckIn
from sortitor.schemas.gate import Try
from sortitor.schemas.naming import Template
from sortitor.schemas.passes import PassTerms


def test_an_awaited_device_arrives_is_named_and_checks_in(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew")
    import_lot(
        s,
        manifest(tmp_path, ["serial,maker,imei,site", f"KM-1,Kelmar,{imei(1)},Dunlin"]),
        ownership="corporate",
    )
    s.naming.save([Template(name="all", pattern="{site|upper}-{n|pad 3}")])
    answer = s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1", imeis=[imei(1)]))
    assert (answer.outcome, answer.name) == (Outcome.ADMITTED, "DUNLIN-001")
    assert answer.credential
    device = s.devices.show(answer.device_id or 0)
    assert (device.stage, device.person_name, device.ownership, device.os_version) == (
        Stage.ACTIVE,
        "Maud Fenwick",
        Ownership.CORPORATE,
        "14",
    )
    seen = world.later(hours=5)
    told = s.agent.check_in(answer.credential, "14.1")
    assert (told.device_id, told.name) == (device.id, "DUNLIN-001")
    after = s.devices.show(device.id)
    assert after.last_seen_at is not None
    assert (after.last_seen_at.replace(microsecond=0), after.os_version) == (seen, "14.1")
    assert [h.operation for h in after.timeline] == ["device.knock", "lot.apply"]
    assert answer.credential not in str(world.rows("SELECT * FROM credentials"))


def test_an_unknown_device_is_taken_as_personal_and_waits_for_a_person(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    answer = s.agent.knock(knocking(a_pass(s), "KM-9"))
    assert answer.outcome is Outcome.PARKED
    [waiting] = s.arrivals.list(waiting=True)
    assert waiting.device_id == answer.device_id
    device_id = answer.device_id or 0
    assert s.devices.show(device_id).ownership is Ownership.PERSONAL
    shown = s.devices.preview_assign(device_id, "MAUD@wrenmoor.example")
    s.devices.assign(device_id, "MAUD@wrenmoor.example", shown.digest)
    assert s.devices.show(device_id).stage is Stage.ACTIVE
    assert list(s.arrivals.list(waiting=True)) == []


def test_a_pass_declares_ownership_and_a_stronger_basis_stays(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker", "KM-1,Kelmar"]), ownership="partner")
    code = a_pass(s, ownership=Ownership.CORPORATE, activation=Activation.SHARED)
    fresh = s.devices.show(s.agent.knock(knocking(code, "KM-2")).device_id or 0)
    known = s.devices.show(s.agent.knock(knocking(code, "KM-1")).device_id or 0)
    assert (fresh.ownership, fresh.ownership_basis) == (Ownership.CORPORATE, "pass")
    assert (known.ownership, known.ownership_basis) == (Ownership.PARTNER, "declared")


def test_a_spent_an_expired_a_revoked_and_an_unknown_pass(world: World) -> None:
    s = world.client()
    once = a_pass(s, max_uses=1)
    assert s.agent.knock(knocking(once, "KM-1")).codes == []
    assert s.agent.knock(knocking(once, "KM-2")).codes == ["pass_spent"]
    short = a_pass(s, valid_days=1)
    revoked = s.passes.add(PassTerms(label="r"))
    s.passes.revoke(revoked.id, "lost")
    assert s.agent.knock(knocking(revoked.code, "KM-3")).codes == ["pass_expired"]
    world.later(days=1)
    refused = s.agent.knock(knocking(short, "KM-4"))
    assert (refused.outcome, refused.codes, refused.credential) == (
        Outcome.REFUSED,
        ["pass_expired"],
        None,
    )
    assert s.agent.knock(knocking("AAAAA-AAAAA", "KM-5")).codes == ["pass_unknown"]
    assert world.rows("SELECT count(*) FROM devices") == [(1,)]
    assert len(list(s.arrivals.list(Outcome.REFUSED))) == 3, "a wrong code leaves a count"
    assert world.rows("SELECT what, count FROM strangers") == [("pass_code", 1)]


def test_a_refused_knock_keeps_every_reason_and_tells_the_person_little(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    change_baseline(s, android="13", ownerships=(Ownership.CORPORATE,))
    answer = s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1", os_version="12"))
    assert answer.codes == ["os_too_old", "ownership_denied"]
    assert not any("13" in message or "Baseline" in message for message in answer.messages)
    whole = s.arrivals.show(answer.arrival_id)
    assert {(r.code, r.policy, r.actual) for r in whole.reasons} == {
        ("os_too_old", "Baseline", "12"),
        ("ownership_denied", "Baseline", "personal"),
    }
    assert [step.facet for step in whole.trace if not step.passed] == ["OS version", "ownership"]
    tried = s.gate.attempt(Try(platform="android", os_version="12", person="maud"))
    assert [r.code for r in tried.reasons] == answer.codes, "trying says what knocking does"


def test_a_device_that_shows_its_credential_keeps_its_name_and_gets_a_new_one(
    world: World,
) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    first = s.agent.knock(knocking(code, "KM-1"))
    again = s.agent.knock(knocking(code, "KM-1"), first.credential)
    assert (again.device_id, again.name) == (first.device_id, first.name)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(first.credential or "")
    s.agent.check_in(again.credential or "")


def in_use(world: World, tmp_path: Path) -> tuple[str, int]:
    """The credential and the number of a corporate device that Maud has."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "eve,Eve Sallow,,,,Crew")
    import_lot(s, manifest(tmp_path, ["serial,maker", "KM-1,Kelmar"]), ownership="corporate")
    first = s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1"))
    return first.credential or "", first.device_id or 0


def test_nobody_takes_a_device_in_use_over_by_knowing_its_serial_number(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    credential, device_id = in_use(world, tmp_path)
    before = world.rows("SELECT to_jsonb(d) FROM devices d")
    claim = s.agent.knock(knocking(a_pass(s, person="eve"), "KM-1", os_version="15"))
    assert (claim.outcome, claim.codes) == (Outcome.PARKED, ["in_use"])
    assert world.rows("SELECT to_jsonb(d) FROM devices d") == before, "nothing of it changes"
    s.agent.check_in(credential)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(claim.credential or "")
    [waiting] = s.arrivals.list(waiting=True)
    assert (waiting.device_id, waiting.claim) == (device_id, "open")
    s.arrivals.turn_away(waiting.id, "nobody knows it")
    assert list(s.arrivals.list(waiting=True)) == []
    with pytest.raises(SignInNeeded):
        s.agent.check_in(claim.credential or "")
    with pytest.raises(Refused, match="any more"):
        s.arrivals.turn_away(waiting.id)


def test_a_coordinator_hands_a_device_over_and_takes_it_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    credential, device_id = in_use(world, tmp_path)
    claim = s.agent.knock(knocking(a_pass(s, person="eve"), "KM-1", os_version="15"))
    number = claim.arrival_id or 0
    shown = s.arrivals.preview_hand_over(number)
    assert {(line.before, line.after) for line in shown.examples} == {
        ("Maud Fenwick", "Eve Sallow"),
        ("14", "15"),
    }
    with pytest.raises(Refused):
        world.client(Role.VIEWER).arrivals.hand_over(number, shown.digest)
    s.arrivals.hand_over(number, shown.digest, "reset by the help desk")
    device = s.devices.show(device_id)
    assert (device.person_name, device.os_version) == ("Eve Sallow", "15")
    s.agent.check_in(claim.credential or "")
    with pytest.raises(SignInNeeded):
        s.agent.check_in(credential)
    [entry] = [e for e in s.journal.list() if e.operation == "device.hand_over"]
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.devices.show(device_id).person_name == "Maud Fenwick"
    s.agent.check_in(credential)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(claim.credential or "")


def test_a_second_claim_takes_the_place_of_the_first(world: World, tmp_path: Path) -> None:
    s = world.client()
    in_use(world, tmp_path)
    first, second = (s.agent.knock(knocking(a_pass(s), "KM-1")) for _ in range(2))
    assert [a.id for a in s.arrivals.list(waiting=True)] == [second.arrival_id]
    assert s.arrivals.show(first.arrival_id or 0).claim == "denied"


def test_a_device_reported_stolen_is_refused_and_checks_in_no_more(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    credential, device_id = in_use(world, tmp_path)
    seen = s.agent.check_in(credential)
    report(s, device_id, flag="stolen")
    before = s.devices.show(device_id).last_seen_at
    world.later(hours=1)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(credential)
    assert s.devices.show(device_id).last_seen_at == before
    answer = s.agent.knock(knocking(a_pass(s, person="eve"), "KM-1"))
    assert "flagged" in answer.codes
    assert answer.credential is None
    assert s.devices.show(device_id).person_name == "Maud Fenwick"
    report(s, device_id, flag=None)
    assert s.agent.check_in(credential).device_id == seen.device_id


def test_the_gate_tells_strangers_nothing(world: World, tmp_path: Path) -> None:
    """With a wrong code it is all the same who is named, what is stolen, which platform it is."""
    s = world.client()
    credential, device_id = in_use(world, tmp_path)
    assert credential
    report(s, device_id, flag="stolen")
    change_baseline(s, android="99")
    stated = [
        knocking("AAAAA-AAAAA", "KM-1", person="maud"),
        knocking("AAAAA-AAAAA", "KM-9", person="nobody.knows"),
        knocking("wrong", "KM-8", platform="linux", os_version=None),
    ]
    answers = [s.agent.knock(one) for one in stated]
    assert len({answer.model_dump_json() for answer in answers}) == 1
    assert answers[0].codes == ["pass_unknown"]
    ended = s.passes.add(PassTerms(label="ended"))
    s.passes.revoke(ended.id, "over")
    for one in (knocking(ended.code, "KM-1", person="maud"), knocking(ended.code, "KM-9")):
        assert s.agent.knock(one).codes == ["pass_expired"]


def test_thirty_knocks_of_one_device_wait_for_nobody_in_a_circle(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "eve,Eve Sallow,,,,Crew")
    codes = [
        a_pass(s, activation=Activation.SHARED, person=person) for person in ("maud", None, "eve")
    ]
    first = s.agent.knock(knocking(codes[0], "KM-1", imeis=[imei(1)]))
    before = world.rows("SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()")

    def knock(number: int) -> str:
        with Sortitor(world.url) as device:
            stated = knocking(codes[number % 3], "KM-1", imeis=[imei(1)])
            shown = first.credential if number % 2 else None
            return device.agent.knock(stated, shown).outcome

    with ThreadPoolExecutor(15) as threads:
        outcomes = list(threads.map(knock, range(30)))
    assert set(outcomes) <= {Outcome.ADMITTED, Outcome.PARKED}
    assert world.rows("SELECT count(*) FROM devices") == [(1,)]
    living = "SELECT count(*) FROM credentials WHERE revoked_at IS NULL AND claim_id IS NULL"
    assert world.rows(living) == [(1,)]
    after = world.rows("SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()")
    assert after == before


def test_a_relay_hands_in_many_and_never_turns_the_clock_back(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    credentials = [s.agent.knock(knocking(code, f"KM-{i}0")).credential or "" for i in range(3)]
    now = world.later(days=3)
    s.agent.check_in(credentials[0])
    answer = s.agent.relay(
        [
            RelayedCheckIn(credential=credentials[0], seen_at=now - timedelta(days=1)),
            RelayedCheckIn(credential="nonsense", seen_at=now),
            RelayedCheckIn(credential=credentials[1], seen_at=now + timedelta(days=9)),
        ]
    )
    assert (answer.received, answer.unknown) == (2, [1])
    seen = dict(world.rows("SELECT device_id, date_trunc('second', last_seen_at) FROM sightings"))
    assert sorted(seen.values(), reverse=True)[:2] == [
        now,
        now,
    ], "the past changes nothing, the time to come is taken as now"


def test_two_devices_under_one_knock_are_nobodys_guess(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,imei", "KM-1,Kelmar,", f",,{imei(1)}"]))
    with pytest.raises(Refused, match="different devices"):
        s.agent.knock(knocking(a_pass(s), "KM-1", imeis=[imei(1)]))


def test_identifiers_of_personal_devices_are_masked_for_viewers(world: World) -> None:
    s = world.client()
    device_id = s.agent.knock(knocking(a_pass(s), "KM-12345678", imeis=[imei(1)])).device_id or 0
    viewer = world.client(Role.VIEWER).devices
    assert viewer.show(device_id).serial == "•••5678"
    assert "KM-12345678" not in viewer.csv()
    assert all("12345678" not in str(i.value) for i in viewer.show(device_id).identifiers)
    assert s.devices.show(device_id).serial == "KM-12345678"


def test_a_refused_device_is_found_by_what_it_stated(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    change_baseline(s, android="13")
    code = a_pass(s, ownership=Ownership.PERSONAL)
    number = imei(7)
    s.agent.knock(knocking(code, "km-0042", os_version="9", person="Maud", imeis=[number]))
    s.agent.knock(knocking(code, "KM-0043", os_version="9"))
    import_lot(s, manifest(tmp_path, ["serial", "KM-0044"]), ownership="corporate")

    def found(**asked: object) -> list[str]:
        refused = s.arrivals.list(Outcome.REFUSED, **asked)  # type: ignore[arg-type]
        return [str(one.stated["serial"]) for one in refused]

    assert found(identifier="KM-0042") == found(identifier=" km-0042 ") == ["km-0042"]
    assert found(identifier=f"{number[:2]}-{number[2:8]}-{number[8:14]}-{number[14]}") == [
        "km-0042"
    ]
    assert found(identifier="KM-0044") == []
    assert found(identifier="KM-00") == []
    assert found(person="maud") == ["km-0042"]
    with pytest.raises(Refused, match="no person"):
        found(person="nemo")
    # Whoever may not see the numbers of people's own devices finds none out.
    viewer = world.client(Role.VIEWER)
    assert list(viewer.arrivals.list(identifier="KM-0042")) == []
    assert len(list(viewer.arrivals.list(person="maud"))) == 1
