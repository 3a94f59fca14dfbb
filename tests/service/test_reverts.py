"""Every change leaves an entry, and every entry is either taken back whole or says what to do
instead.
"""

import re
from collections.abc import Callable
from contextlib import suppress
from datetime import date
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from tests.vouchers import trust, use
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
    report,
)

import sortitor.operations
from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core import journal
from sortitor.core.ends import Reminders
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Activation, Gap, GapState, Mend, Ownership, SourceKind
from sortitor.operations.reverts import _KINDS
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import Checklist, Given, Item, Kit, OwnSetting, SetupSheet
from sortitor.schemas.levels import GapSelection
from sortitor.schemas.licences import Pool
from sortitor.schemas.naming import Template
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.people import Departure
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.terms import Terms, TermsText
from sortitor.schemas.views import ViewNew, ViewSettings
from sortitor.schemas.welcome import WelcomeCard
from sortitor.stand_ins.issuer import Issuer

#: What a change may touch; ids and values, without the revisions that count every write.
ISSUER = Issuer(now=lambda: NOW)
ALL = Selection(filter="id pr")
STATE = {
    "devices": "SELECT to_jsonb(d) - 'stage_at' FROM devices d ORDER BY id",
    "identifiers": "SELECT kind, value, maker, device_id FROM identifiers ORDER BY kind, value",
    "sightings": "SELECT * FROM sightings ORDER BY device_id",
    "pools": "SELECT to_jsonb(p) - 'revision' FROM pools p ORDER BY id",
    "grants": "SELECT pool_id, seats, days, act FROM grants WHERE reverted_at IS NULL ORDER BY id",
    "rules": "SELECT to_jsonb(r) - 'revision' FROM sweep_rules r ORDER BY id",
    "orders": "SELECT to_jsonb(o) - 'revision' FROM orders o ORDER BY id",
    "cohorts": "SELECT id, document, moving FROM cohorts ORDER BY id",
    "members": "SELECT cohort_id, device_id FROM cohort_members ORDER BY cohort_id, device_id",
    "terms": "SELECT id, document FROM terms ORDER BY id",
    "lots": "SELECT id, status FROM lots WHERE status IN ('draft', 'discarded') ORDER BY id",
    "left": "SELECT id, left_at IS NULL FROM people ORDER BY id",
    "holds": "SELECT id, until_on FROM holds WHERE ended_at IS NULL ORDER BY id",
    "books": "SELECT name, document FROM rulebooks ORDER BY name",
    "sources": "SELECT id, document FROM sources ORDER BY id",
    **{
        name: f"SELECT id, document FROM {name} ORDER BY id"
        for name in ("items", "kits", "sheets", "checklists", "own_settings")
    },
    "givings": "SELECT kind, subject_id, cohort_id, word FROM givings ORDER BY 1, 2, 3",
    "facts": "SELECT device_id, facts FROM device_kits WHERE facts <> '{}' ORDER BY 1",
    "decisions": "SELECT key, owner, note FROM discrepancies ORDER BY key",
    "credentials": (
        "SELECT device_id, revoked_at IS NULL FROM credentials ORDER BY device_id, secret_hash"
    ),
}


