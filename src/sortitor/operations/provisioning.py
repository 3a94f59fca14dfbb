"""People and groups that an identity provider pushes (RFC 7644), as plain resources; the protocol
is spoken in `api/scim.py`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sortitor.core.errors import BadInput, Conflict, NotFound, Stale
from sortitor.core.numerals import number_in
from sortitor.core.provisioning import person_of, user_of
from sortitor.operations.context import Context
from sortitor.store import groups as store_groups
from sortitor.store import people as store_people
from sortitor.store import provisioning as store
from sortitor.store import sources
from sortitor.store.engine import Connection
from sortitor.store.provisioning import Asked as Asked
from sortitor.store.provisioning import GroupRow, UserRow

#: What is not kept: it is made anew for every answer, or is nobody's business.
_OWN = ("id", "meta", "groups", "schemas", "password")


@dataclass(frozen=True, slots=True)
class Resource:
    """A user or group: `kind` is User or Group; `id` is opaque to the provider; `active` holds for
    a user of whom the document does not say it, too.
    """

    kind: str
    id: str
    revision: int
    created_at: datetime
    changed_at: datetime
    document: dict[str, Any]
    active: bool = True


@contextmanager
def _pushing(ctx: Context) -> Iterator[Connection]:
    """The transaction of one change that an identity provider pushes."""
    with ctx.changing() as connection:
        yield connection
        sources.note_push(connection, ctx.now)


def _number(resource_id: str, letter: str) -> int:
    """The number behind an id; users and groups are told apart by its first letter."""
    number = number_in(resource_id.removeprefix(letter))
    if number is None or not resource_id.startswith(letter):
        raise NotFound("user" if letter == "u" else "group", resource_id)
    return number


def _user(row: UserRow) -> Resource:
    document = user_of(asdict(row))
    if row.groups:
        document["groups"] = [
            {"value": f"g{group['id']}", "display": group["name"]} for group in row.groups
        ]
    return Resource(
        "User",
        f"u{row.id}",
        row.revision,
        row.created_at,
        row.changed_at,
        document,
        row.left_at is None,
    )


def _groups(connection: Connection, rows: Sequence[GroupRow], with_members: bool) -> list[Resource]:
    members: dict[int, list[dict[str, str]]] = {}
    for line in (
        store_groups.members(connection, [row.id for row in rows]) if with_members and rows else ()
    ):
        members.setdefault(line.group_id, []).append(
            {
                "value": f"{'u' if line.kind == 'User' else 'g'}{line.id}",
                "display": line.name,
                "type": line.kind,
            }
        )
    return [
        Resource(
            "Group",
            f"g{row.id}",
            row.revision,
            row.created_at,
            row.changed_at,
            {
                "displayName": row.name,
                **({"externalId": row.external_id} if row.external_id else {}),
                **({"members": members[row.id]} if row.id in members else {}),
            },
        )
        for row in rows
    ]


# ---- reading
# ------------------------------------------------------------------------------------------------


def users(ctx: Context, asked: Asked) -> tuple[list[Resource], int]:
    """A page of users, and how many there are in all."""
    with ctx.reading() as connection:
        rows, total = store.users(connection, asked)
        return [_user(row) for row in rows], total


def groups(ctx: Context, asked: Asked, with_members: bool) -> tuple[list[Resource], int]:
    """A page of groups, and how many there are in all."""
    with ctx.reading() as connection:
        rows, total = store.group_page(connection, asked)
        return _groups(connection, rows, with_members), total


def user(ctx: Context, resource_id: str) -> Resource:
    """One user."""
    with ctx.reading() as connection:
        return _user(_known_user(connection, resource_id))


def _known_user(connection: Connection, resource_id: str, lock: bool = False) -> UserRow:
    row = store.user(connection, _number(resource_id, "u"), lock)
    if row is None or row.gone_at is not None:
        raise NotFound("user", resource_id)
    return row


def group(ctx: Context, resource_id: str) -> Resource:
    """One group with its members."""
    with ctx.reading() as connection:
        return _groups(connection, [_known_group(connection, resource_id)], True)[0]


def _known_group(connection: Connection, resource_id: str, lock: bool = False) -> GroupRow:
    row = store.group(connection, _number(resource_id, "g"), lock)
    if row is None:
        raise NotFound("group", resource_id)
    return row


# ---- users
# --------------------------------------------------------------------------------------------------


def _values(ctx: Context, document: Mapping[str, Any], left_at: datetime | None) -> dict[str, Any]:
    # Of whom nothing is said, nothing changes.
    left = document["active"] is False if "active" in document else left_at is not None
    kept = {name: value for name, value in document.items() if name not in _OWN}
    return {
        **person_of(document),
        "pushed": kept,
        "gone_at": None,
        "left_at": (left_at or ctx.now) if left else None,
        "changed_at": ctx.now,
    }


def add_user(ctx: Context, document: Mapping[str, Any]) -> Resource:
    """A new user. One who was deleted before and comes again is the same person; so is one whom a
    file brought and nobody has pushed yet.
    """
    with _pushing(ctx) as connection:
        document = {"active": True, **document}
        values = _values(ctx, document, None)
        known = store.lock_user_name(connection, values["user_name"])
        if known is not None and known.gone_at is None and known.pushed is not None:
            raise Conflict(
                "user_name_taken",
                f"There is a user {document['userName']!r} already.",
                "Change that one.",
            )
        if known is None:
            person_id = store.add_user(connection, {**values, "created_at": ctx.now})
        else:
            person_id = known.id
            store.change_user(connection, person_id, values)
        store_people.refresh_cohorts(connection, [person_id])
        ctx.record(
            connection,
            "user.add",
            "person",
            f"{values['name']} added by {ctx.actor.name}",
            subject_id=person_id,
            after=person_of(document),
        )
        return _user(_known_user(connection, f"u{person_id}"))


def change_user(
    ctx: Context,
    resource_id: str,
    revision: int | None,
    new: Callable[[Resource], Mapping[str, Any]],
) -> Resource:
    """Let `new` make another document of a user's; of nothing new nothing is written."""
    with _pushing(ctx) as connection:
        row = _known_user(connection, resource_id, lock=True)
        before = _user(row)
        _must_be(revision, before)
        document = new(before)
        values = _values(ctx, document, row.left_at)
        if all(
            getattr(row, name) == value for name, value in values.items() if name != "changed_at"
        ):
            return before
        store.change_user(connection, row.id, values)
        store_people.refresh_cohorts(connection, [row.id])
        what = "changed"
        if values["left_at"] and not row.left_at:
            what = "has left"
        elif row.left_at and not values["left_at"]:
            what = "is back"
        ctx.record(
            connection,
            "user.edit",
            "person",
            f"{values['name']} {what}, by {ctx.actor.name}",
            subject_id=row.id,
            before=person_of(before.document),
            after=person_of(document),
        )
        return _user(_known_user(connection, resource_id))


