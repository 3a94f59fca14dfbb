"""What Sortitor understands of a user as identity providers push it (RFC 7643), and how it shows a
person whom a file brought.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


def person_of(user: Mapping[str, Any]) -> dict[str, str | None]:
    """`user_name, name, mail, department, site` of a user resource.

    The name is the display name, the formatted name, given and family name, or the user name; the
    mail is the primary or the first address; the site is the locality of the address at work.
    """
    name = user.get("name") or {}
    parts = " ".join(filter(None, (name.get("givenName"), name.get("familyName"))))
    return {
        "user_name": user["userName"],
        "name": user.get("displayName") or name.get("formatted") or parts or user["userName"],
        "mail": (_chosen(user.get("emails"), "primary", True) or {}).get("value"),
        "department": (user.get(ENTERPRISE) or {}).get("department"),
        "site": (_chosen(user.get("addresses"), "type", "work") or {}).get("locality"),
    }


def _chosen(several: list[dict[str, Any]] | None, key: str, wanted: Any) -> dict[str, Any] | None:
    """The one that is wanted, else the first."""
    first = several[0] if several else None
    return next((one for one in several or [] if one.get(key) == wanted), first)


def user_of(person: Mapping[str, Any]) -> dict[str, Any]:
    """The user resource of a person: as it was pushed, or made of what a file said; `active` is
    what Sortitor knows.
    """
    if person["pushed"] is not None:
        user = dict(person["pushed"])
        if "active" in user:
            user["active"] = person["left_at"] is None
        return user
    user = {
        "userName": person["user_name"],
        "displayName": person["name"],
        "active": person["left_at"] is None,
    }
    if person["mail"]:
        user["emails"] = [{"value": person["mail"], "primary": True}]
    if person["site"]:
        user["addresses"] = [{"type": "work", "locality": person["site"]}]
    if person["department"]:
        user[ENTERPRISE] = {"department": person["department"]}
    return user