def furnished(world: World, tmp_path: Path) -> Sortitor:
    """Three arrived devices, two awaited ones, and one of everything that can be changed."""
    s = world.client()
    import_people(
        s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew", "odo,Odo Gannet,,Office,Petrel,Office"
    )
    hold(s, until=date(2026, 12, 1), person="odo")
    code = a_pass(s, activation=Activation.SHARED)
    for serial in ("AR-1", "AR-2", "AR-3"):
        s.agent.knock(knocking(code, serial))
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,imei,site",
                f"KM-1,Kelmar,{imei(1)},Dunlin",
                f"KM-2,Kelmar,{imei(2)},Petrel",
            ],
        ),
        platform="android",
        ownership="corporate",
    )
    s.pools.add(Pool(name="Signage", seats=3, filter='platform eq "android"'))
    trust(s, ISSUER, tmp_path)
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))
    s.orders.add(
        Order(name="WL-1", supplier="Chandlers", lines=[OrderLine(product="Mate 3", quantity=2)])
    )
    s.cohorts.add(Cohort(name="Dunlin", filter='site eq "dunlin"'))
    lent = s.cohorts.add(Cohort(name="Lent out"))
    change_list(s, lent.id, (1, 2))
    s.own_settings.add(horn("horn"))
    s.items.add(some_item("Locked", True, platforms={"android": "10"}))
    s.items.add(some_item("Spare", True))
    s.kits.add(Kit(name="Lent", items=("Locked",), given=LENT))
    s.setup_sheets.add(SetupSheet(name="Lent", given=LENT))
    s.checklists.add(Checklist(name="Lent", items=("Locked",), given=LENT))
    s.naming.save([Template(name="all", pattern="D-{n|pad 3}")])
    change_baseline(s, quota=7)
    s.terms.add(some_terms("Rules"))
    hand_over(s, tmp_path)
    s.sources.add(Source(name="Spare", kind=SourceKind.ROSTER))
    s.lots.check(manifest(tmp_path, ["serial", "Z-2"], "draft.csv"))
    return s


def hand_over(s: Sortitor, tmp_path: Path) -> None:
    """A roster that says something else of one device, and knows one alone."""
    s.sources.add(Source(name="Yard", kind=SourceKind.ROSTER))
    path = manifest(tmp_path, ["serial,maker,site", "KM-1,Kelmar,Gull", "YY-77777,,"], "yard.csv")
    s.sources.take_file("Yard", path, s.sources.preview_file("Yard", path).digest)


def mend(s: Sortitor, kind: Gap, how: Mend) -> None:
    which = GapSelection(kind=kind)
    s.levels.mend(which, how, s.levels.preview_mend(which, how).digest)


def change_list(s: Sortitor, cohort_id: int, ids: tuple[int, ...], put_in: bool = True) -> None:
    selection = Selection(ids=list(ids))
    s.cohorts.change_list(
        cohort_id, selection, s.cohorts.preview_list(cohort_id, selection, put_in).digest, put_in
    )


def declare(s: Sortitor) -> None:
    everything = Selection(filter="id pr")
    s.devices.declare(
        everything,
        Ownership.PARTNER,
        s.devices.preview_declare(everything, Ownership.PARTNER).digest,
    )


def rename(s: Sortitor) -> None:
    s.naming.rename(s.naming.preview().digest)


def change_by_lot(s: Sortitor, tmp_path: Path) -> None:
    """Adds one, changes one with a name, an identifier and a site, and leaves one."""
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,imei,site,hostname",
                f"KM-1,Kelmar,{imei(3)},Gull,WM-1",
                "KM-2,Kelmar,,Petrel,",
                "KM-9,Kelmar,,Dunlin,WM-9",
            ],
            "second.csv",
        ),
        platform="android",
    )


#: Given to the list alone.
LENT = (Given(cohort="Lent out"),)
TO_ALL = (Given(),)


def some_item(name: str, value: bool, **beside: Any) -> Item:
    payload = {"kind": "setting", "setting": "screen-lock", "value": value}
    return Item.model_validate({"name": name, "payload": payload, **beside})


def horn(key: str, **beside: Any) -> OwnSetting:
    said = {"name": f"The {key}", "key": key, "says": "Whether it sounds.", "sends": "org.horn"}
    known = {"platforms": {"android": ""}, "type": "switch"}
    return OwnSetting.model_validate({**said, **known, **beside})


def some_terms(name: str, text: str = "Be kind") -> Terms:
    return Terms(name=name, texts=(TermsText(language="en", text=text),))


def remind(s: Sortitor, *addresses: str) -> None:
    reminders = Reminders(addresses=addresses)
    s.ends.apply_reminders(reminders, s.ends.preview_reminders(reminders).digest)


def change_card(s: Sortitor) -> None:
    card = WelcomeCard(organisation="Wrenmoor Lines", help_name="Device desk")
    s.welcome.apply(card, s.welcome.preview(card).digest)


