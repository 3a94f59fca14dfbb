"""Cohorts: members that are right in the moment of every change, previewed, explained and taken
back.
"""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from random import Random
from typing import Any

import httpx
import pytest
from tests.draws import first_of
from tests.kits import agree_on_kits
from tests.service.test_scim import ENTERPRISE, PATCH, USER
from tests.worlds import (
    World,
    a_pass,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
    report,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Conflict, FactsMoved, Refused, SignInNeeded
from sortitor.core.filters import moving, parse
from sortitor.core.selection import Selection as CoreSelection
from sortitor.core.vocabulary import (
    Activation,
    Gap,
    GivenAs,
    Mend,
    Ownership,
    Parting,
    Purpose,
    Remedy,
    Role,
    SourceKind,
    Verdict,
)
from sortitor.operations.cohorts.documents import COHORTS
from sortitor.operations.licences.seats import SHELF, keep_up, taking
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import Given, Item, Kit
from sortitor.schemas.levels import GapSelection
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.people import Departure, PartingOf
from sortitor.schemas.sources import Source
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.views import ViewNew, ViewSettings
from sortitor.store import devices as store_devices
from sortitor.store.engine import transaction
from sortitor.store.settling import hold_still

FILTERS = {
    "Deck": 'site eq "Deck"',
    "Phones of the crew": 'platform eq "android" and person.groups eq "Crew"',
    "Ours": 'ownership eq "corporate" and not (tags eq "spare")',
    "Old systems": 'osVersion lt "13"',
    "By name": 'person.department sw "eng" or person.name co "maud"',
    "Of the supplier": 'order.supplier eq "Chandlers"',
    "Serials": 'serial sw "KM" and imei eq null',
    "In use": 'stage eq "active" or stage eq "dormant"',
    "Left behind": "person.left eq true",
    "Nobody's": "not (person.userName pr)",
    "By number": f'imei eq "{imei(1)}" or imei eq "{imei(2)}"',
    "Reported": "flag pr",
    "Named": 'name co "1" or assetTag pr',
    "Of Dunlin": 'person.site eq "Dunlin" or person.mail pr',
    "Arrived": 'enrolledAt pr and not (stage eq "retired")',
    "Of the first lots": "lot le 3",
    "Doomed": "retireOn pr",
}


def members(world: World) -> dict[str, set[int]]:
    """Who is kept in which cohort."""
    rows = world.rows(
        "SELECT c.name, array_remove(array_agg(m.device_id), NULL) FROM cohorts c LEFT JOIN"
        " cohort_members m ON m.cohort_id = c.id WHERE c.filter IS NOT NULL AND NOT c.moving"
        " GROUP BY c.name"
    )
    return {str(name): set(ids) for name, ids in rows}


def recomputed(world: World) -> dict[str, set[int]]:
    """Who would be, from nothing."""
    with transaction(world.run.engine) as connection:
        return {
            kept.document.name: set(
                store_devices.ids(
                    connection, CoreSelection(filter=parse(kept.document.filter)), world.now
                )
            )
            for kept in COHORTS.shelf.every(connection)
            if kept.document.filter and not kept.document.is_moving
        }


def with_cohorts(s: Sortitor) -> None:
    for name, text in FILTERS.items():
        s.cohorts.add(Cohort(name=name, filter=text))


#: Pools that ask what cohorts ask, those that speak of cohorts and of a list, and those that wait.
POOLS = [
    *(Pool(name=name, filter=text) for name, text in FILTERS.items()),
    Pool(name="Everybody", awaited_too=True),
    Pool(name="Of cohorts", filter='cohorts eq "Deck" and not (cohorts eq "Ours")'),
    Pool(name="Of any cohort", filter="cohorts pr", awaited_too=True),
    Pool(name="Of the drawer", filter='cohorts eq "Drawer"', awaited_too=True),
    Pool(name="Of the quiet", filter='cohorts eq "Quiet"', awaited_too=True),
]


#: Item → for which devices it is.
ITEMS = {
    "Anything": None,
    "On new systems": 'osVersion ge "13"',
    "For the crew": 'person.groups eq "Crew" or person.department sw "eng"',
    "Spares": 'tags eq "spare" and not (serial sw "ON")',
    "Suppliers'": 'order.supplier eq "chandlers"',
}


def an_item(name: str, applies_when: str | None, minutes: int) -> Item:
    payload = {"kind": "setting", "setting": "lock-after", "value": minutes}
    platforms = {"android": "11", "ios": ""} if minutes % 2 else {}
    return Item.model_validate(
        {
            "name": name,
            "payload": payload,
            "applies_when": applies_when,
            "platforms": platforms,
        }
    )


def with_kits(s: Sortitor) -> None:
    s.cohorts.add(Cohort(name="Bridge of old", filter='site eq "Bridge" and osVersion lt "14"'))
    for name, text in ITEMS.items():
        s.items.add(an_item(name, text, len(name) % 7))
    s.kits.add(Kit(name="Always", position=9, items=("Anything",), given=(Given(cohort="Ours"),)))


def with_pools(s: Sortitor) -> None:
    s.cohorts.add(Cohort(name="Drawer"))
    s.cohorts.add(Cohort(name="Quiet", filter="idleDays ge 0"))
    for pool in POOLS:
        s.pools.add(pool)


def seats(world: World) -> dict[str, set[int]]:
    """Who is kept as taking a seat of which pool; moved by time: not kept."""
    rows = world.rows(
        "SELECT p.name, (SELECT array_agg(device_id) FROM device_seats WHERE p.id = ANY (pools))"
        " FROM pools p WHERE EXISTS (SELECT FROM seat_moves m WHERE m.pool_id = p.id"
        " AND m.day IS NULL)"
    )
    return {str(name): set(ids or ()) for name, ids in rows}


def seats_counted(world: World) -> dict[str, set[int]]:
    """Who would take one, from nothing."""
    with transaction(world.run.engine) as connection:
        return {
            kept.document.name: set(
                store_devices.ids(connection, taking(connection, kept.document), world.now)
            )
            for kept in SHELF.every(connection)
        }


def agree_on_seats(world: World, done: list[str]) -> None:
    kept, counted = seats(world), seats_counted(world)
    assert kept == {name: ids for name, ids in counted.items() if name in kept}, done
    needed = {pool.name: pool.needed for pool in world.client().pools.list()}
    assert needed == {name: len(ids) for name, ids in counted.items()}, done


class Overtaken(Exception):
    """Another life was there first."""


class Life:
    """Changes of every kind, drawn by chance, through the interfaces that people and devices
    use.
    """

    def __init__(self, world: World, folder: Path, seed: int) -> None:
        self.world, self.s, self.folder, self.random = world, world.client(), folder, Random(seed)
        self.code, self.credentials, self.number = (
            a_pass(self.s, ownership=Ownership.CORPORATE),
            [""],
            0,
        )
        self.provider: str | None = None

    def device(self) -> int | None:
        found = [device.id for device in self.s.devices.list() if device.stage != "retired"]
        return self.random.choice(found) if found else None

    def lot(self) -> None:
        self.number += 1
        choose = self.random.choice
        lines = []
        for _ in range(4):
            cells = (
                f"{choose(['KM', 'ON'])}-{self.random.randint(1, 12):02}",
                "Kelmar",
                choose(["Deck", "deck", "Bridge", ""]),
                choose(["android", "ios", ""]),
                choose(["maud", "odo", ""]),
                choose(["spare", ""]),
                choose(["WL-1", "WL-2", ""]),
                str(self.number),
            )
            lines.append(",".join(cells))
        import_lot(
            self.s,
            manifest(self.folder, ["serial,maker,site,platform,person,tags,order,note", *lines]),
            ownership=self.random.choice(["corporate", "personal"]),
        )

    def people(self) -> None:
        lines = [
            f"{name},{name.title()} {self.random.choice(['Fenwick', 'Gannet'])}"
            f",,{self.random.choice(['Engine', 'Deck'])},"
            f",{self.random.choice(['Crew', 'Officers', 'Crew;Officers', ''])}"
            for name in ("maud", "odo")
        ]
        import_people(self.s, self.folder, *lines)

    def merge(self) -> None:
        """Two devices that a later lot knows as one, with whatever else is wrong left out."""
        serial, number = self.random.randint(1, 12), self.random.randint(1, 3)
        head, apart = "serial,maker,imei", self.random.random() < 0.7
        if apart:
            import_lot(self.s, manifest(self.folder, [head, f",,{imei(number)}"], "apart.csv"))
        line = f"KM-{serial:02},Kelmar,{imei(number)}"
        lot = self.s.lots.check(manifest(self.folder, [head, line], "one.csv"))
        remedies = {"two_devices": Remedy.MERGE, "retired_device": Remedy.TAKE_BACK}
        for note in self.s.lots.notes(lot.id):
            if note.code in remedies:
                self.s.lots.resolve(lot.id, remedies[note.code], note=note.code)
        if self.s.lots.show(lot.id).counts[Verdict.CONFLICT]:
            self.s.lots.resolve(lot.id, Remedy.SKIP, verdict=Verdict.CONFLICT)
        self.s.lots.apply(lot.id, self.s.lots.preview(lot.id).digest)

    def bring_back(self) -> None:
        retired = [device.id for device in self.s.devices.list(filter='stage eq "retired"')]
        if retired:
            chosen = Selection(ids=[self.random.choice(retired)])
            with suppress(Refused):  # its number may be another's, its person's quota reached
                digest = self.s.devices.preview_bring_back(chosen).digest
                self.s.devices.bring_back(chosen, digest)

    def report(self) -> None:
        if (device := self.device()) is not None:
            report(self.s, device, flag=self.random.choice(["missing", "stolen", None]))

    def name(self) -> None:
        if (device := self.device()) is not None:
            with suppress(Refused):  # it may be taken
                self.s.devices.name(device, f"N-{self.random.randint(1, 12)}")

    def rename(self) -> None:
        self.s.naming.rename(self.s.naming.preview().digest)

    def wait_and_sweep(self) -> None:
        self.world.later(days=self.random.choice([9, 22, 40]))
        if not list(self.s.sweep_rules.list()):
            self.s.sweep_rules.add(
                Rule(name="Quiet", idle_window_days=21, dormant_days=21, brake_percent=100)
            )
        self.s.sweeps.apply("Quiet", self.s.sweeps.preview("Quiet").digest)

    def depart(self) -> None:
        """With something decided of each of their devices, or nothing."""
        name, other = self.random.sample(["maud", "odo"], 2)
        theirs = list(self.s.devices.list(filter=f'person.userName eq "{name}"'))
        acts = [
            PartingOf(ids=[device.id], act=act, person=other if act is Parting.GIVE else None)
            for device in theirs
            if (act := self.random.choice([None, *Parting])) is not None
        ]
        with suppress(Refused):  # they may not be there
            departure = Departure(devices=acts)
            self.s.people.leave(
                name, departure, self.s.people.preview_departure(name, departure).digest
            )

    def wait_in_line(self) -> None:
        """Devices that wait are given by a list, now and then after more of them came."""
        code = a_pass(self.s, activation=Activation.COORDINATOR)
        self.s.agent.knock(knocking(code, f"KM-{self.random.randint(1, 12):02}"))
        lines = self.s.arrivals.waiting_file().decode("utf-8-sig").splitlines()
        filled = [line + self.random.choice(["maud", "odo", ""]) for line in lines[1:]]
        path = manifest(self.folder, [lines[0], *filled], "waiting.csv")
        if filled:
            digest = self.s.arrivals.preview_assignments(path).digest
            self.s.arrivals.apply_assignments(path, digest)

    def claim(self) -> None:
        """Whoever claims to be a device in use is believed, or turned away."""
        for arrival in self.s.arrivals.list(outcome="parked"):
            with suppress(Refused):  # most claim nothing
                if self.random.random() < 0.5:
                    self.s.arrivals.turn_away(arrival.id)
                else:
                    digest = self.s.arrivals.preview_hand_over(arrival.id).digest
                    self.s.arrivals.hand_over(arrival.id, digest)
                return

    def roster(self) -> None:
        """A list of another system, whose word is taken for what differs and what is unknown."""
        if not list(self.s.sources.list()):
            self.s.sources.add(Source(name="Yard", kind=SourceKind.ROSTER))
        lines = [
            f"KM-{self.random.randint(1, 12):02},Kelmar,{self.random.choice(['Deck', 'Gull'])},"
            + self.random.choice(["maud", "odo", ""])
            for _ in range(3)
        ]
        told = manifest(self.folder, ["serial,maker,site,person", *lines], "yard.csv")
        with suppress(Refused):  # a device may be named twice
            self.s.sources.take_file("Yard", told, self.s.sources.preview_file("Yard", told).digest)
        for kind, how in ((Gap.DIFFERS, Mend.TAKE_WORD), (Gap.UNKNOWN, Mend.TAKE_IN)):
            which = GapSelection(kind=kind)
            with suppress(Refused):  # there may be none
                self.s.levels.mend(which, how, self.s.levels.preview_mend(which, how).digest)

    def erase(self) -> None:
        personal = 'stage eq "retired" and ownership eq "personal"'
        found = [device.id for device in self.s.devices.list(filter=personal)]
        if found:
            chosen, admin = Selection(ids=found[:1]), self.world.client(Role.ADMINISTRATOR)
            admin.devices.erase(chosen, admin.devices.preview_erase(chosen).digest, 1)

    def push(self) -> None:
        """What an identity provider says of people and groups."""
        users = self.scim("GET", "Users").get("Resources", ())
        known = {one["userName"]: one["id"] for one in users}
        name = self.random.choice(["maud", "odo"])
        if name not in known:
            known[name] = self.scim("POST", "Users", schemas=[USER], userName=name)["id"]
        groups = self.scim("GET", "Groups").get("Resources", ())
        value: object = self.random.choice(["Engine", "Deck", "Bridge"])
        where = f"Users/{known[name]}"
        path = f"{ENTERPRISE}:department"
        if self.random.random() < 0.3:
            path, value = "active", self.random.random() < 0.5
        elif self.random.random() < 0.4 and groups:
            group = self.random.choice(groups)["id"]
            where, path, value = f"Groups/{group}", "members", [{"value": known[name]}]
        what = {"op": self.random.choice(["add", "replace"]), "path": path, "value": value}
        self.scim("PATCH", where, schemas=[PATCH], Operations=[what])

    def scim(self, method: str, place: str, **said: object) -> dict[str, Any]:
        if self.provider is None:
            accounts = self.world.in_person().accounts
            self.provider = accounts.add_token("idp", Role.COORDINATOR, 30, Purpose.PEOPLE).secret
        answer = httpx.request(
            method,
            f"{self.world.url}/scim/v2/{place}",
            json=said or None,
            headers={"Authorization": f"Bearer {self.provider}"},
            timeout=60,
        )
        if answer.status_code in (404, 409):
            raise Overtaken(answer.text)
        assert answer.is_success, answer.text
        return dict(answer.json()) if answer.content else {}

    def declare(self) -> None:
        if (device := self.device()) is not None:
            chosen, ownership = Selection(ids=[device]), self.random.choice(list(Ownership))
            self.s.devices.declare(
                chosen, ownership, self.s.devices.preview_declare(chosen, ownership).digest
            )

    def assign(self) -> None:
        device, person = self.device(), self.random.choice(["maud", "odo"])
        if device is not None and self.s.devices.show(device).stage != "parked":
            with suppress(Refused):  # who was imported may be taken back
                digest = self.s.devices.preview_assign(device, person).digest
                self.s.devices.assign(device, person, digest)

    def knock(self) -> None:
        answer = self.s.agent.knock(
            knocking(
                self.code,
                f"KM-{self.random.randint(1, 12):02}",
                os_version=self.random.choice(["12", "14"]),
            )
        )
        if answer.credential:
            self.credentials.append(answer.credential)

    def check_in(self) -> None:
        if credential := self.random.choice(self.credentials):
            try:
                self.s.agent.check_in(credential, self.random.choice(["12.1", "13", "15"]))
            except (Refused, SignInNeeded):
                self.credentials.remove(credential)

    def order(self) -> None:
        name, supplier = (
            self.random.choice(["WL-1", "wl-2"]),
            self.random.choice(["Chandlers", "chandlers", "Other"]),
        )
        known = {order.name.lower(): order.id for order in self.s.orders.list()}
        given = Order(name=name, supplier=supplier, lines=[OrderLine(product="x", quantity=1)])
        if name.lower() in known and self.random.random() < 0.3:
            self.s.orders.remove(known[name.lower()])
        elif name.lower() in known:
            self.s.orders.edit(known[name.lower()], given)
        else:
            self.s.orders.add(given)

    def leave(self) -> None:
        people = list(self.s.people.list())
        if people:
            person = self.random.choice(people)
            self.s.people.set_left(person.id, person.left_at is None)

    def nest(self) -> None:
        groups = self.s.groups.list()
        if len(groups) == 2:
            outer, inner = self.random.sample([group.id for group in groups], 2)
            self.s.groups.set_inner(outer, self.random.choice([[], [inner]]))

    def revert(self) -> None:
        for entry in self.s.journal.list(most=6):
            try:
                self.s.journal.revert(entry.id, self.s.journal.preview_revert(entry.id).digest)
            except Refused:
                continue
            return

    def drawer(self) -> None:
        device = self.device()
        if device is not None:
            chosen, put_in = Selection(ids=[device]), self.random.random() < 0.7
            shown = self.s.cohorts.preview_list("Drawer", chosen, put_in)
            self.s.cohorts.change_list("Drawer", chosen, shown.digest, put_in)

    def redefine(self) -> None:
        site = self.random.choice(["Deck", "Bridge", ""])
        self.s.cohorts.edit("Deck", Cohort(name="Deck", filter=f'site eq "{site}"'))

    def widen(self) -> None:
        name, text = self.random.choice([*FILTERS.items()])
        wider = Pool(name=name, filter=text, awaited_too=self.random.random() < 0.5, seats=3)
        with suppress(Refused):
            self.s.pools.edit(name, wider)

    def retire(self) -> None:
        device = self.device()
        if device is not None:
            chosen = Selection(ids=[device])
            self.s.devices.retire(chosen, self.s.devices.preview_retire(chosen).digest)

    def give(self) -> None:
        """A kit to some cohorts with some words, among items with conditions of every kind."""
        cohorts = self.random.sample(["Deck", "Bridge of old", "Ours", "Drawer", None], 2)
        words = [self.random.choice([*GivenAs]) for _ in cohorts]
        givings = tuple(
            Given(cohort=cohort, word=word) for cohort, word in zip(cohorts, words, strict=True)
        )
        number = self.random.randint(1, 2)
        kit = Kit(
            name=f"Kit {number}",
            position=number,
            items=tuple(self.random.sample([*ITEMS], 3)),
            given=givings,
        )
        known = {one.name for one in self.s.kits.list()}
        with suppress(Refused):  # a cohort may be gone
            if kit.name not in known:
                self.s.kits.add(kit, self.s.kits.preview_add(kit).digest)
            elif self.random.random() < 0.2:
                self.s.kits.remove(kit.name)
            else:
                self.s.kits.edit(kit.name, kit, self.s.kits.preview_edit(kit.name, kit).digest)

    def remake(self) -> None:
        name, text = self.random.choice([*ITEMS]), self.random.choice([*ITEMS.values()])
        with suppress(Refused):  # the item may be taken back
            self.s.items.edit(name, an_item(name, text, self.random.randint(1, 9)))

    def act(self) -> str:
        what = self.random.choice(
            [
                "give",
                "give",
                "remake",
                "drawer",
                "redefine",
                "widen",
                "retire",
                "lot",
                "lot",
                "people",
                "declare",
                "assign",
                "knock",
                "check_in",
                "order",
                "revert",
                "leave",
                "nest",
                "merge",
                "merge",
                "bring_back",
                "report",
                "name",
                "rename",
                "wait_and_sweep",
                "depart",
                "wait_in_line",
                "claim",
                "roster",
                "erase",
                "push",
                "push",
            ]
        )
        with suppress(Conflict):  # not everything is possible at every time
            getattr(self, what)()
        return what


def begun(world: World, folder: Path, seed: int) -> Life:
    """A life in a world with people, cohorts, pools and kits."""
    life = Life(world, folder, seed)
    life.people()
    with_cohorts(life.s)
    with_pools(life.s)
    with_kits(life.s)
    return life


def agree(world: World, done: list[str]) -> None:
    """What is kept is what would be worked out."""
    agree_on_kits(world, done)
    kept = members(world)
    assert kept == recomputed(world), done
    agree_on_seats(world, done)


@pytest.mark.parametrize("seed", first_of(*range(7)))
def test_members_are_those_of_a_recomputation_after_whatever_happened(
    world: World, tmp_path: Path, seed: int
) -> None:
    life = begun(world, tmp_path, seed)
    done = []
    for _ in range(36 if seed == 0 else 90):
        done.append(life.act())
        agree(world, done)
    assert any(members(world).values()), "the sequence made members"
    names = {pool.name for pool in life.s.pools.list()}
    assert set(seats(world)) == names - {"Of any cohort", "Of the quiet"}, "time moves those"
    keep_up(world.run.context("schedule"))
    agree_on_seats(world, [*done, "folded"])
    assert world.rows("SELECT count(*) - count(DISTINCT (pool_id, day)) FROM seat_moves") == [(0,)]


@pytest.mark.parametrize("seed", first_of(*range(4)))
def test_lives_lived_at_once_leave_what_a_recomputation_says(
    world: World, tmp_path: Path, seed: int
) -> None:
    """Four people and their devices do what they like; nothing is an error of the service."""
    begun(world, tmp_path, seed)
    done: list[str] = []

    def live(number: int) -> None:
        folder = tmp_path / f"life {number}"
        folder.mkdir()
        life = Life(world, folder, 4 * seed + number)
        for _ in range(9 if seed == 0 else 40):
            with suppress(Refused, Overtaken):
                done.append(life.act())

    with ThreadPoolExecutor(4) as threads:
        list(threads.map(live, range(4)))
    agree(world, done)


@pytest.fixture
def furnished(world: World, tmp_path: Path) -> Sortitor:
    s = world.client()
    import_people(
        s, tmp_path, "maud,Maud Fenwick,,Engine,Dunlin,Crew", "odo,Odo Gannet,,Deck,Petrel,Officers"
    )
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,site,platform,person",
                *(
                    f"KM-{i:02},Kelmar,{['Deck', 'Bridge'][i % 2]},android,"
                    f"{['maud', 'odo', ''][i % 3]}"
                    for i in range(12)
                ),
            ],
        ),
    )
    return s