def remove_user(ctx: Context, resource_id: str, revision: int | None) -> None:
    """The provider knows the user no longer: the person is kept as left, out of all groups, with
    the devices still theirs.
    """
    with _pushing(ctx) as connection:
        row = _known_user(connection, resource_id, lock=True)
        _must_be(revision, _user(row))
        store.change_user(
            connection,
            row.id,
            {
                "gone_at": ctx.now,
                "left_at": row.left_at or ctx.now,
                "pushed": None,
                "changed_at": ctx.now,
            },
        )
        store_groups.take_out_everywhere(connection, row.id)
        store_people.refresh_cohorts(connection, [row.id])
        ctx.record(
            connection,
            "user.remove",
            "person",
            f"{row.name} removed by {ctx.actor.name}; kept as left",
            subject_id=row.id,
        )


def _must_be(revision: int | None, resource: Resource) -> None:
    if revision is not None and revision != resource.revision:
        raise Stale(f"the {resource.kind.lower()}")


# ---- groups
# -------------------------------------------------------------------------------------------------


def _members(
    connection: Connection, document: Mapping[str, Any], own: int | None
) -> tuple[set[int], set[int]]:
    """The people and groups that a document names. Raises BadInput for one that is not there."""
    values = [str(member.get("value") or "") for member in document.get("members") or []]
    numbers = {letter: _numbers(values, letter) for letter in "ug"}
    there = {
        "u": store.known_people(connection, sorted(numbers["u"])),
        "g": store.known_groups(connection, sorted(numbers["g"])),
    }
    if own is not None and own in there["g"]:
        detail = "A group cannot be a member of itself."
        raise BadInput("group_circle", detail, "Leave it out.")
    if missing := [
        value
        for value in values
        if value[:1] not in there or number_in(value[1:]) not in there[value[0]]
    ]:
        detail = f"{missing[0]!r} is no user or group that can be a member."
        raise BadInput("unknown_member", detail, "Create it first, or leave it out.")
    return there["u"], there["g"]


