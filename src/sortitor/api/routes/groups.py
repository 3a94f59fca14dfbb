"""Routes: groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response

from sortitor.api.http.access import MayLook, MayManagePeople
from sortitor.api.http.etags import IfMatch, edited, tag
from sortitor.api.http.routes import Router
from sortitor.operations import people
from sortitor.schemas.base import Page, whole
from sortitor.schemas.people import Group, InnerGroups

router = Router(prefix="/groups", tags=["people"])
GroupKey = Annotated[str, Path(max_length=200, description="Its number or its name.")]


@router.get("")
def list_groups(ctx: MayLook) -> Page[Group]:
    """All groups with the number of their people."""
    return whole(Group.model_validate(row) for row in people.groups(ctx))


@router.get("/{group}")
def show_group(ctx: MayLook, response: Response, group: GroupKey) -> Group:
    """One group, by number or name."""
    found = people.group(ctx, group)
    tag(response, found.revision)
    return Group.model_validate(found)


@router.put("/{group}/groups")
def set_inner_groups(
    ctx: MayManagePeople,
    response: Response,
    group: GroupKey,
    given: InnerGroups,
    if_match: IfMatch = None,
) -> Group:
    """Put exactly these groups into a group: whoever belongs to them belongs to it. `If-Match`
    refuses one that was changed meanwhile.
    """
    revision = edited(if_match, None, "group")
    found = people.set_inner(ctx, group, given.groups, revision)
    tag(response, found.revision)
    return Group.model_validate(found)