def test_a_cohort_from_preview_to_revert(furnished: Sortitor, world: World) -> None:
    s = furnished
    deck = Cohort(name="Deck", filter='site eq "deck"')
    shown = s.cohorts.preview_add(deck)
    assert {c.key: c.count for c in shown.counts} == {
        "fit": 6,
        "platform:android": 6,
        "site:Deck": 6,
        "stage:awaited": 6,
    }
    assert len(shown.examples) == 6
    made = s.cohorts.add(deck, shown.digest)
    assert (made.kind, made.devices, made.moving) == ("filter", 6, False)
    wider = Cohort(name="Deck", filter='site eq "bridge" or serial eq "KM-00"')
    changed = s.cohorts.preview_edit(made.id, wider)
    assert {c.key: c.count for c in changed.counts}["enter"] == 6
    assert {c.key: c.count for c in changed.counts}["leave"] == 5
    edited = s.cohorts.edit(made.id, wider, changed.digest)
    assert edited.devices == 7
    entry = next(iter(s.journal.list(operation="cohort.edit")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.cohorts.show(made.id).devices == 6
    assert [line.devices for line in s.cohorts.history(made.id)] == [6]
    assert {x.site for x in s.devices.list(cohort=made.id)} == {"Deck"}


def test_a_preview_that_is_no_longer_true_is_not_applied(
    furnished: Sortitor, tmp_path: Path
) -> None:
    s = furnished
    deck = Cohort(name="Deck", filter='site eq "deck"')
    shown = s.cohorts.preview_add(deck)
    import_lot(s, manifest(tmp_path, ["serial,maker,site", "KM-77,Kelmar,Deck"]))
    with pytest.raises(FactsMoved) as caught:
        s.cohorts.add(deck, shown.digest)
    assert caught.value.preview is not None
    assert not s.cohorts.list()


def test_awaited_devices_enter_before_any_arrives_and_say_why(furnished: Sortitor) -> None:
    s = furnished
    made = s.cohorts.add(
        Cohort(
            name="Crew phones",
            filter='platform eq "android" and person.groups eq "Crew" and site eq "Deck"',
        )
    )
    inside = {x.id for x in s.devices.list(cohort=made.id)}
    assert inside
    assert {x.stage for x in s.devices.list(cohort=made.id)} == {"awaited"}
    assert s.cohorts.explain(made.id, min(inside)).inside
    outside = next(x.id for x in s.devices.list() if x.id not in inside)
    explained = s.cohorts.explain(made.id, outside)
    assert not explained.inside
    assert any(not clause.matched for clause in explained.clauses)
    assert explained.clauses[0].text == 'platform eq "android"'


def test_time_moves_a_cohort_without_anything_happening(furnished: Sortitor, world: World) -> None:
    s = furnished
    quiet = s.cohorts.add(Cohort(name="Quiet", filter='idleDays ge 30 and site eq "Deck"'))
    assert (quiet.moving, quiet.devices) == (True, 0)
    assert s.devices.count(filter='cohorts eq "quiet"') == 0
    world.later(days=30)
    assert s.cohorts.show(quiet.id).devices == 6
    assert s.devices.count(cohort=quiet.id) == 6
    assert s.devices.count(filter='cohorts eq "quiet"') == 6
    assert s.devices.count(filter='cohorts ne "quiet"') == 6
    s.cohorts.add(Cohort(name="Deck", filter='site eq "deck"'))
    device = next(s.devices.list(filter='cohorts eq "quiet"'))
    assert [(cohort.name) for cohort in s.devices.show(device.id).cohorts] == [
        "Deck",
        "Quiet",
    ], "on its own page too"
    assert (
        s.devices.file("csv", ["cohorts"], filter=f"id eq {device.id}").decode().splitlines()[1]
        == "Deck; Quiet"
    ), "and in a file"
    pool = s.pools.add(
        Pool(name="Quiet ones", seats=1, filter='cohorts eq "Quiet"', awaited_too=True)
    )
    assert pool.needed == 6
    assert s.devices.count(pool=pool.id) == 6
    assert s.devices.count(pool=pool.id, filter=f"id eq {device.id}") == 1, (
        "a condition beside a pool counts too"
    )
    assert s.devices.count(pool=pool.id, cohort=quiet.id, query="nothing like it") == 0


def test_what_is_used_stays_and_says_by_what(furnished: Sortitor) -> None:
    s = furnished
    made = s.cohorts.add(Cohort(name="Deck", filter='site eq "deck"'))
    s.pools.add(Pool(name="Signage", seats=1, filter='platform eq "android" and cohorts eq "deck"'))
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=90, filter='not (cohorts eq "DECK")'))
    assert [(use.kind, use.name) for use in s.cohorts.uses(made.id)] == [
        ("licence pool", "Signage"),
        ("sweep rule", "Quiet"),
    ]
    with pytest.raises(Refused, match=r"Signage.*Quiet"):
        s.cohorts.remove(made.id)
    with pytest.raises(Refused, match="renamed"):
        s.cohorts.edit(made.id, Cohort(name="Other", filter='site eq "deck"'))


