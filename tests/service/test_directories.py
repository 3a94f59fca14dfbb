"""Directories by LDAP: people and groups of a real slapd, whatever becomes of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from ldap3 import MODIFY_REPLACE, Connection, Server
from tests.sources import run
from tests.worlds import World, import_lot, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RunState, SecretKind, SourceKind, SourceState
from sortitor.stand_ins import directory as stand_in
from sortitor.stand_ins.directory import BASE, PASSWORD, ROOT, Directory, group, ldif_of, person

pytestmark = pytest.mark.skipif(not stand_in.is_there(), reason="slapd is not installed")

ANNA, BRAM, CEES = (f"uid={uid},ou=people,{BASE}" for uid in ("anna", "bram", "cees"))
OFFICERS, CREW = (f"cn={name},ou=groups,{BASE}" for name in ("Officers", "Crew"))
ENTRIES = [
    *stand_in.top(),
    person("anna", "Anna Zee", "anna@wrenmoor.example", l="Quill Harbour", userPassword="sea"),
    person("bram", "Bram عمر", "bram@wrenmoor.example", departmentNumber="Deck"),
    person("cees", "Cees Kade"),
    group("Officers", [ANNA]),
    group("Crew", [BRAM, OFFICERS]),
]


@pytest.fixture
def directory(tmp_path: Path) -> Iterator[Directory]:
    """A directory of three people and two groups."""
    with stand_in.running(tmp_path / "slapd", ldif_of(ENTRIES)) as made:
        yield made


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """A service that may ask this machine, with a worker."""
    return make_world(source_networks="127.0.0.0/8, ::1/128", worker=True)


@pytest.fixture
def s(world: World) -> Sortitor:
    """A coordinator's client."""
    return world.client()


def add(s: Sortitor, directory: Directory, **more: Any) -> str:
    """The directory as a source; gives its name."""
    given = {
        "name": "Office directory",
        "kind": SourceKind.DIRECTORY,
        "address": directory.address,
        "branches": (f"ou=people,{BASE}", f"ou=groups,{BASE}"),
        "bind_name": ROOT,
        "authority": directory.authority,
        **more,
    }
    made = s.sources.add(Source(**given))
    s.sources.give(made.id, PASSWORD)
    return made.name


@contextmanager
def as_root(directory: Directory) -> Iterator[Connection]:
    """A connection that may change the directory."""
    server = Server("127.0.0.1", directory.port, get_info="NO_INFO")
    line = Connection(server, ROOT, PASSWORD, auto_bind=True)
    yield line
    line.unbind()


def people(s: Sortitor) -> dict[str, Any]:
    return {person.user_name: person for person in s.people.list()}


def test_people_and_groups_in_groups(s: Sortitor, directory: Directory) -> None:
    """One run brings everybody, with groups through groups; a second one changes nothing."""
    source = add(s, directory)
    preview = s.sources.preview_run(source)
    assert {count.key: count.count for count in preview.counts} == {
        "people_added": 3,
        "groups_added": 2,
        "joins": 3,
    }
    assert people(s) == {}
    done = run(s, source)
    assert done.counts == {"people_added": 3, "groups_added": 2, "joins": 3}
    found = people(s)
    assert (found["anna"].site, sorted(found["anna"].groups)) == (
        "Quill Harbour",
        ["Crew", "Officers"],
    )
    assert (found["bram"].name, found["bram"].department) == ("Bram عمر", "Deck")
    again = run(s, source)
    assert (again.counts, again.entry_id) == ({}, None)
    shown = s.sources.show(source)
    assert (shown.people, shown.groups, shown.state) == (3, 2, SourceState.FRESH)


def test_renamed_moved_deleted_and_back(s: Sortitor, directory: Directory) -> None:
    """A person keeps being the same whatever they are called and wherever they stand."""
    source = add(s, directory)
    run(s, source)
    before = people(s)
    with as_root(directory) as line:
        line.modify_dn(ANNA, "uid=anna.zee")
        line.modify(f"uid=anna.zee,ou=people,{BASE}", {"cn": [(MODIFY_REPLACE, ["Anna Zee-Kade"])]})
        line.add(f"ou=ashore,ou=people,{BASE}", ["organizationalUnit"])
        line.modify_dn(BRAM, "uid=bram", new_superior=f"ou=ashore,ou=people,{BASE}")
        line.delete(CEES)
    # Changes alone do not tell who was deleted.
    done = run(s, source, whole=False)
    assert done.counts == {"people_changed": 1}
    found = people(s)
    assert found["anna.zee"].id == before["anna"].id
    assert sorted(found["anna.zee"].groups) == ["Crew", "Officers"]
    assert found["bram"].groups == ["Crew"]
    assert found["cees"].left_at is None
    done = run(s, source)
    assert done.counts == {"people_left": 1}
    assert people(s)["cees"].left_at is not None
    with as_root(directory) as line:
        place, attributes = person("cees", "Cees Kade")
        line.add(place, attributes=dict(attributes))
    # Another entry of the same name is the same person.
    assert run(s, source, whole=False).counts == {"people_back": 1}
    assert people(s)["cees"].id == before["cees"].id