def assign_by_list(s: Sortitor, tmp_path: Path) -> None:
    path = tmp_path / "waiting.csv"
    lines = s.arrivals.waiting_file().decode("utf-8-sig").splitlines()
    path.write_text("\n".join([lines[0], *(f"{line}maud" for line in lines[1:])]))
    s.arrivals.apply_assignments(path, s.arrivals.preview_assignments(path).digest)


def leave(s: Sortitor) -> None:
    """Odo, with what keeps his devices from sweeps."""
    departure = Departure()
    s.people.leave("odo", departure, s.people.preview_departure("odo", departure).digest)


def hand_sheet(s: Sortitor, *ids: int) -> None:
    chosen = Selection(ids=list(ids))
    s.setup_sheets.hand("Lent", chosen, s.setup_sheets.preview_hand("Lent", chosen).digest)


def sweep(s: Sortitor) -> None:
    s.sweeps.apply(1, s.sweeps.preview(1).digest)


Act = Callable[[Sortitor, Path], Any]
ACTS: dict[str, Act] = {
    "pool.add": lambda s, _: s.pools.add(Pool(name="Charts", seats=1)),
    "pool.edit": lambda s, _: s.pools.edit(1, Pool(name="Signs", seats=9, filter='site eq "x"')),
    "pool.remove": lambda s, _: s.pools.remove(1),
    "grant.add": lambda s, _: use(s, 1, ISSUER.voucher("Signage", 5, 30)),
    "lot.discard": lambda s, _: s.lots.discard(
        next(lot.id for lot in s.lots.list() if lot.status == "draft")
    ),
    "person.leave": lambda s, _: leave(s),
    "rule.add": lambda s, _: s.sweep_rules.add(Rule(name="Long", idle_window_days=90)),
    "rule.edit": lambda s, _: s.sweep_rules.edit(
        1, Rule(name="Quieter", idle_window_days=60, filter='platform eq "ios"', every_hours=24)
    ),
    "rule.remove": lambda s, _: s.sweep_rules.remove(1),
    "order.add": lambda s, _: s.orders.add(
        Order(name="WL-2", lines=[OrderLine(product="x", quantity=1)])
    ),
    "order.edit": lambda s, _: s.orders.edit(
        1,
        Order(
            name="WL-1b",
            lines=[
                OrderLine(product="Mate 4", quantity=5),
                OrderLine(product="Mate 3", quantity=1),
            ],
        ),
    ),
    "order.remove": lambda s, _: s.orders.remove(1),
    "item.add": lambda s, _: s.items.add(some_item("New", True, given=TO_ALL)),
    "item.edit": lambda s, _: s.items.edit(
        "Locked", some_item("Locked", False, platforms={"android": "11"}, given=TO_ALL)
    ),
    "item.remove": lambda s, _: s.items.remove("Spare"),
    "setting.add": lambda s, _: s.own_settings.add(horn("bell")),
    "setting.edit": lambda s, _: s.own_settings.edit(
        "The horn", horn("horn", platforms={"ios": "16"})
    ),
    "setting.remove": lambda s, _: s.own_settings.remove("The horn"),
    "kit.add": lambda s, _: s.kits.add(Kit(name="All", items=("Spare",), given=TO_ALL)),
    "kit.edit": lambda s, _: s.kits.edit("Lent", Kit(name="Lent", items=("Spare",), given=TO_ALL)),
    "kit.remove": lambda s, _: s.kits.remove("Lent"),
    "sheet.add": lambda s, _: s.setup_sheets.add(SetupSheet(name="All", given=TO_ALL)),
    "sheet.edit": lambda s, _: s.setup_sheets.edit("Lent", SetupSheet(name="Lent", given=TO_ALL)),
    "sheet.remove": lambda s, _: s.setup_sheets.remove("Lent"),
    "sheet.hand": lambda s, _: hand_sheet(s, 1, 2),
    "checklist.add": lambda s, _: s.checklists.add(Checklist(name="All", items=("Spare",))),
    "checklist.edit": lambda s, _: s.checklists.edit(
        "Lent", Checklist(name="Lent", items=("Spare",), given=TO_ALL)
    ),
    "checklist.remove": lambda s, _: s.checklists.remove("Lent"),
    "cohort.add": lambda s, _: s.cohorts.add(
        Cohort(name="Android", filter='platform eq "android"')
    ),
    "cohort.edit": lambda s, _: s.cohorts.edit(
        1, Cohort(name="Petrel", filter='site eq "petrel"', note="moved")
    ),
    "cohort.remove": lambda s, _: s.cohorts.remove(1),
    "cohort.list": lambda s, _: change_list(s, 2, (2, 3)),
    "gate.edit": lambda s, _: change_baseline(s, quota=3, android="13"),
    "naming.edit": lambda s, _: s.naming.save(
        [Template(name="ships", pattern="SHIP-{n}"), Template(name="rest", pattern="R-{serial}")]
    ),
    "device.declare": lambda s, _: declare(s),
    "hold.add": lambda s, _: hold(s, 1, 2, until=date(2026, 4, 12)),
    "hold.end": lambda s, _: s.holds.end(1),
    "device.retire": lambda s, _: s.devices.retire(ALL, s.devices.preview_retire(ALL).digest),
    "device.rename": lambda s, _: rename(s),
    "device.name": lambda s, _: s.devices.name(1, "BRIDGE"),
    "device.report": lambda s, _: report(s, 2, flag="stolen"),
    "device.assign": lambda s, _: s.devices.assign(
        1, "maud", s.devices.preview_assign(1, "maud").digest
    ),
    "device.assign_list": assign_by_list,
    "terms.add": lambda s, _: s.terms.add(some_terms("New")),
    "terms.edit": lambda s, _: s.terms.edit("Rules", some_terms("Rules", "Be very kind")),
    "terms.remove": lambda s, _: s.terms.remove("Rules"),
    "welcome.edit": lambda s, _: change_card(s),
    "reminders.edit": lambda s, _: remind(s, "it@wrenmoor.example"),
    "source.add": lambda s, _: s.sources.add(Source(name="Office", kind=SourceKind.PUSH)),
    "source.edit": lambda s, _: s.sources.edit(
        "Spare", Source(name="Spare list", kind=SourceKind.ROSTER, fresh_hours=9)
    ),
    "source.remove": lambda s, _: s.sources.remove("Spare"),
    "level.decide": lambda s, _: s.levels.decide(
        GapSelection(kind=Gap.UNKNOWN), GapState.ACCEPTED, owner="Maud", note="sold"
    ),
    "level.mend": lambda s, _: mend(s, Gap.DIFFERS, Mend.TAKE_WORD),
    "lot.apply": change_by_lot,
    "sweep.apply": lambda s, _: sweep(s),
}


