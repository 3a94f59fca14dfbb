"""People and groups by file: previewed, whole or not at all, the same however often; groups in
groups; who leaves.
"""

from __future__ import annotations

import threading
from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    http,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.api.http.paging import write_cursor
from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.gate import Policy, Quota, Try
from sortitor.schemas.people import Person

HEADER = "user name,name,mail,department,site,groups"


def people_file(tmp_path: Path, *lines: str, header: str = HEADER) -> Path:
    return manifest(tmp_path, [header, *lines], "people.csv")


def counts(s: Sortitor, path: Path, complete: bool = False) -> dict[str, int]:
    return {count.key: count.count for count in s.people.preview_import(path, complete).counts}


def test_a_file_is_previewed_imported_and_then_changes_nothing(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    path = people_file(
        tmp_path,
        "maud,Maud Fenwick,maud@x.example,Deck,Dunlin,Crew; Officers",
        "مود,مود فنويك,,,,Crew",
    )
    shown = s.people.preview_import(path)
    assert {count.key: count.count for count in shown.counts} == {
        "new": 2,
        "changed": 0,
        "unchanged": 0,
        "joins": 3,
        "leaves": 0,
    }
    assert list(s.people.list()) == [], "a preview writes nothing"
    s.people.apply_import(path, shown.digest)
    assert counts(s, path) == {"new": 0, "changed": 0, "unchanged": 2, "joins": 0, "leaves": 0}
    assert {person.user_name: person.groups for person in s.people.list()} == {
        "maud": ["Crew", "Officers"],
        "مود": ["Crew"],
    }
    # The same person and group whatever their case; a blank cell leaves what is known.
    again = people_file(tmp_path, "MAUD,,,Engine,,crew")
    assert counts(s, again) == {"new": 0, "changed": 1, "unchanged": 0, "joins": 0, "leaves": 1}
    s.people.apply_import(again, s.people.preview_import(again).digest)
    [maud] = s.people.list("maud")
    assert (maud.name, maud.mail, maud.department, maud.groups) == (
        "Maud Fenwick",
        "maud@x.example",
        "Engine",
        ["Crew"],
    )


def test_a_file_with_a_fault_imports_nobody_and_says_where(world: World, tmp_path: Path) -> None:
    s = world.client()
    path = people_file(
        tmp_path,
        "maud,Maud,,,,",
        "odo gannet,Odo,,,,",
        "MAUD,Maud,,,,",
        "ivo,Ivo,no mail,,,",
        ",Nobody,,,,",
        "eve,=1+1,,,,",
        f"ann,{'x' * 501},,,,",
    )
    with pytest.raises(Refused) as caught:
        s.people.preview_import(path)
    found = {(problem.pointer, problem.code) for problem in caught.value.problem.errors}
    assert found == {
        ("row 2, user_name", "user_name_twice"),
        ("row 4, user_name", "user_name_twice"),
        ("row 3, user_name", "user_name_form"),
        ("row 5, mail", "mail_form"),
        ("row 6, user_name", "user_name_missing"),
        ("row 7, name", "formula_name"),
        ("row 8, name", "long_name"),
    }
    assert list(s.people.list()) == []
    with pytest.raises(Refused, match="No column holds the user name"):
        s.people.preview_import(people_file(tmp_path, "x,y", header="colour,shape"))


@pytest.mark.parametrize(
    ("header", "line", "encoding"),
    [
        (
            "Login;Full name;E-Mail;Dept;Harbour;Member of",
            "maud;Mäud;m@x.example;Deck;Dunlin;Crew",
            "cp1252",
        ),
        (
            "\ufeffUSER NAME\tNAME\tMAIL\tUNIT\tVESSEL\tGROUP",
            "maud\tMäud\tm@x.example\tDeck\tDunlin\tCrew",
            "utf-8",
        ),
        (HEADER, '"maud","Mäud","m@x.example","Deck","Dunlin","Crew"', "utf-16"),
    ],
)
def test_files_as_other_programs_write_them(
    world: World, tmp_path: Path, header: str, line: str, encoding: str
) -> None:
    s = world.client()
    path = tmp_path / "people.csv"
    path.write_bytes(f"{header}\r\n{line}\r\n".encode(encoding))
    s.people.apply_import(path, s.people.preview_import(path).digest)
    [maud] = s.people.list()
    assert (maud.user_name, maud.name, maud.mail, maud.department, maud.site, maud.groups) == (
        "maud",
        "Mäud",
        "m@x.example",
        "Deck",
        "Dunlin",
        ["Crew"],
    )


def test_a_file_that_names_everybody_says_who_has_left(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud,,,,Crew", "odo,Odo,,,,Crew", "ivo,Ivo,,,,")
    import_lot(s, manifest(tmp_path, ["serial,person", "KM-1,odo"]))
    everybody = people_file(tmp_path, "maud,Maud,,,,Crew")
    assert counts(s, everybody, complete=True)["left"] == 2
    s.people.apply_import(everybody, s.people.preview_import(everybody, True).digest, complete=True)
    assert {person.user_name for person in s.people.list() if person.left_at} == {"odo", "ivo"}
    assert s.devices.count(filter="person.left eq true") == 1, (
        "the device stays theirs until somebody acts"
    )
    assert counts(s, everybody, complete=True)["left"] == 0, "nobody leaves twice"
    import_people(s, tmp_path, "odo,Odo,,,,Crew")
    assert {person.user_name for person in s.people.list() if person.left_at} == {"ivo"}, (
        "whom a file names is back"
    )
    with pytest.raises(FactsMoved):
        s.people.apply_import(everybody, "of another day", complete=True)


def test_groups_in_groups_count_their_people_once_and_decide_at_the_gate(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud,,,,Deck", "odo,Odo,,,,Deck;Engine", "ivo,Ivo,,,,Shore")
    import_people(s, tmp_path, "ann,Ann,,,,Ship", "eve,Eve,,,,Line")
    groups = {group.name: group.id for group in s.groups.list()}
    s.groups.set_inner(groups["Ship"], [groups["Deck"], groups["Engine"]])
    s.groups.set_inner(groups["Line"], [groups["Ship"], groups["Shore"]])

    def people() -> dict[str, tuple[int, int]]:
        return {group.name: (group.people, group.direct) for group in s.groups.list()}

    assert people() == {
        "Deck": (2, 2),
        "Engine": (1, 1),
        "Shore": (1, 1),
        "Ship": (3, 1),
        "Line": (5, 1),
    }
    cohort = s.cohorts.add(Cohort(name="All", filter='person.groups eq "line"'))
    import_lot(s, manifest(tmp_path, ["serial,person", "KM-1,maud", "KM-2,ivo", "KM-3,ann"]))
    assert s.cohorts.show(cohort.id).devices == 3
    policies = [
        Policy(name="The line", groups=["Line"], quota=Quota(devices=7)),
        *s.gate.show().policies,
    ]
    s.gate.apply(policies, s.gate.preview(policies).digest)
    tried = s.gate.attempt(Try(platform="android", os_version="14", person="maud"))
    assert any(step.policy == "The line" for step in tried.trace), "two groups above"
    # A circle has the same people all round, and undoing it gives everybody back what was theirs.
    s.groups.set_inner(groups["Deck"], [groups["Line"]])
    assert {people()[name][0] for name in ("Deck", "Ship", "Line")} == {5}
    s.groups.set_inner(groups["Deck"], [])
    s.groups.set_inner(groups["Line"], [groups["Shore"]])
    assert people() == {
        "Deck": (2, 2),
        "Engine": (1, 1),
        "Shore": (1, 1),
        "Ship": (3, 1),
        "Line": (2, 1),
    }
    assert {device.serial for device in s.devices.list(cohort=cohort.id)} == {"KM-2"}
    with pytest.raises(Refused, match="cannot be in itself"):
        s.groups.set_inner(groups["Deck"], [groups["Deck"]])
    with pytest.raises(Refused, match="group 99999"):
        s.groups.set_inner(groups["Deck"], [99_999])


def test_people_are_found_and_every_page_has_others(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(
        s,
        tmp_path,
        *(
            f"user{n},Person"
            f" {n % 7},{'u' + str(n) + '@x.example' if n % 2 else ''},,,{'Odd' if n % 2 else ''}"
            for n in range(230)
        ),
        "مود,مود فنويك,,,,",
    )
    assert [person.name for person in s.people.list("فنويك")] == ["مود فنويك"]
    assert [person.user_name for person in s.people.list("u21@x.example")] == ["user21"]
    assert len(list(s.people.list(group="odd"))) == 115
    assert list(s.people.list("100%_")) == [], "no wildcard from outside"
    with http(world) as client:
        url: str | None = "/api/v1/people?limit=50"
        seen: list[int] = []
        while url:
            answer = client.get(url)
            seen += [person["id"] for person in answer.json()["items"]]
            url = answer.links.get("next", {}).get("url")
    assert len(seen) == len(set(seen)) == 231


def test_people_are_sorted_by_any_head_page_by_page(world: World, tmp_path: Path) -> None:
    s = world.client()
    rows = [f"user{n},Person {n % 7},,Dep {n % 3 or ''},Site {n % 5}," for n in range(40)]
    import_people(s, tmp_path, *rows)
    for number in range(3):
        s.agent.knock(knocking(a_pass(s, person="user8"), f"P8-{number}"))
    for sort in ("id", "name", "user_name", "department", "site", "holding"):
        for descending in (False, True):
            whole = list(s.people.list(sort=sort, descending=descending))
            keys = [(_key(one, sort), one.id) for one in whole]
            assert keys == sorted(keys, reverse=descending), (sort, descending)
            with http(world) as client:
                asked = {"sort": sort, "descending": descending, "limit": 7}
                seen, url = [], f"/api/v1/people?{httpx.QueryParams(asked)}"
                while url:
                    answer = client.get(url)
                    seen += [one["id"] for one in answer.json()["items"]]
                    url = answer.links.get("next", {}).get("url")
            assert seen == [one.id for one in whole], (sort, descending)
    assert next(s.people.list(sort="holding", descending=True)).user_name == "user8"
    change_baseline(s, quota=2)
    assert [one.user_name for one in s.people.list(over_quota=True)] == ["user8"]
    with http(world) as client:
        first = client.get("/api/v1/people?sort=name&limit=1").json()["next"]
        refused = client.get("/api/v1/people", params={"sort": "holding", "cursor": first})
        assert (refused.status_code, refused.json()["code"]) == (422, "bad_cursor")
        by_hand = (("id", 10**40), ("holding", -(2**63)), ("name", "\0"), ("name", "\ud800"))
        for sort, value in by_hand:
            made = {"sort": sort, "cursor": write_cursor([value, 1])}
            assert client.get("/api/v1/people", params=made).status_code in (200, 422), made


def _key(person: Person, sort: str) -> object:
    value = getattr(person, sort)
    return value if isinstance(value, int) else (value or "").lower()


def test_two_files_at_once_lose_nobody(world: World, tmp_path: Path) -> None:
    """Each names half of the other's people; whoever comes second sees what the first has written,
    or is shown anew.
    """
    failures: list[BaseException] = []

    def importing(first: int) -> None:
        folder = tmp_path / str(first)
        folder.mkdir()
        client = world.client()
        try:
            for turn in range(8):
                path = people_file(
                    folder,
                    *(
                        f"user{n},Person {n} of {first},,,,Team {first};Turn {turn}"
                        for n in range(first, first + 40)
                    ),
                )
                done = False
                while not done:
                    with suppress(FactsMoved):
                        client.people.apply_import(path, client.people.preview_import(path).digest)
                        done = True
        except BaseException as error:  # noqa: BLE001 - told below
            failures.append(error)

    threads = [threading.Thread(target=importing, args=(first,)) for first in (0, 20)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert failures == []
    people = list(world.client().people.list())
    assert len(people) == len({person.user_name for person in people}) == 60
    for person in people:
        number = int(person.user_name[4:])
        of = 0 if number < 20 else 20 if number >= 40 else int(person.name.rsplit(" ", 1)[1])
        assert person.name == f"Person {number} of {of}"
        assert set(person.groups) == {f"Team {of}", "Turn 7"}, "wholly of one file"


def test_groups_in_a_group_are_changed_from_what_was_read(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "a,Ann,,,,Deck", "b,Bo,,,,Shore")
    with http(world) as asked:
        read = asked.get("/api/v1/groups/Deck")
        assert read.json()["groups"] == []

        def put(groups: list[str], **headers: str) -> httpx.Response:
            return asked.put("/api/v1/groups/Deck/groups", json={"groups": groups}, headers=headers)

        assert put(["Shore"]).status_code == 428
        first = {"If-Match": read.headers["etag"]}
        changed = put(["Shore"], **first)
        assert (changed.status_code, changed.json()["groups"]) == (200, ["Shore"])
        refused = put([], **first)
        assert (refused.status_code, refused.json()["code"]) == (412, "stale")
        assert s.groups.show("Deck").groups == ["Shore"]
        assert put([], **{"If-Match": changed.headers["etag"]}).json()["groups"] == []
