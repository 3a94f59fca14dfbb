"""People and groups pushed by an identity provider: a client library that speaks the standard, and
the standard's own examples.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from httpx2 import Client
from scim2_client.engines.httpx2 import SyncSCIMClient
from scim2_models import Group, GroupMember, PatchOp, PatchOperation, SearchRequest
from tests.worlds import World, import_lot, import_people, manifest

from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Purpose, Role
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.scim import ScimUser

USER, GROUP, ENTERPRISE = (
    "urn:ietf:params:scim:schemas:core:2.0:User",
    "urn:ietf:params:scim:schemas:core:2.0:Group",
    "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
)
PATCH, BULK, ERROR = (
    "urn:ietf:params:scim:api:messages:2.0:PatchOp",
    "urn:ietf:params:scim:api:messages:2.0:BulkRequest",
    "urn:ietf:params:scim:api:messages:2.0:Error",
)
#: The enterprise user of RFC 7643 §8.3, shortened, with made-up addresses.
BARBARA: dict[str, Any] = {
    "schemas": [USER, ENTERPRISE],
    "externalId": "701984",
    "userName": "bjensen@example.com",
    "name": {
        "formatted": "Ms. Barbara J Jensen, III",
        "familyName": "Jensen",
        "givenName": "Barbara",
        "middleName": "Jane",
        "honorificPrefix": "Ms.",
        "honorificSuffix": "III",
    },
    "displayName": "Babs Jensen",
    "nickName": "Babs",
    "emails": [
        {"value": "bjensen@example.com", "type": "work", "primary": True},
        {"value": "babs@jensen.example", "type": "home"},
    ],
    "addresses": [
        {
            "streetAddress": "100 Universal City Plaza",
            "locality": "Hollywood",
            "region": "CA",
            "postalCode": "91608",
            "country": "US",
            "type": "work",
        }
    ],
    "userType": "Employee",
    "title": "Tour Guide",
    "active": True,
    "password": "t1meMa$heen",
    ENTERPRISE: {"employeeNumber": "701984", "costCenter": "4130", "department": "Tour Operations"},
}


@pytest.fixture
def secret(world: World) -> str:
    return (
        world.in_person()
        .accounts.add_token("directory", Role.COORDINATOR, 30, Purpose.PEOPLE)
        .secret
    )


@pytest.fixture
def http(world: World, secret: str) -> Iterator[httpx.Client]:
    with httpx.Client(
        base_url=f"{world.url}/scim/v2",
        headers={"Authorization": f"Bearer {secret}", "Content-Type": "application/scim+json"},
        timeout=60,
    ) as client:
        yield client


def add(http: httpx.Client, place: str, **document: Any) -> dict[str, Any]:
    answer = http.post(
        f"/{place}", json={"schemas": [USER if place == "Users" else GROUP], **document}
    )
    assert answer.status_code == 201, answer.text
    return dict(answer.json())


def patch(
    http: httpx.Client, address: str, *operations: dict[str, Any], **headers: str
) -> httpx.Response:
    return http.patch(
        address, json={"schemas": [PATCH], "Operations": list(operations)}, headers=headers
    )


def test_a_client_library_manages_users_and_groups(world: World, secret: str) -> None:
    with Client(
        base_url=f"{world.url}/scim/v2", headers={"Authorization": f"Bearer {secret}"}
    ) as transport:
        client = SyncSCIMClient(transport)
        client.discover()
        User = client.provider.model_for("User")
        made = client.create(User(user_name="maud", display_name="Maud Fenwick"))
        assert made.id
        assert made.meta.version
        odo = client.create(
            User(user_name="odo", name={"given_name": "Odo", "family_name": "Gannet"})
        )
        crew = client.create(Group(display_name="Crew", members=[GroupMember(value=made.id)]))
        read = client.query(User, made.id)
        assert [group.display for group in read.groups] == ["Crew"]
        read.title = "Bosun"
        assert client.replace(read).title == "Bosun"
        change = PatchOp[Group](
            operations=[PatchOperation(op="add", path="members", value=[GroupMember(value=odo.id)])]
        )
        assert client.modify(Group, crew.id, change) is None, "nobody is sent the whole group"
        assert {member.value for member in client.query(Group, crew.id).members} == {
            made.id,
            odo.id,
        }
        found = client.query(User, query_parameters=SearchRequest(filter='userName eq "ODO"'))
        assert [user.id for user in found.resources] == [odo.id]
        client.delete(User, made.id)
        assert client.query(User).total_results == 1
    people = {person.user_name: person for person in world.client().people.list()}
    assert people["odo"].groups == ["Crew"]
    assert people["maud"].left_at is not None, "who leaves is kept as left"


def test_the_standards_enterprise_user_comes_back_whole(http: httpx.Client, world: World) -> None:
    answer = http.post("/Users", json=BARBARA)
    assert answer.status_code == 201, answer.text
    assert answer.headers["content-type"] == "application/scim+json"
    made = answer.json()
    assert (
        answer.headers["location"]
        == made["meta"]["location"]
        == f"{world.url}/scim/v2/Users/{made['id']}"
    )
    assert made["meta"]["resourceType"] == "User"
    assert {name: value for name, value in made.items() if name not in ("id", "meta")} == {
        name: value for name, value in BARBARA.items() if name != "password"
    }
    read = http.get(f"/Users/{made['id']}")
    assert read.json() == made
    assert (
        http.get(
            f"/Users/{made['id']}", headers={"If-None-Match": read.headers["etag"]}
        ).status_code
        == 304
    )
    [person] = world.client().people.list()
    assert (person.user_name, person.name, person.mail, person.department, person.site) == (
        "bjensen@example.com",
        "Babs Jensen",
        "bjensen@example.com",
        "Tour Operations",
        "Hollywood",
    )
    assert "t1meMa" not in str(world.rows("SELECT * FROM people"))
    again = http.post("/Users", json=BARBARA)
    assert (
        again.status_code,
        again.json()["scimType"],
        again.json()["schemas"],
        again.json()["status"],
    ) == (409, "uniqueness", [ERROR], "409")


def test_patches_of_every_kind(http: httpx.Client) -> None:
    user = add(
        http, "Users", **{name: value for name, value in BARBARA.items() if name != "schemas"}
    )
    address = f"/Users/{user['id']}"
    answer = patch(
        http,
        address,
        {"op": "replace", "path": 'emails[type eq "work"].value', "value": "new@example.com"},
        {"op": "add", "value": {"nickName": "B"}},
        {"op": "remove", "path": "title"},
    )
    assert answer.status_code == 200, answer.text
    assert answer.json()["emails"][0]["value"] == "new@example.com"
    assert answer.json()["nickName"] == "B"
    assert "title" not in answer.json()
    tag = answer.headers["etag"]
    assert (
        patch(
            http,
            address,
            {"op": "Replace", "path": f"{ENTERPRISE}:department", "value": "Deck"},
            **{"If-Match": tag},
        ).json()[ENTERPRISE]["department"]
        == "Deck"
    )
    stale = patch(http, address, {"op": "remove", "path": "nickName"}, **{"If-Match": tag})
    assert (stale.status_code, stale.json()["status"]) == (412, "412")
    wrong = patch(http, address, {"op": "replace", "path": "nowhere[", "value": "x"})
    assert (wrong.status_code, wrong.json()["scimType"]) == (400, "invalidPath")
    assert (
        patch(http, address, {"op": "replace", "path": "id", "value": "x"}).json()["scimType"]
        == "mutability"
    )
    unchanged = http.get(address)
    assert (
        patch(http, address, {"op": "add", "path": "nickName", "value": "B"}).headers["etag"]
        == unchanged.headers["etag"]
    ), "nothing new, nothing written"


def test_filter_sort_and_both_kinds_of_pages(http: httpx.Client) -> None:
    for number in range(7):
        add(
            http,
            "Users",
            userName=f"user{number}",
            displayName=f"Person {9 - number}",
            externalId=f"E{number}",
            active=number != 3,
            emails=[{"value": f"u{number}@example.com", "type": "work"}],
        )

    def names(**asked: Any) -> list[str]:
        answer = http.get("/Users", params=asked)
        assert answer.status_code == 200, answer.text
        return [user["userName"] for user in answer.json().get("Resources", [])]

    assert names(filter='externalId eq "E4"') == ["user4"]
    assert names(filter='emails[type eq "work" and value sw "u2"]') == ["user2"]
    assert names(filter='not (active eq true) or userName ge "USER5"') == [
        "user3",
        "user5",
        "user6",
    ]
    assert names(sortBy="displayName") == [f"user{number}" for number in reversed(range(7))]
    assert names(sortBy="userName", sortOrder="descending", count=2) == ["user6", "user5"]
    assert names(startIndex=3, count=2) == ["user2", "user3"]
    page = http.get("/Users", params={"startIndex": 3, "count": 2}).json()
    assert (page["totalResults"], page["startIndex"], page["itemsPerPage"]) == (7, 3, 2)
    assert http.get("/Users", params={"count": 0}).json()["totalResults"] == 7
    seen, cursor = [], ""
    while cursor is not None:
        page = http.get("/Users?cursor" + (f"={cursor}" if cursor else "") + "&count=3").json()
        seen += [user["userName"] for user in page["Resources"]]
        cursor = page.get("nextCursor")
    assert seen == [f"user{number}" for number in range(7)]
    searched = http.post(
        "/Users/.search",
        json={
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],
            "filter": 'userName eq "user1"',
            "attributes": ["displayName"],
        },
    ).json()
    assert [set(user) - {"schemas", "meta"} for user in searched["Resources"]] == [
        {"id", "displayName"}
    ]
    for asked, kind in (
        ({"filter": "userName eq"}, "invalidFilter"),
        ({"cursor": "§"}, "invalidCursor"),
    ):
        answer = http.get("/Users", params=asked)
        assert (answer.status_code, answer.json()["scimType"]) == (400, kind)


def test_numbers_without_end_are_no_faults(http: httpx.Client) -> None:
    address = f"/Users/{add(http, 'Users', userName='maud')['id']}"
    many, endless = str(10**30), "9" * 5_000
    for number in (many, endless):
        cursor = base64.urlsafe_b64encode(number.encode()).decode()
        stale = patch(
            http, address, {"op": "remove", "path": "title"}, **{"If-Match": f'"{number}"'}
        )
        told = {
            "cursor": http.get("/Users", params={"cursor": cursor}).status_code,
            "start": http.get("/Users", params={"startIndex": number}).status_code,
            "count": http.get("/Users", params={"count": number}).status_code,
            "user": http.get(f"/Users/u{number}").status_code,
            "group": http.get(f"/Groups/g{number}").status_code,
            "tag": stale.status_code,
        }
        assert told == {
            "cursor": 400,
            "start": 400,
            "count": 200 if number == many else 400,
            "user": 404,
            "group": 404,
            "tag": 412,
        }


@pytest.mark.parametrize("data", ["[]", "[[[]]]", "7", "[7]", '"x"', '{"userName": 7}', "{}"])
def test_what_is_no_resource_in_many_changes_is_refused(http: httpx.Client, data: str) -> None:
    change = f'{{"method": "POST", "path": "/Users", "bulkId": "q", "data": {data}}}'
    answer = http.post("/Bulk", content=f'{{"schemas": ["{BULK}"], "Operations": [{change}]}}')
    assert [one["status"] for one in answer.json()["Operations"]] == ["400"], answer.text


def test_groups_in_groups_settle_people_and_cohorts(
    http: httpx.Client, world: World, tmp_path: Any
) -> None:
    s = world.client()
    maud, odo = (add(http, "Users", userName=name)["id"] for name in ("maud", "odo"))
    import_lot(s, manifest(tmp_path, ["serial,person", "KM-1,maud", "KM-2,odo", "KM-3,"]))
    cohort = s.cohorts.add(Cohort(name="Ship", filter='person.groups eq "Ship"'))
    deck = add(http, "Groups", displayName="Deck", members=[{"value": maud}])
    ship = add(http, "Groups", displayName="Ship", members=[{"value": deck["id"]}, {"value": odo}])
    assert {member["type"] for member in ship["members"]} == {"User", "Group"}
    assert {device.serial for device in s.devices.list(cohort=cohort.id)} == {"KM-1", "KM-2"}
    patch(http, f"/Groups/{deck['id']}", {"op": "remove", "path": f'members[value eq "{maud}"]'})
    assert {device.serial for device in s.devices.list(cohort=cohort.id)} == {"KM-2"}
    circle = patch(
        http,
        f"/Groups/{deck['id']}",
        {"op": "add", "path": "members", "value": [{"value": ship["id"]}]},
    )
    assert circle.status_code == 204, "groups that hold each other have the same people"
    assert "holds itself through another group" in next(s.journal.list(most=1)).summary
    assert {person.user_name: sorted(person.groups) for person in s.people.list()} == {
        "maud": [],
        "odo": ["Deck", "Ship"],
    }
    patch(
        http, f"/Groups/{ship['id']}", {"op": "replace", "path": "displayName", "value": "Vessel"}
    )
    assert s.cohorts.show(cohort.id).devices == 0, "the name is what the filter speaks of"
    assert http.delete(f"/Groups/{ship['id']}").status_code == 204
    assert {person.user_name: person.groups for person in s.people.list()} == {
        "maud": [],
        "odo": [],
    }
    unknown = http.post(
        "/Groups", json={"schemas": [GROUP], "displayName": "X", "members": [{"value": "u999999"}]}
    )
    assert (unknown.status_code, unknown.json()["scimType"]) == (400, "invalidValue")


def test_who_leaves_is_kept_and_comes_back_as_the_same(
    http: httpx.Client, world: World, tmp_path: Any
) -> None:
    s = world.client()
    user = add(http, "Users", userName="maud", displayName="Maud")
    import_lot(s, manifest(tmp_path, ["serial,person", "KM-1,maud"]))
    world.rows("UPDATE devices SET stage = 'active', enrolled_at = now()")
    patch(http, f"/Users/{user['id']}", {"op": "replace", "value": {"active": False}})
    [person] = s.people.list()
    assert person.left_at is not None
    assert any(item.kind == "leavers" or "left" in item.title for item in s.today.show().items)
    patch(http, f"/Users/{user['id']}", {"op": "replace", "path": "active", "value": True})
    assert next(iter(s.people.list())).left_at is None
    assert http.delete(f"/Users/{user['id']}").status_code == 204
    assert http.get(f"/Users/{user['id']}").status_code == 404
    assert http.get("/Users").json()["totalResults"] == 0
    [person] = s.people.list()
    assert person.left_at is not None
    assert s.people.show(person.id).devices[0].serial == "KM-1"
    assert add(http, "Users", userName="MAUD")["id"] == user["id"]
    assert next(iter(s.people.list())).left_at is None


def test_people_of_a_file_are_taken_over(http: httpx.Client, world: World, tmp_path: Any) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@example.com,Engine,Dunlin,Crew")
    [listed] = http.get("/Users").json()["Resources"]
    assert (listed["userName"], listed["emails"][0]["value"], listed[ENTERPRISE]["department"]) == (
        "maud",
        "maud@example.com",
        "Engine",
    )
    pushed = add(http, "Users", userName="maud", displayName="Maud F.", externalId="7")
    assert pushed["id"] == listed["id"]
    crew = add(
        http, "Groups", displayName="crew", externalId="9", members=[{"value": pushed["id"]}]
    )
    assert [group["display"] for group in http.get(f"/Users/{pushed['id']}").json()["groups"]] == [
        "crew"
    ]
    assert http.get("/Groups").json()["totalResults"] == 1
    assert http.post("/Groups", json={"schemas": [GROUP], "displayName": "Crew"}).status_code == 409
    assert (
        http.get(f"/Groups/{crew['id']}", params={"excludedAttributes": "members"})
        .json()
        .get("members")
        is None
    )


def test_bulk_refers_to_what_it_has_just_made(http: httpx.Client) -> None:
    """The example of RFC 7644 §3.7.2, with an operation that fails."""
    answer = http.post(
        "/Bulk",
        json={
            "schemas": [BULK],
            "Operations": [
                {
                    "method": "POST",
                    "path": "/Users",
                    "bulkId": "qwerty",
                    "data": {"schemas": [USER], "userName": "Alice"},
                },
                {
                    "method": "POST",
                    "path": "/Groups",
                    "bulkId": "ytrewq",
                    "data": {
                        "schemas": [GROUP],
                        "displayName": "Tour Guides",
                        "members": [{"type": "User", "value": "bulkId:qwerty"}],
                    },
                },
                {
                    "method": "POST",
                    "path": "/Users",
                    "bulkId": "twice",
                    "data": {"schemas": [USER], "userName": "alice"},
                },
                {
                    "method": "PATCH",
                    "path": "/Users/bulkId:qwerty",
                    "data": {
                        "schemas": [PATCH],
                        "Operations": [{"op": "add", "path": "title", "value": "Guide"}],
                    },
                },
            ],
        },
    )
    assert answer.status_code == 200, answer.text
    done = answer.json()["Operations"]
    assert [one["status"] for one in done] == ["201", "201", "409", "200"]
    assert done[2]["response"]["scimType"] == "uniqueness"
    group = http.get(done[1]["location"], params={"attributes": "members.display"}).json()
    assert group["members"][0]["display"] == "Alice"
    stopped = http.post(
        "/Bulk",
        json={
            "schemas": [BULK],
            "failOnErrors": 1,
            "Operations": [
                {"method": "DELETE", "path": "/Users/u99999"},
                {"method": "DELETE", "path": f"/Groups/{group['id']}"},
            ],
        },
    ).json()
    assert [one["status"] for one in stopped["Operations"]] == ["404"]
    assert (
        http.post(
            "/Bulk",
            json={
                "schemas": [BULK],
                "Operations": [{"method": "DELETE", "path": "/Users/u1"}] * 1001,
            },
        ).status_code
        == 413
    )


def test_discovery_and_doors(http: httpx.Client, world: World, secret: str) -> None:
    with httpx.Client(base_url=f"{world.url}/scim/v2") as nobody:
        config = nobody.get("/ServiceProviderConfig").json()
        assert config["patch"]["supported"]
        assert config["pagination"]["cursor"]
        assert {one["id"] for one in nobody.get("/Schemas").json()["Resources"]} == {
            USER,
            GROUP,
            ENTERPRISE,
        }
        assert nobody.get(f"/Schemas/{USER}").json()["name"] == "User"
        assert {one["endpoint"] for one in nobody.get("/ResourceTypes").json()["Resources"]} == {
            "/Users",
            "/Groups",
        }
        refused = nobody.get("/Users")
        assert (
            refused.status_code,
            refused.json()["schemas"],
            refused.headers["www-authenticate"],
        ) == (401, [ERROR], "Bearer")
        assert (
            nobody.get(
                "/Users", headers={"Authorization": f"Bearer {world.tokens[Role.ADMINISTRATOR]}"}
            ).status_code
            == 401
        ), "a script's token does not push people"
    assert (
        httpx.get(
            f"{world.url}/api/v1/people", headers={"Authorization": f"Bearer {secret}"}
        ).status_code
        == 401
    ), "a token for people does nothing else"
    assert http.get("/Nothing").json()["status"] == "404"
    assert http.get("/Me").status_code == 501
    for body in (b"{", b"[]", b'{"schemas": ["' + USER.encode() + b'"]}', b'{"userName": 7}'):
        answer = http.post("/Users", content=body)
        assert (answer.status_code, answer.json()["schemas"]) == (400, [ERROR]), answer.text
    with pytest.raises(Refused, match="coordinator"):
        world.in_person().accounts.add_token("weak", Role.VIEWER, 30, Purpose.PEOPLE)
    assert ScimUser.__name__.startswith("User")