def add_group(ctx: Context, document: Mapping[str, Any]) -> Resource:
    """A new group; one that a file brought, and nobody has pushed yet, is taken over."""
    with _pushing(ctx) as connection:
        store_groups.hold_still(connection)
        name = str(document["displayName"])
        taken = store.group_of(connection, name)
        if taken and taken.external_id is not None:
            raise Conflict(
                "group_name_taken", f"There is a group {name!r} already.", "Change that one."
            )
        people_in, groups_in = _members(connection, document, None)
        values = {"name": name, "external_id": document.get("externalId"), "changed_at": ctx.now}
        if taken:
            group_id = int(taken.id)
            store_groups.change(connection, group_id, values)
        else:
            group_id = store_groups.add(connection, {**values, "created_at": ctx.now})
        store_groups.set_members(connection, group_id, people_in, groups_in)
        store_groups.resolve(connection, [group_id], [group_id] if taken else [])
        ctx.record(
            connection,
            "group.add",
            "group",
            f"Group {name} added by {ctx.actor.name}",
            subject_id=group_id,
            after={"name": name, "people": len(people_in), "groups": len(groups_in)},
        )
        return _groups(connection, [_known_group(connection, f"g{group_id}")], True)[0]


def change_group(
    ctx: Context,
    resource_id: str,
    revision: int | None,
    new: Callable[[Resource], Mapping[str, Any]],
) -> Resource:
    """Let `new` make another document of a group's; of nothing new nothing is written."""
    with _pushing(ctx) as connection:
        store_groups.hold_still(connection)
        row = _known_group(connection, resource_id, lock=True)
        before = _groups(connection, [row], True)[0]
        _must_be(revision, before)
        document = new(before)
        name = str(document["displayName"])
        people_in, groups_in = _members(connection, document, row.id)
        were = {member["value"] for member in before.document.get("members", [])}
        are = {*(f"u{one}" for one in people_in), *(f"g{one}" for one in groups_in)}
        if (name, document.get("externalId"), are) == (row.name, row.external_id, were):
            return before
        store_groups.change(
            connection,
            row.id,
            {"name": name, "external_id": document.get("externalId"), "changed_at": ctx.now},
        )
        store_groups.set_members(connection, row.id, people_in, groups_in)
        store_groups.resolve(connection, [row.id], [row.id] if name != row.name else [])
        ctx.record(
            connection,
            "group.edit",
            "group",
            f"Group {name} changed by {ctx.actor.name}: {len(are - were):,} in,"
            f" {len(were - are):,} out" + _circle(connection, row.id, groups_in),
            subject_id=row.id,
            before={"name": row.name, "members": len(were)},
            after={"name": name, "members": len(are)},
        )
        return _groups(connection, [_known_group(connection, resource_id)], True)[0]


def change_members(
    ctx: Context, resource_id: str, revision: int | None, wanted: Mapping[str, bool]
) -> Resource:
    """Put some into a group and take others out, without reading the others; `wanted` says of each
    id whether it is in the group afterwards. Gives the group without its members.
    """
    with _pushing(ctx) as connection:
        store_groups.hold_still(connection)
        row = _known_group(connection, resource_id, lock=True)
        before = _groups(connection, [row], False)[0]
        _must_be(revision, before)
        come = {"members": [{"value": value} for value, inside in wanted.items() if inside]}
        people_in, groups_in = _members(connection, come, row.id)
        gone = [value for value, inside in wanted.items() if not inside]
        came = store_groups.put_in(connection, row.id, people_in, groups_in)
        left = store_groups.take_out(connection, row.id, _numbers(gone, "u"), _numbers(gone, "g"))
        if not came and not left:
            return before
        store_groups.change(connection, row.id, {"changed_at": ctx.now})
        store_groups.resolve(connection, [row.id])
        ctx.record(
            connection,
            "group.edit",
            "group",
            f"Group {row.name} changed by {ctx.actor.name}: {came:,} in, {left:,} out"
            + _circle(connection, row.id, groups_in),
            subject_id=row.id,
            after={"in": came, "out": left},
        )
        return _groups(connection, [_known_group(connection, resource_id)], False)[0]


def _circle(connection: Connection, group_id: int, groups_in: set[int]) -> str:
    """What is to be said where groups hold each other now: they have the same people."""
    circle = store_groups.reach(connection, groups_in, group_id)
    return "; it holds itself through another group, so both have the same people" if circle else ""


def _numbers(values: Sequence[str], letter: str) -> set[int]:
    """The numbers of those ids that are of this kind; what never was is not in a group either."""
    found = (number_in(value[1:]) for value in values if value[:1] == letter)
    return {number for number in found if number is not None}


def remove_group(ctx: Context, resource_id: str, revision: int | None) -> None:
    """Forget a group; whoever was in it is not any more."""
    with _pushing(ctx) as connection:
        store_groups.hold_still(connection)
        row = _known_group(connection, resource_id, lock=True)
        _must_be(revision, _groups(connection, [row], False)[0])
        store_groups.remove(connection, row.id)
        ctx.record(
            connection,
            "group.remove",
            "group",
            f"Group {row.name} removed by {ctx.actor.name}",
            subject_id=row.id,
        )