def test_a_list_by_identifiers_and_its_way_back(furnished: Sortitor) -> None:
    s = furnished
    lent = s.cohorts.add(Cohort(name="Lent out"))
    given = Selection(identifiers=[" km-03 ", "KM-04", "NOBODY-1"])
    shown = s.cohorts.preview_list(lent.id, given)
    assert {c.key: c.count for c in shown.counts} == {"moved": 2, "same": 0, "unknown": 1}
    assert "NOBODY-1" in shown.warnings[0]
    s.cohorts.change_list(lent.id, given, shown.digest)
    assert {x.serial for x in s.devices.list(cohort=lent.id)} == {"KM-03", "KM-04"}
    out = Selection(filter='cohorts eq "lent out" and serial eq "KM-04"')
    s.cohorts.change_list(lent.id, out, s.cohorts.preview_list(lent.id, out, False).digest, False)
    assert s.cohorts.show(lent.id).devices == 1
    for entry in list(s.journal.list(operation="cohort.list")):
        s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.cohorts.show(lent.id).devices == 0
    by_filter = s.cohorts.add(Cohort(name="Deck", filter='site eq "deck"'))
    with pytest.raises(Refused, match="by filter"):
        s.cohorts.preview_list(by_filter.id, given)


def test_a_merge_and_its_way_back_settle_both_devices(world: World, tmp_path: Path) -> None:
    """The one that takes over says nothing of itself that is new: it has no effect to take back."""
    s = world.client()
    s.cohorts.add(Cohort(name="By the number", filter=f'imei eq "{imei(2)}"'))
    import_lot(s, manifest(tmp_path, ["serial,maker,imei", "KM-2,Kelmar,", f",,{imei(2)}"]))
    of_serial, of_imei = (d.id for d in sorted(s.devices.list(), key=lambda d: d.id))
    assert members(world) == {"By the number": {of_imei}}

    one_row = ["serial,maker,imei", f"KM-2,Kelmar,{imei(2)}"]
    lot = s.lots.check(manifest(tmp_path, one_row, "merged.csv"))
    s.lots.resolve(lot.id, Remedy.MERGE, note="two_devices")
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest)
    assert members(world) == {"By the number": {of_serial}} == recomputed(world)

    s.lots.revert(lot.id, s.lots.preview_revert(lot.id).digest)
    assert members(world) == {"By the number": {of_imei}} == recomputed(world)