def state(world: World) -> dict[str, list[tuple[object, ...]]]:
    return {name: world.rows(statement) for name, statement in STATE.items()}


def test_every_change_is_taken_back_whole(world: World, tmp_path: Path) -> None:
    """One after the other in one fleet: each must leave it exactly as it was for the next."""
    s = furnished(world, tmp_path)
    s.agent.knock(knocking(a_pass(s, activation=Activation.COORDINATOR), "AR-9"))
    world.later(days=45)
    before = state(world)
    for operation, act in ACTS.items():
        act(s, tmp_path)
        changed = state(world)
        assert changed != before, operation
        entry = next(iter(s.journal.list(operation)))
        shown = s.journal.preview_revert(entry.id)
        assert not any(count.key == "left" and count.count for count in shown.counts), operation
        assert state(world) == changed, f"{operation}: a preview changes nothing"
        revert_id = s.journal.revert(entry.id, shown.digest, "a mistake")
        assert state(world) == before, operation
        assert s.journal.show(entry.id).reverted_by == revert_id
        for again in (entry.id, revert_id):
            with pytest.raises(Refused) as refused:
                s.journal.preview_revert(again)
            assert refused.value.problem.code in ("already_reverted", "is_a_revert")


LATER: dict[str, Act] = {
    "pool.edit": lambda s, _: s.pools.edit(1, Pool(name="Signage", seats=1)),
    "rule.edit": lambda s, _: s.sweep_rules.edit(1, Rule(name="Quiet", idle_window_days=31)),
    "order.edit": lambda s, _: s.orders.edit(
        1, Order(name="WL-1", lines=[OrderLine(product="x", quantity=1)])
    ),
    "cohort.edit": lambda s, _: s.cohorts.edit(1, Cohort(name="Petrel", filter="imei pr")),
    "naming.edit": lambda s, _: s.naming.save([Template(name="x", pattern="X-{n}")]),
}


