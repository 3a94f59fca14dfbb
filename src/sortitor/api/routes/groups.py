"""Routes: groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path

from sortitor.api.http.access import MayLook, MayManagePeople
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


@router.put("/{group}/groups", status_code=204)
def set_inner_groups(ctx: MayManagePeople, group: GroupKey, given: InnerGroups) -> None:
    """Put exactly these groups into a group: whoever belongs to them belongs to it."""
    people.set_inner(ctx, group, given.groups)