def test_overlap_and_completion(furnished: Sortitor) -> None:
    s = furnished
    deck, maud = (
        s.cohorts.add(Cohort(name=name, filter=text))
        for name, text in (("Deck", 'site eq "deck"'), ("Maud", 'person.userName eq "maud"'))
    )
    shared = s.cohorts.overlap(deck.id, maud.id)
    assert (shared.only_one, shared.both, shared.only_other) == (4, 2, 2)
    assert s.filters.values("site", "de") == ["Deck"]
    assert s.filters.values("person.groups") == ["Crew", "Officers"]
    known = {attribute.name: attribute for attribute in s.filters.attributes()}
    assert known["platform"].words == ["android", "ios", "windows", "macos", "linux"]
    assert s.filters.check("serial pr", in_use=True).devices == s.devices.count(
        filter='serial pr and (stage eq "parked" or stage eq "active" or stage eq "dormant")'
    )
    assert s.filters.check("serial pr", in_use=True, awaited_too=True).devices == s.devices.count(
        filter='serial pr and stage ne "retired"'
    )
    read = s.filters.check('site eq "deck" and not (idleDays gt 3)')
    assert (read.devices, read.moving) == (6, True)
    assert read.tree["parts"][1] == {"not": {"attribute": "idleDays", "operator": "gt", "value": 3}}
    with pytest.raises(Refused, match="cannot speak of cohorts"):
        s.cohorts.add(Cohort(name="Loop", filter='cohorts eq "Deck"'))