def test_what_was_changed_since_is_left_as_it_is(world: World, tmp_path: Path) -> None:
    s = furnished(world, tmp_path)
    for operation, later in LATER.items():
        ACTS[operation](s, tmp_path)
        first = next(iter(s.journal.list(operation)))
        later(s, tmp_path)
        now = state(world)
        shown = s.journal.preview_revert(first.id)
        assert "changed again since" in shown.warnings[0], operation
        s.journal.revert(first.id, shown.digest)
        assert state(world) == now, operation


def test_devices_changed_since_are_named_and_the_others_go_back(
    world: World, tmp_path: Path
) -> None:
    s = furnished(world, tmp_path)
    declare(s)
    entry = next(iter(s.journal.list("device.declare")))
    one = Selection(ids=[2])
    s.devices.declare(
        one, Ownership.PERSONAL, s.devices.preview_declare(one, Ownership.PERSONAL).digest
    )
    shown = s.journal.preview_revert(entry.id)
    assert {count.key: count.count for count in shown.counts} == {
        "removed": 0,
        "restored": 4,
        "left": 1,
    }
    assert [
        example.device_id
        for example in shown.examples
        if "changed since: ownership" in example.note
    ] == [2]
    s.journal.revert(entry.id, shown.digest)
    assert {d.id: d.ownership for d in s.devices.list()} == {
        1: "personal",
        2: "personal",
        3: "personal",
        4: "corporate",
        5: "corporate",
    }
    assert s.devices.show(2).ownership_basis == "manual", "it was said by hand, later"


def test_who_decided_goes_back_with_what_was_decided_alone(world: World, tmp_path: Path) -> None:
    """A person and a name that were given anew stay as they are, and stay given by hand."""
    s = furnished(world, tmp_path)
    for person in ("maud", "odo"):
        s.devices.assign(1, person, s.devices.preview_assign(1, person).digest)
    for name in ("BRIDGE", "HELM"):
        s.devices.name(1, name)
    for operation in ("device.assign", "device.name"):
        _, first = s.journal.list(operation)
        shown = s.journal.preview_revert(first.id)
        assert {count.key: count.count for count in shown.counts}["restored"] == 0, operation
        with suppress(Refused):  # there is nothing to take back
            s.journal.revert(first.id, shown.digest)
    given = world.rows("SELECT name, name_basis, person_id, manual FROM devices WHERE id = 1")
    odo = s.people.show("odo").id
    assert given == [("HELM", "manual", odo, ["person_id"])]


