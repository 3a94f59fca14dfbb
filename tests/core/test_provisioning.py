"""What is understood of a user as identity providers push it (RFC 7643)."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.provisioning import ENTERPRISE, person_of, user_of

BARE = {"userName": "maud"}


@pytest.mark.parametrize(
    ("user", "name"),
    [
        ({}, "maud"),
        ({"name": {"givenName": "Maud", "familyName": "Fenwick"}}, "Maud Fenwick"),
        ({"name": {"familyName": "Fenwick"}}, "Fenwick"),
        ({"name": {"formatted": "Ms Maud Fenwick", "givenName": "Maud"}}, "Ms Maud Fenwick"),
        ({"displayName": "Maud F.", "name": {"formatted": "Ms Maud Fenwick"}}, "Maud F."),
        ({"displayName": "", "name": {"formatted": "Ms Maud Fenwick"}}, "Ms Maud Fenwick"),
        ({"displayName": "مود فنويك"}, "مود فنويك"),
        ({"name": None}, "maud"),
    ],
)
def test_the_name_is_the_best_that_there_is(user: dict[str, Any], name: str) -> None:
    assert person_of({**BARE, **user})["name"] == name


@pytest.mark.parametrize(
    ("emails", "mail"),
    [
        (None, None),
        ([], None),
        ([{"value": "a@x.example"}], "a@x.example"),
        ([{"value": "a@x.example"}, {"value": "b@x.example", "primary": True}], "b@x.example"),
        ([{"value": "a@x.example", "primary": False}, {"value": "b@x.example"}], "a@x.example"),
        ([{"type": "work"}], None),
    ],
)
def test_the_mail_is_the_primary_or_the_first(
    emails: list[dict[str, Any]] | None, mail: str | None
) -> None:
    assert person_of({**BARE, "emails": emails})["mail"] == mail


@pytest.mark.parametrize(
    ("addresses", "site"),
    [
        (None, None),
        ([{"type": "home", "locality": "Gull"}], "Gull"),
        ([{"type": "home", "locality": "Gull"}, {"type": "work", "locality": "Dunlin"}], "Dunlin"),
        ([{"type": "work"}], None),
    ],
)
def test_the_site_is_where_one_works(
    addresses: list[dict[str, Any]] | None, site: str | None
) -> None:
    assert person_of({**BARE, "addresses": addresses})["site"] == site


def test_the_department_comes_with_the_enterprise_extension() -> None:
    assert person_of({**BARE, ENTERPRISE: {"department": "Deck"}})["department"] == "Deck"
    assert person_of({**BARE, ENTERPRISE: None})["department"] is None
    assert person_of({**BARE, "department": "Deck"})["department"] is None


words = st.none() | st.text(min_size=1, max_size=20)


@given(
    st.text(min_size=1, max_size=20),
    st.text(min_size=1, max_size=20),
    words,
    words,
    words,
    st.booleans(),
)
def test_a_person_from_a_file_is_the_same_person_when_pushed_back(
    user_name: str,
    name: str,
    mail: str | None,
    department: str | None,
    site: str | None,
    left: bool,
) -> None:
    person = {
        "user_name": user_name,
        "name": name,
        "mail": mail,
        "department": department,
        "site": site,
    }
    user = user_of({**person, "pushed": None, "left_at": "2026-01-01" if left else None})
    assert person_of(user) == person
    assert user["active"] is not left


def test_what_was_pushed_is_shown_as_it_was_but_for_what_happened_here() -> None:
    pushed = {"userName": "maud", "active": True, "nickName": "M", "phoneNumbers": [{"value": "1"}]}
    assert user_of({"pushed": pushed, "left_at": "2026-01-01"}) == {**pushed, "active": False}
