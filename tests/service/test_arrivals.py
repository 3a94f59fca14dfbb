"""Passes, knocks, check-ins: who comes in, under which name, and what the gate remembers of it."""

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
)

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
    answer = s.agent.knock(knocking(a_pass(s), "KM-1", imeis=[imei(1)], person="maud"))
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
    assert (after.last_seen_at, after.os_version) == (seen, "14.1")
    assert [h.operation for h in after.timeline] == ["device.name", "device.knock", "lot.apply"]
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
    assert len(list(s.arrivals.list(Outcome.REFUSED))) == 4


def test_a_refused_knock_keeps_every_reason_and_tells_the_person_little(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    change_baseline(s, android="13", ownerships=(Ownership.CORPORATE,))
    answer = s.agent.knock(knocking(a_pass(s), "KM-1", os_version="12", person="maud"))
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


def test_a_device_that_knocks_again_keeps_its_name_and_gets_a_new_credential(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    first, again = (s.agent.knock(knocking(code, "KM-1")) for _ in range(2))
    assert (again.device_id, again.name) == (first.device_id, first.name)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(first.credential or "")
    s.agent.check_in(again.credential or "")


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
    seen = dict(world.rows("SELECT id, last_seen_at FROM devices"))
    assert sorted(seen.values(), reverse=True)[:2] == [
        now,
        now,
    ], "the past changes nothing, the time to come is taken as now"


def test_two_devices_under_one_knock_are_nobodys_guess(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,imei", "KM-1,Kelmar,", f",,{imei(1)}"]))
    with pytest.raises(Refused, match="different devices"):
        s.agent.knock(knocking(a_pass(s), "KM-1", imeis=[imei(1)]))


def test_a_stolen_device_is_refused(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    device_id = s.agent.knock(knocking(code, "KM-1")).device_id or 0
    s.devices.report(device_id, "stolen", "left on the quay")
    assert s.agent.knock(knocking(code, "KM-1")).codes == ["flagged"]


def test_identifiers_of_personal_devices_are_masked_for_viewers(world: World) -> None:
    s = world.client()
    device_id = s.agent.knock(knocking(a_pass(s), "KM-12345678", imeis=[imei(1)])).device_id or 0
    viewer = world.client(Role.VIEWER).devices
    assert viewer.show(device_id).serial == "•••5678"
    assert "KM-12345678" not in viewer.csv()
    assert all("12345678" not in str(i.value) for i in viewer.show(device_id).identifiers)
    assert s.devices.show(device_id).serial == "KM-12345678"
