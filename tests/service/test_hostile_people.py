"""What an identity provider, or whoever has its token, may send: refused in the standard's own
words, kept whole, or not at all; never a failure.
"""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from tests.worlds import PASSWORD, World

from sortitor.client import Sortitor
from sortitor.core.provisioning import ENTERPRISE
from sortitor.core.vocabulary import Purpose, Role

USER, GROUP = (
    "urn:ietf:params:scim:schemas:core:2.0:User",
    "urn:ietf:params:scim:schemas:core:2.0:Group",
)
ERROR, BULK, PATCH = (
    f"urn:ietf:params:scim:api:messages:2.0:{name}" for name in ("Error", "BulkRequest", "PatchOp")
)
#: Texts that have broken somebody's software before.
TEXTS = [
    "a\u0000b",
    "\u0000",
    "x" * 100_000,
    "\ud800",
    "\u202egnp.exe",
    "'; DROP TABLE people; --",
    "%s %(x)s {} \\",
    "\r\nSet-Cookie: a=b",
    "\ufffe\U0001f6a2",
    " ",
    "null",
    '"',
    "\x1b[31m",
]
VALUES: list[Any] = [
    None,
    0,
    -1,
    1e308,
    True,
    [],
    {},
    [[]],
    [{}],
    {"value": {"value": {}}},
    "",
    *TEXTS,
]


@pytest.fixture
def http(world: World) -> Iterator[httpx.Client]:
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
        yield client


def send(http: httpx.Client, method: str, path: str, body: Any) -> httpx.Response:
    """Sent as it is, lone halves of pairs escaped."""
    return http.request(method, path, content=json.dumps(body).encode())


def checked(answer: httpx.Response) -> httpx.Response:
    """Done, or refused as RFC 7644 §3.12 has it."""
    assert answer.status_code < 500, answer.text[:600]
    if answer.status_code >= 400:
        problem = answer.json()
        assert problem["schemas"] == [ERROR]
        assert problem["status"] == str(answer.status_code)
        assert problem["detail"]
    return answer


def test_any_value_of_any_attribute_is_kept_whole_or_refused(http: httpx.Client) -> None:
    number = 0
    for attribute in (
        "userName",
        "displayName",
        "name",
        "emails",
        "active",
        "externalId",
        "addresses",
        "groups",
        "meta",
        "id",
        "schemas",
        ENTERPRISE,
        "unknown",
    ):
        for value in VALUES:
            number += 1
            answer = checked(
                send(
                    http,
                    "POST",
                    "/Users",
                    {"schemas": [USER, ENTERPRISE], "userName": f"user{number}", attribute: value},
                )
            )
            if answer.status_code == 201:
                made = answer.json()
                assert checked(http.get(f"/Users/{made['id']}")).json() == made
                if attribute in ("displayName", "externalId") and isinstance(value, str) and value:
                    assert made.get(attribute) == value
    listed = checked(http.get("/Users", params={"count": 1000})).json()
    assert len(listed["Resources"]) == listed["totalResults"]