def test_views_are_ones_own_until_they_are_shared(furnished: Sortitor, world: World) -> None:
    settings = ViewSettings(filter='site eq "Deck"', columns=["name", "serial"])
    furnished.views.save(ViewNew(name="Deck", settings=settings))
    other = world.client(Role.VIEWER)
    assert not other.views.list()
    view = furnished.views.save(ViewNew(name="deck", shared=True, settings=settings))
    [seen] = other.views.list()
    assert (seen.id, seen.mine, seen.settings) == (view.id, False, settings)
    with pytest.raises(Refused, match="no view of yours"):
        other.views.remove(view.id)


def test_two_writers_at_once_never_leave_a_wrong_member(world: World, tmp_path: Path) -> None:
    """One changes devices, one people, one the cohort's filter, all the time; afterwards the
    members are those of the last filter.
    """
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Engine,,Crew", "odo,Odo Gannet,,Deck,,")
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,site,platform,person",
                *(f"KM-{i:02},Kelmar,Deck,android,{['maud', 'odo'][i % 2]}" for i in range(20)),
            ],
        ),
    )
    made = s.cohorts.add(Cohort(name="C", filter='ownership eq "corporate"'))
    texts = [
        'ownership eq "corporate"',
        'ownership eq "personal" and person.groups eq "Crew"',
        'person.department eq "Deck" or ownership eq "partner"',
    ]
    failures: list[BaseException] = []
    over = threading.Event()

    def repeatedly(act: object) -> None:
        try:
            while not over.is_set():
                act()
        except BaseException as error:  # noqa: BLE001 - told below
            failures.append(error)

    def declaring(client: Sortitor, random: Random) -> None:
        chosen, ownership = (
            Selection(ids=random.sample(range(1, 21), 5)),
            random.choice(list(Ownership)),
        )
        with suppress(FactsMoved):
            client.devices.declare(
                chosen, ownership, client.devices.preview_declare(chosen, ownership).digest
            )

    def editing(client: Sortitor, random: Random) -> None:
        client.cohorts.edit(made.id, Cohort(name="C", filter=random.choice(texts)))

    pools = [Pool(name="P", filter=text) for text in ('cohorts eq "C"', 'tags eq "x"', None)]
    pool = s.pools.add(pools[0])

    def pooling(client: Sortitor, random: Random) -> None:
        client.pools.edit(pool.id, random.choice(pools))

    def moving_people(client: Sortitor, random: Random) -> None:
        folder = tmp_path / "people"
        folder.mkdir(exist_ok=True)
        import_people(
            client,
            folder,
            f"maud,Maud,,{random.choice(['Engine', 'Deck'])},,{random.choice(['Crew', ''])}",
            f"odo,Odo,,{random.choice(['Engine', 'Deck'])},,{random.choice(['Crew', 'Officers'])}",
        )

    acts = [(declaring, 1), (declaring, 2), (editing, 3), (moving_people, 4), (pooling, 5)]
    threads = [
        threading.Thread(
            target=repeatedly,
            args=(lambda act=act, client=world.client(), random=Random(seed): act(client, random),),
        )
        for act, seed in acts
    ]
    for thread in threads:
        thread.start()
    for _ in range(12):
        over.wait(0.5)
        with transaction(world.run.engine) as connection:
            # While cohorts hold still, everything committed must already be right.
            hold_still(connection)
            text = connection.exec_driver_sql("SELECT filter FROM cohorts").scalar_one()
            kept = set(connection.exec_driver_sql("SELECT device_id FROM cohort_members").scalars())
            assert kept == set(
                store_devices.ids(connection, CoreSelection(filter=parse(text)), world.now)
            ), text
            assert seats(world) == seats_counted(world), text
    over.set()
    for thread in threads:
        thread.join()
    assert failures == []
    assert not any(moving(parse(text)) for text in texts)


