"""Routes: people and groups."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.bodies import FILE_BODY, FileBody
from sortitor.api.devices import line
from sortitor.api.paging import Cursor, Limit, page, read_number
from sortitor.api.routes import Route
from sortitor.operations import people
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.people import Group, InnerGroups, Leaving, Person, PersonWhole

router = APIRouter(tags=["people"], route_class=Route)


@router.get("/people", response_model=Page[Person])
def list_people(
    request: Request,
    response: Response,
    ctx: Viewer,
    query: str | None = None,
    group: str | None = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """People by number; `query` finds user name, name or mail."""
    rows = people.page(ctx, query, group, read_number(cursor) or 0, limit + 1)
    return page(request, response, rows, limit, Person.model_validate, lambda row: row.id)


@router.get("/people/{person_id}")
def show_person(ctx: Viewer, person_id: int) -> PersonWhole:
    """One person with devices and quota."""
    whole = people.one(ctx, person_id)
    devices = [line(row, ctx) for row in whole.devices]
    return PersonWhole(
        **Person.model_validate(whole.person).model_dump(),
        devices=devices,
        quota=whole.quota,
        quota_policy=whole.quota_policy,
    )


@router.get("/groups")
def list_groups(ctx: Viewer) -> list[Group]:
    """All groups with the number of their people."""
    return [Group.model_validate(row) for row in people.groups(ctx)]


@router.post("/people/{person_id}/left", status_code=204)
def note_leaving(ctx: Coordinator, person_id: int, given: Leaving) -> None:
    """Note that somebody has left, or is back.

    Who has left keeps their devices, which are then listed as needing a hand.
    """
    people.set_left(ctx, person_id, given.left, given.reason)


@router.put("/groups/{group_id}/groups", status_code=204)
def set_inner_groups(ctx: Coordinator, group_id: int, given: InnerGroups) -> None:
    """Put exactly these groups into a group: whoever belongs to them belongs to it."""
    people.set_inner(ctx, group_id, given.groups)


@router.post("/people/imports/preview", openapi_extra=FILE_BODY)
def preview_import(
    ctx: Coordinator,
    body: FileBody,
    complete: Annotated[
        bool, Query(description="The file names everybody: whom it does not name has left")
    ] = False,
) -> Preview:
    """What a CSV of people (user name, name, mail, department, site, groups) would change."""
    return Preview.model_validate(people.preview_import(ctx, body, complete))


@router.post("/people/imports/apply", openapi_extra=FILE_BODY)
def apply_import(
    ctx: Coordinator,
    body: FileBody,
    digest: Annotated[str, Query()],
    reason: Annotated[str | None, Query(max_length=500)] = None,
    complete: Annotated[
        bool, Query(description="The file names everybody: whom it does not name has left")
    ] = False,
) -> Preview:
    """Import the people of a CSV as previewed."""
    return Preview.model_validate(people.apply_import(ctx, body, digest, reason, complete))