def test_groups_and_patches_of_nonsense(http: httpx.Client, world: World) -> None:
    user = send(
        http, "POST", "/Users", {"schemas": [USER], "userName": "maud", "displayName": "Maud"}
    ).json()
    group = send(
        http,
        "POST",
        "/Groups",
        {"schemas": [GROUP], "displayName": "Crew", "members": [{"value": user["id"]}]},
    ).json()
    for value in VALUES:
        checked(send(http, "POST", "/Groups", {"schemas": [GROUP], "displayName": value}))
        checked(
            send(
                http,
                "POST",
                "/Groups",
                {"schemas": [GROUP], "displayName": "Other", "members": value},
            )
        )
        checked(
            send(
                http,
                "POST",
                "/Groups",
                {"schemas": [GROUP], "displayName": "Other", "members": [{"value": value}]},
            )
        )
        for path in (
            "displayName",
            "name.givenName",
            'emails[type eq "work"].value',
            "active",
            "members",
            "",
            value,
        ):
            checked(
                send(
                    http,
                    "PATCH",
                    f"/Users/{user['id']}",
                    {
                        "schemas": [PATCH],
                        "Operations": [{"op": "replace", "path": path, "value": value}],
                    },
                )
            )
        checked(
            send(
                http,
                "PATCH",
                f"/Groups/{group['id']}",
                {
                    "schemas": [PATCH],
                    "Operations": [{"op": "add", "path": "members", "value": value}],
                },
            )
        )
        checked(
            send(http, "PATCH", f"/Groups/{group['id']}", {"schemas": [PATCH], "Operations": value})
        )
        checked(send(http, "POST", "/Bulk", {"schemas": [BULK], "Operations": value}))
        checked(
            send(
                http,
                "POST",
                "/Bulk",
                {
                    "schemas": [BULK],
                    "Operations": [
                        {
                            "method": "POST",
                            "path": value,
                            "bulkId": value,
                            "data": {"userName": value},
                        }
                    ],
                },
            )
        )
    assert [member["value"] for member in http.get(f"/Groups/{group['id']}").json()["members"]] == [
        user["id"]
    ], "nothing half-applied"
    assert {person.user_name for person in world.client().people.list()} >= {"maud"}


def test_filters_and_addresses_of_nonsense(http: httpx.Client) -> None:
    send(http, "POST", "/Users", {"schemas": [USER], "userName": "maud"})
    for text in TEXTS:
        literal = json.dumps(text)
        for asked in (
            {"filter": text[:2000]},
            {"filter": f"userName eq {literal}"[:3000]},
            {"filter": f"displayName co {literal}"[:3000]},
            {"sortBy": text[:2000]},
            {"cursor": text[:2000]},
            {"attributes": text[:2000]},
            {"startIndex": text[:2000]},
            {"count": text[:2000]},
        ):
            found = checked(
                http.get(
                    "/Users",
                    params={
                        name: value.encode("utf-8", "surrogatepass")
                        for name, value in asked.items()
                    },
                )
            )
            assert found.status_code != 200 or found.json()["totalResults"] <= 1
        for place in ("Users", "Groups", "Schemas", "ResourceTypes"):
            escaped = "".join(
                f"%{byte:02X}" for byte in text[:500].encode("utf-8", "surrogatepass")
            )
            assert checked(http.get(f"/{place}/{escaped}")).status_code in (200, 400, 404, 405)
    deep = "(" * 2000 + "userName pr" + ")" * 2000
    assert checked(http.get("/Users", params={"filter": deep})).status_code in (200, 400)


def test_bodies_that_are_none(http: httpx.Client) -> None:
    bodies = [
        b"",
        b"{",
        b"[]",
        b"null",
        b"\xff\xfe",
        b'{"userName": "a", "userName": "b"}',
        b"[" * 20_000,
        b'{"a":' * 5_000 + b"1" + b"}" * 5_000,
        b"1" * 5_000,
        b'{"userName": NaN}',
    ]
    for body in bodies:
        for method, path in (
            ("POST", "/Users"),
            ("PUT", "/Users/u1"),
            ("PATCH", "/Users/u1"),
            ("POST", "/Users/.search"),
            ("POST", "/Bulk"),
            ("POST", "/Groups"),
        ):
            checked(http.request(method, path, content=body))
    assert (
        checked(
            http.post("/Users", content=b'{"userName": "' + b"x" * 2_100_000 + b'"}')
        ).status_code
        == 413
    )


def test_a_user_name_that_is_too_long_is_refused_for_good(world: World) -> None:
    with Sortitor(world.url) as owner:
        owner.accounts.sign_in("coordinator", PASSWORD)
        token = owner.accounts.add_token("directory", Role.COORDINATOR, 1, Purpose.PEOPLE).secret
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/scim+json"}
    for length in (3_000, 100_000):
        # By chance, so that it cannot be compressed into the index.
        name = "".join(
            random.Random(length).choices("abcdefghijklmnopqrstuvwxyz0123456789", k=length)
        )
        given = {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": name}
        answer = httpx.post(f"{world.url}/scim/v2/Users", headers=headers, json=given)
        assert answer.status_code == 400, answer.text