def test_a_run_is_taken_back(s: Sortitor, directory: Directory) -> None:
    """Whom it added goes, whom it changed is as before, who has a device since stays."""
    source = add(s, directory)
    run(s, source)
    with as_root(directory) as line:
        line.modify(BRAM, {"cn": [(MODIFY_REPLACE, ["Bram Omar"])]})
        line.modify(OFFICERS, {"member": [(MODIFY_REPLACE, [CEES])]})
        line.add(*_as_added(person("dirk", "Dirk Ames")))
    done = run(s, source)
    assert done.counts == {"people_added": 1, "people_changed": 1, "joins": 1, "leaves": 1}
    assert done.entry_id is not None
    preview = s.journal.preview_revert(done.entry_id)
    assert {c.key: c.count for c in preview.counts} == {
        "removed": 1,
        "restored": 1,
        "memberships": 2,
        "left": 0,
    }
    s.journal.revert(done.entry_id, preview.digest)
    found = people(s)
    assert sorted(found) == ["anna", "bram", "cees"]
    assert found["bram"].name == "Bram عمر"
    assert sorted(found["anna"].groups) == ["Crew", "Officers"]
    assert found["cees"].groups == []


def _as_added(entry: tuple[str, Any]) -> tuple[str, None, dict[str, Any]]:
    return entry[0], None, dict(entry[1])


def test_what_was_set_by_hand_stays(s: Sortitor, directory: Directory) -> None:
    """Somebody noted a leaver: the directory does not bring them back, and the run says so."""
    source = add(s, directory)
    run(s, source)
    s.people.set_left("anna", True)
    done = run(s, source)
    assert people(s)["anna"].left_at is not None
    assert [(remark.code, remark.count) for remark in done.remarks] == [("kept_by_hand", 1)]
    s.people.set_left("anna", False)
    assert run(s, source).remarks == []


def test_a_brake_stops_and_asks(s: Sortitor, directory: Directory) -> None:
    """A run that would drop many changes nothing until somebody lets it."""
    source = add(s, directory)
    run(s, source)
    with as_root(directory) as line:
        for place in (ANNA, BRAM, CEES):
            line.delete(place)
    done = run(s, source)
    assert done.state is RunState.BRAKED
    assert all(person.left_at is None for person in s.people.list())
    assert s.sources.show(source).state is SourceState.FAILING
    done = run(s, source, unbraked=True)
    assert done.counts["people_left"] == 3
    assert all(person.left_at is not None for person in s.people.list())


def refused_with(s: Sortitor, source: str) -> str:
    with pytest.raises(Refused) as refused:
        run(s, source)
    assert "_ssl" not in refused.value.problem.detail, "the reason, not how a library says it"
    return str(refused.value.problem.code)


def test_what_keeps_a_directory_shut(s: Sortitor, directory: Directory) -> None:
    """A certificate nobody vouches for, a name that is not on it, wrong and empty passwords, no
    such branch.
    """
    source = add(s, directory)
    right = s.sources.show(source)

    def with_(**changed: Any) -> str:
        document = Source(**{name: getattr(right, name) for name in Source.model_fields})
        s.sources.edit(right.id, document.model_copy(update=changed), revision=None)
        if "password" not in changed:
            s.sources.give(right.id, PASSWORD)
        return refused_with(s, source)

    assert with_(authority=None) == "certificate_refused"
    assert with_(address=directory.address.replace("localhost", "127.0.0.1")) == (
        "certificate_refused"
    )
    assert with_(branches=("ou=nowhere,dc=wrenmoor,dc=example",)) == "no_such_branch"
    s.sources.edit(right.id, Source(**{name: getattr(right, name) for name in Source.model_fields}))
    s.sources.give(right.id, "wrong")
    assert refused_with(s, source) == "wrong_password"
    s.sources.forget(right.id, SecretKind.PASSWORD)
    assert refused_with(s, source) == "no_password"
    assert s.sources.show(source).state is SourceState.FAILING
    # Nothing of a password is told to whoever helps.
    s.sources.give(right.id, PASSWORD)
    assert PASSWORD not in s.sources.diagnosis(source)


def test_starttls_reads_the_same(s: Sortitor, directory: Directory) -> None:
    """TLS may begin on a plain connection; without it the preview warns."""
    source = add(s, directory, address=directory.plain_address)
    assert run(s, source).counts["people_added"] == 3
    plain = Source(
        name="Plain",
        kind=SourceKind.DIRECTORY,
        address=directory.plain_address,
        starttls=False,
        branches=(BASE,),
    )
    assert "encrypted" in s.sources.preview_add(plain).warnings[0]


