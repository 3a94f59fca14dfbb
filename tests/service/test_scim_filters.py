"""What a filter and an order of SCIM mean (RFC 7644 §3.4.2): the service's answer is the one that
the library works out over every resource.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from random import Random
from typing import Any

import httpx
import pytest
from scim2_models import Context, InvalidFilterException, ScimFilter, SearchRequest
from tests.worlds import World, import_people

from sortitor.core.provisioning import ENTERPRISE
from sortitor.core.vocabulary import Purpose, Role
from sortitor.schemas.scim import ScimGroup, ScimUser

USER, GROUP = (
    "urn:ietf:params:scim:schemas:core:2.0:User",
    "urn:ietf:params:scim:schemas:core:2.0:Group",
)
WORDS = [
    "Maud",
    "maud",
    "MAUD F",
    "Öre",
    "o\u0308re",
    "مود",
    "a",
    "",
    "z%_\\",
    "O'Neil",
    "10",
    "9",
    "\U0001f6a2",
]
MODELS: dict[str, Any] = {"Users": ScimUser, "Groups": ScimGroup}


def a_user(random: Random, number: int) -> dict[str, Any]:
    """A user with any of the attributes missing, empty or several times there."""
    word = lambda: random.choice(WORDS)  # noqa: E731
    maybe: dict[str, Any] = {
        "displayName": word(),
        "title": word(),
        "externalId": random.choice(["E1", "e1", f"E{number}"]),
        "active": random.random() < 0.7,
        "userType": word(),
        "name": {
            name: word()
            for name in ("givenName", "familyName", "formatted")
            if random.random() < 0.6
        },
        "emails": [
            {
                "value": f"{random.choice('abc')}{n}@x.example",
                **({"type": random.choice(["work", "home"])} if random.random() < 0.7 else {}),
                **({"primary": True} if n == 1 else {}),
            }
            for n in range(random.randrange(3))
        ],
        "addresses": [{"type": "work", "locality": word()}],
        "roles": [{"value": word()} for _ in range(random.randrange(3))],
        ENTERPRISE: {
            "department": word(),
            "employeeNumber": str(number),
            "manager": {"value": "u1"},
        },
    }
    return {
        "schemas": [USER, ENTERPRISE],
        "userName": f"{random.choice(['Ab', 'aB', 'ö', 'c'])}{number}",
        **{name: value for name, value in maybe.items() if random.random() < 0.6},
    }


def a_filter(random: Random, place: str, depth: int = 2) -> str:
    if depth and random.random() < 0.4:
        parts = [a_filter(random, place, depth - 1) for _ in range(2)]
        return random.choice(["({}) and ({})", "({}) or ({})", "not ({})"]).format(*parts)
    texts = (
        [
            "userName",
            "displayName",
            "title",
            "externalId",
            "name.familyName",
            "emails.value",
            "emails.type",
            "addresses.locality",
            "roles.value",
            "groups.display",
            "groups.value",
            "groups.type",
            "id",
            "meta.version",
            f"{ENTERPRISE}:department",
            f"{ENTERPRISE}:employeeNumber",
            f"{ENTERPRISE}:manager.value",
            "schemas",
            "meta.location",
        ]
        if place == "Users"
        else [
            "displayName",
            "externalId",
            "members.value",
            "members.display",
            "members",
            "id",
            "members.type",
        ]
    )
    attribute, value = (
        random.choice(texts),
        random.choice(
            [
                *WORDS,
                "e1",
                "Ab1",
                "ö2",
                "u1",
                "u2",
                "g1",
                "U1",
                "u01",
                "u999",
                "u²",
                "work",
                "Crew",
                "User",
                "b0@x.example",
                ENTERPRISE,
                f"{USER}",
            ]
        ),
    )
    quoted = '"' + value.replace("\\", "\\\\") + '"'
    # A list of plain values is compared by equality alone.
    operator = random.choice(
        ["eq", "ne", "co", "sw", "ew"]
        if attribute in ("emails.type", "members.type", "schemas")
        else ["eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"]
    )
    others = [
        f"{attribute} {operator} {quoted}",
        f"{attribute} pr",
        f"{attribute} eq null" if attribute != "schemas" else "schemas pr",
    ]
    if place == "Users":
        others += [
            "active eq true",
            "active ne true",
            "name pr",
            "emails pr",
            "emails.primary eq true",
            f'emails[type eq "work" and value {random.choice(["co", "sw", "ew"])} "b"]',
            "emails[not (primary pr)]",
            f'meta.lastModified {random.choice(["gt", "le", "ne"])} "2026-01-01T00:00:00Z"',
            "groups pr",
            f"{ENTERPRISE}:manager pr",
        ]
    else:
        others += [
            "members pr",
            'members[type eq "Group"]',
            'members[value eq "u2" or display sw "o"]',
        ]
    return random.choice([*others[:1] * 4, *others])


@pytest.fixture
def http(world: World, tmp_path: Any) -> Iterator[httpx.Client]:
    """Forty users, some of them from a file, in groups that hold each other."""
    random = Random(7)
    import_people(
        world.client(),
        tmp_path,
        "FileOne,Öre One,one@x.example,Deck,Maud,",
        "filetwo,Two,,,,",
        "file3,a,3@x.example,,z%_\\,",
    )
    secret = (
        world.in_person()
        .accounts.add_token("directory", Role.COORDINATOR, 30, Purpose.PEOPLE)
        .secret
    )
    with httpx.Client(
        base_url=f"{world.url}/scim/v2",
        headers={"Authorization": f"Bearer {secret}", "Content-Type": "application/scim+json"},
        timeout=60,
    ) as client:

        def add(place: str, document: dict[str, Any]) -> str:
            made = client.post(f"/{place}", json=document)
            assert made.status_code == 201, made.text
            return str(made.json()["id"])

        ids = [add("Users", a_user(random, number)) for number in range(40)]
        inside: list[str] = []
        for name, external in (("Crew", "E1"), ("öre", "e1"), ("maud", None)):
            members = [
                {"value": one} for one in [*random.sample(ids, random.randrange(1, 6)), *inside]
            ]
            inside.append(
                add(
                    "Groups",
                    {
                        "schemas": [GROUP],
                        "displayName": name,
                        "externalId": external,
                        "members": members,
                    },
                )
            )
        add("Groups", {"schemas": [GROUP], "displayName": "Empty"})
        yield client


def pages(http: httpx.Client, place: str, **asked: Any) -> list[dict[str, Any]]:
    """All that is found, by cursor, 17 at a time."""
    found: list[dict[str, Any]] = []
    cursor: str | None = ""
    while cursor is not None:
        answer = http.get(f"/{place}", params={**asked, "count": 17, "cursor": cursor})
        assert answer.status_code == 200, (asked, answer.text)
        found += answer.json().get("Resources", [])
        cursor = answer.json().get("nextCursor")
    assert answer.json()["totalResults"] == len(found)
    return found


@pytest.mark.parametrize("place", ["Users", "Groups"])
def test_the_database_decides_as_the_library_does(http: httpx.Client, place: str) -> None:
    wanted = (
        {"attributes": "members,members.display,displayName,externalId"}
        if place == "Groups"
        else {}
    )
    resources = [
        MODELS[place].model_validate(one, scim_ctx=Context.DEFAULT)
        for one in pages(http, place, **wanted)
    ]
    random, fitting = Random(11), set()
    for _ in range(200):
        text = a_filter(random, place)
        try:
            ScimFilter[MODELS[place]](text)
        except InvalidFilterException:
            assert (
                http.get(f"/{place}", params={"filter": text}).json()["scimType"] == "invalidFilter"
            ), text
            continue
        expected = [one.id for one in resources if ScimFilter[MODELS[place]](text).match(one)]
        assert [one["id"] for one in pages(http, place, filter=text)] == expected, text
        fitting.add(len(expected))
    assert len(fitting) > 3, "filters that tell resources apart"


def test_an_order_is_the_librarys_whichever_way(http: httpx.Client) -> None:
    of_users = (
        "userName",
        "displayName",
        "name.familyName",
        "emails",
        "emails.type",
        "title",
        "active",
        "meta.created",
        "externalId",
        f"{ENTERPRISE}:department",
    )
    for place, attributes in (("Users", of_users), ("Groups", ("displayName", "externalId"))):
        resources = [
            MODELS[place].model_validate(one, scim_ctx=Context.DEFAULT)
            for one in pages(http, place)
        ]
        for attribute, direction in itertools.product(attributes, ("ascending", "descending")):
            expected = SearchRequest[MODELS[place]](sort_by=attribute, sort_order=direction).sort(
                resources
            )
            assert [
                one["id"] for one in pages(http, place, sortBy=attribute, sortOrder=direction)
            ] == [one.id for one in expected], (attribute, direction)