def test_a_page_read_while_the_filter_changes_is_of_one_filter(
    world: World, tmp_path: Path
) -> None:
    """Members are looked for where the filter says that they are, so both must be of the same
    moment.
    """
    s = world.client()
    import_lot(
        s,
        manifest(
            tmp_path,
            ["serial,site", *(f"KM-{i:02},{['Alder', 'Zander'][i % 2]}" for i in range(40))],
        ),
    )
    made = s.cohorts.add(Cohort(name="C", filter='site eq "Alder"'))
    over = threading.Event()
    failures: list[BaseException] = []

    def editing() -> None:
        client, turn = world.client(), 0
        try:
            while not over.is_set():
                turn += 1
                client.cohorts.edit(
                    made.id,
                    Cohort(name="C", filter=f'site eq "{["Alder", "Zander"][turn % 2]}"'),
                )
        except BaseException as error:  # noqa: BLE001 - told below
            failures.append(error)

    thread = threading.Thread(target=editing)
    thread.start()
    seen = set()
    for turn in range(150):
        asked = {"cohort": made.id} if turn % 2 else {"filter": 'cohorts eq "C"'}
        sites = [device.site for device in s.devices.list(**asked, sort="site")]
        assert len(sites) == 20, "all of them, whichever filter it was"
        assert len(set(sites)) == 1
        seen.add(sites[0])
    over.set()
    thread.join()
    assert failures == []
    assert seen == {"Alder", "Zander"}, "both were met"


