"""Retiring devices and bringing them back by hand."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path

import pytest
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    hold,
    import_lot,
    import_people,
    knocking,
    manifest,
    report,
)

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused, SignInNeeded
from sortitor.core.vocabulary import Activation, Outcome, Returning, Role, Stage
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import Quota
from sortitor.schemas.naming import Template


def furnished(s: Sortitor, tmp_path: Path) -> list[str]:
    """Two in use, one awaited; the credentials of those in use."""
    s.naming.save([Template(name="all", pattern="D-{n}")])
    import_lot(s, manifest(tmp_path, ["serial,site", "KM-9,Petrel"]), platform="android")
    code = a_pass(s, activation=Activation.SHARED)
    return [s.agent.knock(knocking(code, f"KM-{n}")).credential or "" for n in (1, 2)]


def retire(s: Sortitor, chosen: Selection) -> None:
    s.devices.retire(chosen, s.devices.preview_retire(chosen).digest)


def bring_back(s: Sortitor, chosen: Selection) -> None:
    s.devices.bring_back(chosen, s.devices.preview_bring_back(chosen).digest)


def test_by_a_list_and_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    credentials = furnished(s, tmp_path)
    hold(s, 2, until=date(2026, 6, 1))
    chosen = Selection(identifiers=["KM-1", "km-2", "KM-9"])
    shown = s.devices.preview_retire(chosen)
    counts = {count.key: count.count for count in shown.counts}
    assert (counts["retired"], counts["already"], counts["held"]) == (3, 0, 1)
    assert (counts["stage:awaited"], counts["stage:active"]) == (1, 2)
    assert "one that arrives again waits for a coordinator" in shown.warnings[0]
    s.devices.retire(chosen, shown.digest, "scrapped")
    assert s.devices.count(filter='stage eq "retired"') == 3
    with pytest.raises(Exception, match="credential"):
        s.agent.check_in(credentials[0])
    again = s.devices.preview_retire(chosen)
    assert again.nothing_to_do
    with pytest.raises(Refused, match="None of these"):
        s.devices.retire(chosen, again.digest)

    back = s.devices.preview_bring_back(chosen)
    assert {count.key: count.count for count in back.counts} == {
        "back": 2,
        "awaited": 1,
        "other": 0,
        "nameless": 0,
    }
    s.devices.bring_back(chosen, back.digest, "a mistake")
    stages = sorted(device.stage for device in s.devices.list())
    assert stages == [Stage.ACTIVE, Stage.ACTIVE, Stage.AWAITED]
    entry = next(iter(s.journal.list("device.bring_back")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert {device.stage for device in s.devices.list()} == {Stage.RETIRED}
    bring_back(s, chosen)
    code = a_pass(s, activation=Activation.SHARED)
    assert s.agent.knock(knocking(code, "KM-1")).outcome is Outcome.ADMITTED


def test_the_preview_says_what_the_gate_does_with_one_that_returns(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    furnished(s, tmp_path)
    change_baseline(s, returning=Returning.READMIT)
    one = Selection(ids=[2])
    assert "again is let in again" in s.devices.preview_retire(one).warnings[0]
    retire(s, one)
    code = a_pass(s, activation=Activation.SHARED)
    assert s.agent.knock(knocking(code, "KM-1")).outcome is Outcome.ADMITTED


def test_a_name_that_another_one_has_is_lost_and_said(world: World, tmp_path: Path) -> None:
    s = world.client()
    furnished(s, tmp_path)
    retire(s, Selection(ids=[2]))
    s.devices.name(3, s.devices.show(2).name or "")
    shown = s.devices.preview_bring_back(Selection(ids=[2]))
    assert "loses its name" in (shown.examples[0].note or "")
    bring_back(s, Selection(ids=[2]))
    assert (s.devices.show(2).name, s.devices.show(2).stage) == (None, Stage.ACTIVE)


def test_nobody_gets_more_than_the_quota_by_what_comes_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    change_baseline(s, quota=Quota(devices=1))
    code = a_pass(s, person="maud")
    assert s.agent.knock(knocking(code, "KM-1")).outcome is Outcome.ADMITTED
    retire(s, Selection(ids=[1]))
    assert s.agent.knock(knocking(a_pass(s, person="maud"), "KM-2")).outcome is Outcome.ADMITTED
    with pytest.raises(Refused, match="Maud Fenwick would have 2"):
        bring_back(s, Selection(ids=[1]))
    assert s.devices.show(1).stage is Stage.RETIRED


def test_all_at_once_is_never_meant_and_roles_hold(world: World, tmp_path: Path) -> None:
    s = world.client()
    furnished(s, tmp_path)
    with pytest.raises(Refused, match="No devices are named"):
        s.devices.preview_retire(Selection())
    viewer = world.client(Role.VIEWER)
    digest = viewer.devices.preview_retire(Selection(ids=[1])).digest
    with pytest.raises(Refused) as refused:
        viewer.devices.retire(Selection(ids=[1]), digest)
    assert refused.value.problem.code == "role_too_low"


def test_two_retire_the_same_at_once(world: World, tmp_path: Path) -> None:
    s = world.client()
    furnished(s, tmp_path)
    chosen = Selection(ids=[2, 3])
    digest = s.devices.preview_retire(chosen).digest

    def tried(_: int) -> bool:
        try:
            world.client().devices.retire(chosen, digest)
        except (FactsMoved, Refused):
            return False
        return True

    with ThreadPoolExecutor(4) as threads:
        assert any(threads.map(tried, range(4)))
    assert s.devices.count(filter='stage eq "retired"') == 2
    entry = next(iter(s.journal.list("device.retire")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.devices.count(filter='stage eq "active"') == 2


def test_reports_of_many_say_what_they_do_and_are_taken_back(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    credentials = [s.agent.knock(knocking(code, f"RP-{n}")).credential or "" for n in range(3)]
    chosen = Selection(identifiers=["RP-0", "RP-1"])
    shown = s.devices.preview_report(chosen, "stolen")
    assert {count.key: count.count for count in shown.counts} == {
        "reported": 2,
        "in_use": 2,
        "same": 0,
    }
    assert "refused" in shown.warnings[0]
    s.devices.report(chosen, "stolen", shown.digest, "police report 7781")
    assert s.devices.count(filter='flag eq "stolen"') == 2
    refused = s.agent.knock(knocking(code, "RP-0"))
    assert (refused.outcome, refused.credential) == (Outcome.REFUSED, None)
    with pytest.raises(SignInNeeded):
        s.agent.check_in(credentials[1])
    assert s.devices.preview_report(chosen, "stolen").nothing_to_do
    with pytest.raises(Refused) as nothing:
        s.devices.report(chosen, "stolen", s.devices.preview_report(chosen, "stolen").digest)
    assert nothing.value.problem.code == "nothing_to_do"
    entry = next(iter(s.journal.list("device.report")))
    assert entry.summary == "2 devices reported stolen"
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.devices.count(filter="flag pr") == 0
    s.agent.check_in(credentials[1])
    report(s, 3, flag="missing")
    report(s, 3, flag=None)
    assert s.devices.show(3).timeline[0].summary.endswith("found")
