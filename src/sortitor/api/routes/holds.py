"""Routes: holds, which keep devices out of sweeps."""

from __future__ import annotations

from typing import Any

from fastapi import Request, Response

from sortitor.api.http.access import MayLook, MayManageDevices
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Router, made_at
from sortitor.api.http.selections import selection_of
from sortitor.core.holds import Terms
from sortitor.operations import holds
from sortitor.operations.context import Context
from sortitor.operations.holds import About, HoldRow
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.holds import Hold, HoldApply, HoldEnd, HoldNew

router = Router(tags=["sweeps"])


def hold_shape(ctx: Context, row: HoldRow) -> Hold:
    """A hold as it is shown."""
    return Hold(
        id=row.id,
        kind=row.kind,
        label=holds.label(ctx, row),
        person_id=row.person_id,
        cohort_id=row.cohort_id,
        device_id=row.device_id,
        devices=row.devices,
        reason=row.reason,
        owner=row.owner,
        from_on=row.from_on,
        until_on=row.until_on,
        state=holds.state(ctx, row),
        created_by=row.created_by,
        created_at=row.created_at,
        ended_at=row.ended_at,
    )


def _about(ctx: Context, given: HoldNew) -> About:
    selection = None if given.selection is None else selection_of(ctx, given.selection)
    return About(selection, given.person, given.cohort)


def _terms(ctx: Context, given: HoldNew) -> Terms:
    owner = given.owner or ctx.actor.name
    return Terms(given.reason, given.from_on or ctx.today, given.until_on, owner)


@router.get("/holds", response_model=Page[Hold])
def list_holds(
    request: Request,
    response: Response,
    ctx: MayLook,
    over: bool = False,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Holds that run or are to come, newest first; `over`: also those that have ended."""
    return page(
        request,
        response,
        holds.page(ctx, read_number(cursor), limit + 1, over),
        limit,
        lambda row: hold_shape(ctx, row),
        lambda row: row.id,
    )


@router.post("/holds/preview")
def preview_hold(ctx: MayLook, given: HoldNew) -> Preview:
    """Which devices a hold would keep out of sweeps."""
    return Preview.model_validate(holds.preview(ctx, _about(ctx, given), _terms(ctx, given)))


@router.post("/holds/apply", status_code=201)
def apply_hold(response: Response, ctx: MayManageDevices, given: HoldApply) -> Hold:
    """Hold as previewed."""
    row = holds.add(ctx, _about(ctx, given), _terms(ctx, given), given.digest)
    made_at(response, f"/holds/{row.id}")
    return hold_shape(ctx, row)


@router.get("/holds/{hold_id}")
def show_hold(ctx: MayLook, hold_id: Number) -> Hold:
    """One hold, also one that has ended."""
    return hold_shape(ctx, holds.one(ctx, hold_id))


@router.post("/holds/{hold_id}/end", status_code=204)
def end_hold(ctx: MayManageDevices, hold_id: Number, given: HoldEnd) -> None:
    """End a hold now, or for one of the devices that it names."""
    holds.end(ctx, hold_id, given.device_id, given.reason)