def test_an_edit_and_a_revert_at_the_same_moment_never_wait_for_each_other(world: World) -> None:
    """Both take the lock of all cohorts before the cohort itself, so one of them waits and neither
    is broken off.
    """
    s = world.client()
    cohort = s.cohorts.add(Cohort(name="A", filter='site eq "x"'))
    outcomes: list[str] = []

    def edit(number: int) -> None:
        try:
            world.client().cohorts.edit(cohort.id, Cohort(name="A", filter=f'site eq "{number}"'))
            outcomes.append("edited")
        except Refused as error:
            outcomes.append(error.problem.code)

    def take_back() -> None:
        mine = world.client()
        entry = next(iter(mine.journal.list("cohort.edit")))
        try:
            mine.journal.revert(entry.id, mine.journal.preview_revert(entry.id).digest)
            outcomes.append("reverted")
        except Refused as error:
            outcomes.append(error.problem.code)

    s.cohorts.edit(cohort.id, Cohort(name="A", filter='site eq "y"'))
    for number in range(8):
        threads = [
            threading.Thread(target=edit, args=(number,)),
            threading.Thread(target=take_back),
            threading.Thread(target=edit, args=(number + 100,)),
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert outcomes.count("edited") == 16
    assert set(outcomes) <= {"edited", "reverted", "facts_moved", "already_reverted", "is_a_revert"}