def test_whatever_a_field_held_comes_back(world: World, tmp_path: Path) -> None:
    """Marks that mean something to whoever reads a text, in every field that can be written."""
    s, fields = world.client(), ["site", "model", "maker", "order", "product_code", "tags"]
    texts = [
        '10" tablet',
        "Pier\\A",
        "Ost\\x",
        "Quay's",
        "رصيف",
        "100 %s {} %(x)s",
        '"',
        "{a}",
        "a|b",
    ]
    serials = [f"KM-{number}" for number in range(len(texts))]
    for file, said in (("first.csv", texts), ("second.csv", ["Petrel"] * len(texts))):
        lines = pl.DataFrame({"serial": serials, **dict.fromkeys(fields, said)})
        lines.write_csv(tmp_path / file)
        import_lot(s, tmp_path / file, platform="android", ownership="corporate")
        if file == "first.csv":
            before = state(world)["devices"]
    assert state(world)["devices"] != before
    entry = next(iter(s.journal.list("lot.apply")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert state(world)["devices"] == before


def test_a_device_that_is_left_may_go_on_changing(world: World, tmp_path: Path) -> None:
    """What was shown of it still holds: nobody is asked to look again."""
    s, file = world.client(), tmp_path / "lot.csv"

    def become(model: str, *serials: str) -> None:
        pl.DataFrame({"serial": serials, "model": model}).write_csv(file)
        import_lot(s, file, platform="android", ownership="corporate")

    become("Petrel", "KM-1", "KM-2", "KM-3")
    become("Dunlin", "KM-1", "KM-2", "KM-3")
    entry = next(iter(s.journal.list("lot.apply")))
    become("Plover", "KM-1", "KM-2")
    shown = s.journal.preview_revert(entry.id)
    become("Turnstone", "KM-1")
    s.journal.revert(entry.id, shown.digest)
    assert [d.model for d in s.devices.list()] == ["Turnstone", "Plover", "Petrel"]


def test_a_lot_whose_device_arrived_since_leaves_it(world: World, tmp_path: Path) -> None:
    s = furnished(world, tmp_path)
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-1"))
    entry = next(iter(s.journal.list("lot.apply")))
    shown = s.journal.preview_revert(entry.id)
    assert {count.key: count.count for count in shown.counts} == {
        "removed": 1,
        "restored": 0,
        "left": 1,
    }
    assert shown.examples[0].note == "changed or arrived since"
    s.journal.revert(entry.id, shown.digest)
    assert [d.serial for d in s.devices.list()] == ["AR-1", "AR-2", "AR-3", "KM-1"]


def test_a_revert_on_facts_that_moved_is_shown_again(world: World, tmp_path: Path) -> None:
    s = furnished(world, tmp_path)
    declare(s)
    entry = next(iter(s.journal.list("device.declare")))
    digest = s.journal.preview_revert(entry.id).digest
    s.devices.declare(
        Selection(ids=[1]),
        Ownership.CORPORATE,
        s.devices.preview_declare(Selection(ids=[1]), Ownership.CORPORATE).digest,
    )
    with pytest.raises(Refused) as moved:
        s.journal.revert(entry.id, digest)
    assert moved.value.problem.code == "facts_moved"
    assert s.journal.show(entry.id).reverted_by is None


FINAL: dict[str, Act] = {
    "lot.check": lambda s, tmp: s.lots.check(manifest(tmp, ["serial", "Z-1"], "z.csv")),
    "pass.add": lambda s, _: a_pass(s),
    "pass.revoke": lambda s, _: s.passes.revoke(1),
    "people.import": lambda s, tmp: import_people(s, tmp, "ivo,Ivo,,,,"),
    "person.left": lambda s, _: s.people.set_left(1),
    "group.groups": lambda s, _: s.groups.set_inner(1, [2]),
    "view.save": lambda s, _: s.views.save(
        ViewNew(name="v", shared=False, settings=ViewSettings())
    ),
    "export": lambda s, _: s.devices.file(),
    "device.knock": lambda s, _: s.agent.knock(
        knocking(a_pass(s, activation=Activation.SHARED), "AR-9")
    ),
}


def test_what_cannot_be_taken_back_says_what_to_do_instead(world: World, tmp_path: Path) -> None:
    s = furnished(world, tmp_path)
    for operation, act in FINAL.items():
        act(s, tmp_path)
        entry = next(e for e in s.journal.list(operation) if e.operation == operation)
        with pytest.raises(Refused) as refused:
            s.journal.preview_revert(entry.id)
        assert (refused.value.problem.code, refused.value.problem.remedy) == (
            "cannot_be_reverted",
            journal.FINAL[operation],
        ), operation


def test_every_operation_is_either_taken_back_here_or_final() -> None:
    source = "".join(
        path.read_text() for path in Path(sortitor.operations.__path__[0]).rglob("*.py")
    )
    recorded = set(re.findall(r'record\(\s*\w+,\s*"([a-z]+\.[a-z]+)"', source))
    documents = {operation for operation in _KINDS if not operation.endswith(".apply")}
    assert len(recorded) > 20
    # A run of a directory is taken back in test_directories.py, where there is one.
    assert recorded - set(ACTS) - set(journal.FINAL) == {"source.run"}
    assert documents - {
        f"{kind}.{act}"
        for kind in ("gate", "naming", "welcome", "reminders")
        for act in ("add", "remove")
    } <= set(ACTS)
