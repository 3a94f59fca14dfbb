"""Routes: people."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Path, Query, Request, Response

from sortitor.api.http.access import MayLook, MayManagePeople
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.paging import Cursor, Limit, page, read_key
from sortitor.api.http.routes import Router
from sortitor.api.routes.devices import line
from sortitor.api.routes.holds import hold_shape
from sortitor.core.gate import quota_said
from sortitor.operations import holds, leaving, licences, people
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.people import (
    Departure,
    DepartureApply,
    Leaving,
    Person,
    PersonDetail,
    PersonQuota,
)

router = Router(tags=["people"])
PersonKey = Annotated[str, Path(max_length=200, description="Number, user name or mail.")]


@router.get("/people", response_model=Page[Person])
def list_people(
    request: Request,
    response: Response,
    ctx: MayLook,
    query: str | None = None,
    group: str | None = None,
    pool: Annotated[
        str | None,
        Query(description="Who has a device that takes a seat of this pool, by number or name"),
    ] = None,
    over_quota: Annotated[bool, Query(description="Who has more devices than they may.")] = False,
    sort: Annotated[
        Literal["id", "name", "user_name", "department", "site", "holding"],
        Query(description="The order."),
    ] = "id",
    descending: Annotated[bool, Query(description="The last first.")] = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """People in the order asked for; `query` finds user name, name or mail."""
    having = None if pool is None else licences.filter_of(ctx, pool)
    wanted = people.Wanted(query, group, having, over_quota, sort, descending)
    return page(
        request,
        response,
        people.page(ctx, wanted, read_key(cursor), limit + 1),
        limit,
        Person.model_validate,
        lambda row: [row.sort_key, row.id],
    )


@router.get("/people/{person}")
def show_person(ctx: MayLook, person: PersonKey) -> PersonDetail:
    """One person with devices and quota."""
    found = people.one(ctx, person)
    return PersonDetail(
        **Person.model_validate(found.person).model_dump(),
        devices=[line(ctx, row) for row in found.devices],
        holds=[hold_shape(ctx, row) for row in holds.on_person(ctx, found.person.id)],
        quotas=[
            PersonQuota(
                platform=one.platform,
                devices=one.quota.devices,
                counted=one.counted,
                policy=one.policy,
                words=quota_said(one.quota, one.platform),
            )
            for one in found.quotas
        ],
    )


@router.post("/people/{person}/left", status_code=204)
def note_leaving(ctx: MayManagePeople, person: PersonKey, given: Leaving) -> None:
    """Note that somebody has left, or is back.

    Who has left keeps their devices, which are then listed as needing a hand.
    """
    people.set_left(ctx, person, given.left, given.reason)


@router.post("/people/{person}/departure/preview")
def preview_departure(ctx: MayLook, person: PersonKey, given: Departure) -> Preview:
    """What somebody's leaving would do to their devices, passes and holds."""
    return Preview.model_validate(leaving.preview(ctx, person, _departure(given)))


@router.post("/people/{person}/departure/apply")
def apply_departure(ctx: MayManagePeople, person: PersonKey, given: DepartureApply) -> Preview:
    """Let somebody leave as previewed: one entry of the journal, taken back as one."""
    decided = _departure(given)
    return Preview.model_validate(leaving.leave(ctx, person, decided, given.digest, given.reason))


def _departure(given: Departure) -> leaving.Departure:
    decisions = [leaving.Decision(tuple(one.ids), one.act, one.person) for one in given.devices]
    return leaving.Departure(tuple(decisions), given.passes, given.holds)


@router.post("/people/imports/preview", openapi_extra=FILE_BODY)
def preview_import(
    ctx: MayManagePeople,
    body: FileBody,
    complete: Annotated[
        bool, Query(description="The file names everybody: whom it does not name has left")
    ] = False,
) -> Preview:
    """What a CSV of people (user name, name, mail, department, site, groups) would change."""
    return Preview.model_validate(people.preview_import(ctx, body, complete))


@router.post("/people/imports/apply", openapi_extra=FILE_BODY)
def apply_import(
    ctx: MayManagePeople,
    body: FileBody,
    digest: Annotated[str, Query()],
    reason: Annotated[str | None, Query(max_length=500)] = None,
    complete: Annotated[
        bool, Query(description="The file names everybody: whom it does not name has left")
    ] = False,
) -> Preview:
    """Import the people of a CSV as previewed."""
    return Preview.model_validate(people.apply_import(ctx, body, digest, reason, complete))