def test_a_limit_of_the_server_gives_no_half_roster(s: Sortitor, tmp_path: Path) -> None:
    """With paging a limit for each search does not matter; a hard limit is told."""
    entries = [*stand_in.top(), *(person(f"p{n}", f"P {n}") for n in range(1_200))]
    folder = tmp_path / "slapd"
    soft = "size.soft=500 size.hard=500 size.prtotal=unlimited"
    with stand_in.running(folder, ldif_of(entries), soft) as directory:
        reader = person("reader", "Reader", userPassword="reading")
        with as_root(directory) as line:
            line.add(*_as_added(reader))
        source = add(s, directory, bind_name=reader[0])
        s.sources.give(source, "reading")
        assert run(s, source).counts == {"people_added": 1_201}
    hard = "size.soft=500 size.hard=500 size.prtotal=500"
    with stand_in.running(tmp_path / "hard", ldif_of([*entries, reader]), hard) as directory:
        other = add(s, directory, name="Limited", bind_name=reader[0])
        s.sources.give(other, "reading")
        assert refused_with(s, other) == "cut_off"


def test_a_look_at_real_entries_while_mapping(s: Sortitor, directory: Directory) -> None:
    """Three entries as the directory gives them, and what no entry has; no password among it."""
    source = add(s, directory)
    shown = s.sources.show(source)
    document = Source(**{name: getattr(shown, name) for name in Source.model_fields})
    looked = s.sources.sample(
        source, document.model_copy(update={"attributes": ("department=roomNumber",)})
    )
    assert len(looked.entries) == 3
    assert any("roomNumber" in words for words in looked.words)
    assert not any("userPassword" in entry for entry in looked.entries)
    mapped = document.model_copy(update={"attributes": ("site=departmentNumber",)})
    preview = s.sources.preview_scope(source, mapped)
    assert preview.counts[0].count == 3


def machine(name: str, serial: str, owner: str | None, site: str) -> tuple[str, dict[str, Any]]:
    """A device as the standard's own class has it (RFC 4519)."""
    entry = {"objectClass": ["top", "device"], "cn": name, "serialNumber": serial, "l": site}
    return f"cn={name},ou=machines,{BASE}", {**entry, **({"owner": owner} if owner else {})}


def test_devices_of_a_directory_are_a_roster(s: Sortitor, tmp_path: Path) -> None:
    """Found by serial number, with their owners by user name; they are compared with the fleet."""
    known = manifest(tmp_path, ["serial,site", "KM-10001,Quill", "KM-10002,Quill"])
    import_lot(s, known, ownership="corporate")
    machines = [
        (f"ou=machines,{BASE}", {"objectClass": ["top", "organizationalUnit"], "ou": "machines"}),
        machine("DECK-1", "KM-10001", ANNA, "Tarn"),
        machine("DECK-2", "KM-77777", None, "Quill"),
        machine("DECK-3", "TBC", None, "Quill"),
    ]
    with stand_in.running(tmp_path / "slapd", ldif_of([*ENTRIES, *machines])) as directory:
        branches = (f"ou=people,{BASE}", f"ou=machines,{BASE}")
        source = add(
            s,
            directory,
            branches=branches,
            devices_filter="(objectClass=device)",
            covers='stage ne "retired"',
        )
        done = run(s, source)
        assert done.counts["devices_added"] == 3
        assert [remark.count for remark in done.remarks if remark.code == "unreadable"] == [1]
        lines = {line.name: line for line in s.sources.devices(source)}
        assert (lines["DECK-1"].person, lines["DECK-1"].site) == ("anna", "Tarn")
        s.levels.compare()
        found = {(gap.kind.value, gap.field) for gap in s.levels.list()}
        assert found >= {("absent", None), ("unknown", None), ("differs", "person")}
        assert run(s, source).counts == {}


@pytest.mark.slow
def test_five_thousand_people_in_nested_groups(s: Sortitor, tmp_path: Path) -> None:
    """A directory of a real size in one run, and nothing in the next."""
    people_in = [person(f"p{n}", f"Person {n}") for n in range(5_000)]
    groups = [
        group(
            f"G{n}",
            [p[0] for p in people_in[n::300]]
            + ([f"cn=G{n + 1},ou=groups,{BASE}"] if n < 299 else []),
        )
        for n in range(300)
    ]
    ldif = ldif_of([*stand_in.top(), *people_in, *groups])
    with stand_in.running(tmp_path / "slapd", ldif) as directory:
        source = add(s, directory)
        done = run(s, source)
        assert (done.counts["people_added"], done.counts["groups_added"]) == (5_000, 300)
        assert done.counts["joins"] == 5_000 + 299
        # The outermost group holds everybody through the others.
        sizes = {group.name: group.people for group in s.groups.list()}
        assert (sizes["G0"], sizes["G299"]) == (5_000, 16)
        assert run(s, source).counts == {}


def test_what_another_server_holds_is_told(s: Sortitor, tmp_path: Path) -> None:
    harbour = f"ou=harbour,{BASE}"
    there = f"ldap://other.wrenmoor.example/{harbour}"
    referral = (
        harbour,
        {"objectClass": ["referral", "extensibleObject"], "ou": ["harbour"], "ref": [there]},
    )
    with stand_in.running(tmp_path / "slapd", ldif_of([*ENTRIES, referral])) as directory:
        told = run(s, add(s, directory, branches=(BASE,)))
    assert told.counts["people_added"] == 3
    (remark,) = [remark for remark in told.remarks if remark.code == "elsewhere"]
    assert (remark.count, harbour in remark.examples[0]) == (1, True)
