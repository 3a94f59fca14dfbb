"""What identity providers truly push, beyond the standard's own examples."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from tests.service.test_scim import ENTERPRISE, GROUP, PATCH, USER, add, patch
from tests.worlds import World

from sortitor.client import Sortitor
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Purpose, Role, SourceKind, SourceState

EXTENSION = "urn:example:params:scim:schemas:extension:badges:2.0:User"


@pytest.fixture
def http(world: World) -> Iterator[httpx.Client]:
    token = world.in_person().accounts.add_token("directory", Role.COORDINATOR, 30, Purpose.PEOPLE)
    with httpx.Client(
        base_url=f"{world.url}/scim/v2",
        headers={
            "Authorization": f"Bearer {token.secret}",
            "Content-Type": "application/scim+json",
        },
        timeout=60,
    ) as client:
        yield client


def shown(http: httpx.Client, address: str) -> dict[str, Any]:
    return dict(http.get(address).json())


def test_the_service_describes_itself_and_nobody_else_does(http: httpx.Client) -> None:
    for path in ("ServiceProviderConfig", "Schemas", "ResourceTypes", f"Schemas/{USER}"):
        for method in ("POST", "PUT", "PATCH", "DELETE"):
            answer = http.request(method, f"/{path}", json={})
            assert (answer.status_code, answer.headers["allow"]) == (405, "GET, HEAD")
        assert http.get(f"/{path}").status_code == 200


def test_what_is_pushed_is_a_source_as_old_as_the_last_push(
    world: World, s: Sortitor, http: httpx.Client
) -> None:
    number = s.sources.add(Source(name="Identity provider", kind=SourceKind.PUSH)).id
    assert s.sources.show(number).state is SourceState.NEVER
    user = add(http, "Users", userName="anna")
    add(http, "Users", userName="bram")
    shown = s.sources.show(number)
    assert (shown.state, shown.people, shown.next_at) == (SourceState.FRESH, 2, None)
    world.later(hours=50)
    assert s.sources.show(number).state is SourceState.LATE
    # A look, a refusal and a change by hand are no push.
    shown_to = http.get(f"/Users/{user['id']}")
    assert http.post("/Users", json={"schemas": [USER]}).status_code == 400
    assert (shown_to.status_code, s.sources.show(number).state) == (200, SourceState.LATE)
    assert http.delete(f"/Users/{user['id']}").status_code == 204
    assert s.sources.show(number).state is SourceState.FRESH
    assert not any(item.kind == "source" for item in s.today.show().items)


def test_everything_is_searched_at_once(http: httpx.Client) -> None:
    users = [add(http, "Users", userName=f"user{n}") for n in range(3)]
    groups = [add(http, "Groups", displayName=f"Group {n}") for n in range(2)]

    def found(**asked: Any) -> tuple[int, list[str]]:
        answer = http.post("/.search", json=asked).json()
        return answer["totalResults"], [one["id"] for one in answer.get("Resources", [])]

    every = [one["id"] for one in (*users, *groups)]
    assert found() == (5, every)
    assert found(startIndex=3, count=2) == (5, every[2:4])
    assert found(startIndex=5, count=2) == (5, every[4:])
    assert found(count=0) == (5, [])
    assert found(startIndex=10**18) == (5, [])
    assert http.post("/.search", json={"startIndex": "x"}).status_code == 400


def test_a_slash_at_the_end_of_an_address(http: httpx.Client) -> None:
    user = add(http, "Users", userName="maud")
    for address in ("/Users/", f"/Users/{user['id']}/", "/ServiceProviderConfig/"):
        assert http.get(address).status_code == 200
    answer = http.post("/Users/", json={"schemas": [USER], "userName": "odo"})
    assert answer.status_code == 201


def test_members_are_removed_by_a_value(http: httpx.Client) -> None:
    users = [add(http, "Users", userName=f"user{n}")["id"] for n in range(4)]
    group = add(http, "Groups", displayName="Crew", members=[{"value": one} for one in users])
    address = f"/Groups/{group['id']}"

    def members() -> set[str]:
        return {one["value"] for one in shown(http, address).get("members", [])}

    gone = {"op": "remove", "path": "members", "value": [{"value": users[0]}]}
    answer = patch(http, address, gone)
    assert (answer.status_code, answer.content) == (204, b"")
    assert answer.headers["etag"] == shown(http, address)["meta"]["version"]
    assert members() == set(users[1:])
    patch(http, address, {"op": "Remove", "path": f'members[value eq "{users[1]}"]'})
    assert members() == set(users[2:])
    patch(http, address, {"op": "Add", "value": {"members": [{"value": users[0], "display": "x"}]}})
    assert members() == {users[0], *users[2:]}
    assert patch(http, address, {"op": "remove", "path": "members"}).status_code == 200
    assert members() == set()
    nobody = {"op": "remove", "path": "members", "value": [{"value": "u999999"}]}
    assert patch(http, address, nobody).status_code == 204
    stranger = {"op": "add", "path": "members", "value": [{"value": "u999999"}]}
    assert patch(http, address, stranger).status_code == 400
    own = {"op": "add", "path": "members", "value": [{"value": group["id"]}]}
    assert "member of itself" in patch(http, address, own).json()["detail"]


def test_an_address_at_work_where_none_is(http: httpx.Client) -> None:
    user = add(http, "Users", userName="maud")
    address = f"/Users/{user['id']}"
    answer = patch(
        http,
        address,
        {"op": "Add", "path": 'emails[type eq "work"].value', "value": "maud@x.example"},
        {"op": "replace", "path": 'phoneNumbers[type eq "mobile"].value', "value": "+49 1"},
        {"op": "add", "path": 'roles[primary eq "True"].value', "value": "captain"},
        {"op": "add", "path": 'addresses[type eq "work"].locality', "value": "Nordhafen"},
    )
    assert answer.status_code == 200, answer.text
    found = answer.json()
    assert found["emails"] == [{"type": "work", "value": "maud@x.example"}]
    assert found["phoneNumbers"][0] == {"type": "mobile", "value": "+49 1"}
    assert found["roles"][0]["value"] == "captain"
    assert found["addresses"][0]["locality"] == "Nordhafen"
    again = patch(
        http,
        address,
        {"op": "replace", "path": 'emails[type eq "work"].value', "value": "m@x.example"},
    )
    assert again.json()["emails"] == [{"type": "work", "value": "m@x.example"}]


def test_active_that_is_not_said_changes_nothing(http: httpx.Client, world: World) -> None:
    user = add(http, "Users", userName="maud")
    assert user["active"] is True
    address = f"/Users/{user['id']}"
    assert (
        patch(http, address, {"op": "Replace", "path": "active", "value": "False"}).json()["active"]
        is False
    )
    replaced = http.put(address, json={"schemas": [USER], "userName": "maud", "title": "Bosun"})
    assert replaced.json()["active"] is False, "left out"
    removed = patch(http, address, {"op": "remove", "path": "active"})
    assert "active" not in removed.json()
    [person] = world.client().people.list()
    assert person.left_at is not None, "removed, and still not active"
    back = patch(http, address, {"op": "add", "value": {"active": "True"}})
    assert back.json()["active"] is True
    [person] = world.client().people.list()
    assert person.left_at is None


def test_what_nobody_knows_does_not_refuse_a_user(http: httpx.Client) -> None:
    answer = http.post(
        "/Users",
        json={
            "schemas": [USER, ENTERPRISE, EXTENSION],
            "userName": "maud",
            "favouriteColour": "teal",
            "emails": [{"value": "maud@x.example", "verified": True}],
            EXTENSION: {"badge": 7},
            ENTERPRISE: {"department": "Deck", "manager": "26118915", "shoeSize": 42},
        },
    )
    assert answer.status_code == 201, answer.text
    found = answer.json()
    assert found[ENTERPRISE] == {"department": "Deck", "manager": {"value": "26118915"}}
    address = f"/Users/{found['id']}"
    changed = patch(
        http,
        address,
        {"op": "add", "path": "favouriteColour", "value": "red"},
        {"op": "add", "path": f"{EXTENSION}:badge", "value": 8},
        {"op": "add", "value": {"title": "Bosun", "mood": "good", "name.givenName": "Maud"}},
        {"op": "add", "path": f"{ENTERPRISE}:manager", "value": "u7"},
    )
    assert changed.status_code == 200, changed.text
    assert (changed.json()["title"], changed.json()["name"]["givenName"]) == ("Bosun", "Maud")
    assert changed.json()[ENTERPRISE]["manager"] == {"value": "u7"}
    nothing = patch(http, address, {"op": "add", "path": "favouriteColour", "value": "red"})
    assert nothing.status_code == 200


@pytest.mark.parametrize(
    ("place", "document"),
    [
        ("Users", {"schemas": [USER], "userName": "  "}),
        ("Users", {"schemas": [USER], "userName": ""}),
        ("Groups", {"schemas": [GROUP], "displayName": "\t"}),
    ],
)
def test_a_blank_name_is_refused(http: httpx.Client, place: str, document: dict[str, Any]) -> None:
    answer = http.post(f"/{place}", json=document)
    assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidValue")
    assert "blank" in answer.json()["detail"]


def test_a_name_is_not_made_blank(http: httpx.Client) -> None:
    user = add(http, "Users", userName="maud")
    blank = {"op": "replace", "path": "userName", "value": " "}
    assert patch(http, f"/Users/{user['id']}", blank).status_code == 400
    group = add(http, "Groups", displayName="Crew")
    blank = {"op": "replace", "value": {"displayName": ""}}
    assert patch(http, f"/Groups/{group['id']}", blank).status_code == 400


@pytest.mark.parametrize(
    "document",
    [
        {"schemas": [USER]},
        {"schemas": [USER], "userName": 7},
        {"schemas": [USER], "userName": "a", "emails": "x", "active": "perhaps"},
        {"schemas": [USER], "userName": "a", "name": ["x"]},
        {"schemas": [USER], "userName": "a", "meta": {"created": "yesterday"}},
        {"schemas": "x", "userName": "a"},
    ],
)
def test_a_refusal_is_in_our_own_words(http: httpx.Client, document: dict[str, Any]) -> None:
    answer = http.post("/Users", json=document)
    said = answer.text.lower()
    assert answer.status_code in (201, 400)
    for word in ("pydantic", "http://", "https://errors", "input should", "validation error"):
        assert word not in said or answer.status_code == 201


@pytest.mark.slow
def test_a_big_group_is_filled_in_batches_without_being_sent_back(
    http: httpx.Client, world: World
) -> None:
    ids = []
    for first in range(0, 2_000, 500):
        operations = [
            {
                "method": "POST",
                "path": "/Users",
                "bulkId": f"b{n}",
                "data": {"schemas": [USER], "userName": f"user{n}"},
            }
            for n in range(first, first + 500)
        ]
        answer = http.post(
            "/Bulk",
            json={
                "schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],
                "Operations": operations,
            },
        )
        ids += [one["location"].rsplit("/", 1)[1] for one in answer.json()["Operations"]]
    group = add(http, "Groups", displayName="Everybody")
    address = f"/Groups/{group['id']}"
    sent = 0
    for first in range(0, 2_000, 100):
        members = [{"value": one} for one in ids[first : first + 100]]
        answer = patch(http, address, {"op": "add", "path": "members", "value": members})
        assert answer.status_code == 204
        sent += len(answer.content)
    assert sent == 0
    assert len(shown(http, address)["members"]) == 2_000
    without = http.get(address, params={"excludedAttributes": "members"})
    assert "members" not in without.json()
    assert len(without.content) < 1_000


def test_half_of_a_patch_is_none(http: httpx.Client) -> None:
    user = add(http, "Users", userName="maud")
    for body in (
        {"schemas": [PATCH]},
        {"schemas": [PATCH], "Operations": [{"op": "add"}]},
        {"schemas": [PATCH], "Operations": [{"op": "jump", "path": "title", "value": "x"}]},
        {"schemas": [PATCH], "Operations": "add"},
    ):
        answer = http.patch(f"/Users/{user['id']}", json=body)
        assert answer.status_code == 400, body
