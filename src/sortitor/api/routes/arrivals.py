"""Routes: arrivals, as the coordinator sees them."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from typing import Annotated, Any, Literal

from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse

from sortitor.api.http.access import MayLook, MayManageDevices, service_of
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import Cursor, Limit, Number, fields_of, page, read_number
from sortitor.api.http.routes import Router
from sortitor.api.http.streams import (
    BEGINNING,
    EVENT_STREAM,
    HEARTBEAT,
    HEARTBEAT_SECONDS,
    event,
    may_still_look,
    stream,
)
from sortitor.core.vocabulary import Outcome, WayStage
from sortitor.operations import arrivals, seals
from sortitor.operations.arrivals import ArrivalRow, Wanted, assignments
from sortitor.operations.context import Context
from sortitor.schemas.arrivals import Arrival, ArrivalDetail, WayCounts
from sortitor.schemas.base import Apply, Page, Preview, ReasonGiven

router = Router(prefix="/arrivals", tags=["arrivals"])


def _shown(ctx: Context, row: ArrivalRow) -> dict[str, Any]:
    return {**fields_of(row), "stated": ctx.veil.stated(row.stated, row.ownership)}


@router.get("", response_model=Page[Arrival])
def list_arrivals(
    request: Request,
    response: Response,
    ctx: MayLook,
    outcome: Outcome | None = None,
    waiting: Annotated[
        bool, Query(description="Only those on which a coordinator has to decide")
    ] = False,
    way: Annotated[WayStage | None, Query(description="Only those so far on the way in")] = None,
    pass_id: Annotated[
        int | None, Query(ge=1, description="Only those with this pass, or one made with it")
    ] = None,
    device: Annotated[int | None, Query(ge=1, description="Only those of this device")] = None,
    identifier: Annotated[
        str | None,
        Query(max_length=100, description="Only those that stated this serial number or IMEI"),
    ] = None,
    person: Annotated[
        str | None,
        Query(max_length=320, description="Only this person's, by number or user name"),
    ] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Arrivals, newest first, with every reason."""
    wanted = Wanted(outcome, waiting, way, pass_id, device)
    return page(
        request,
        response,
        rows=arrivals.page(ctx, wanted, read_number(cursor), limit + 1, identifier, person),
        limit=limit,
        shape=lambda row: Arrival.model_validate(_shown(ctx, row)),
        key=lambda row: row.id,
    )


@router.get("/counts")
def count_arrivals(
    ctx: MayLook,
    days: Annotated[int, Query(ge=1, le=90, description="Of so many days back")] = 1,
) -> WayCounts:
    """How many arrivals stand at each stage of the way in."""
    return WayCounts(days=days, counts=arrivals.counts(ctx, days))


@router.get("/events", response_class=StreamingResponse, responses=EVENT_STREAM)
async def follow_arrivals(request: Request, ctx: MayLook) -> StreamingResponse:
    """The board as server-sent events: one whenever an arrival has gone on, with how many of the
    last day stand where.
    """
    return stream(request, ctx, _events(request, ctx))


async def _events(request: Request, ctx: Context) -> AsyncIterator[str]:
    number, last, quiet = 0, "", time.monotonic()
    yield BEGINNING
    while True:
        board = await service_of(request).board.at(lambda: arrivals.board(ctx))
        text = WayCounts(days=1, counts=board.counts).model_dump_json()
        mark = f"{board.moved_at} {text}"
        if mark != last:
            last, number, quiet = mark, number + 1, time.monotonic()
            yield event(number, "board", text)
        elif time.monotonic() - quiet > HEARTBEAT_SECONDS:
            quiet = time.monotonic()
            if not await may_still_look(request):
                return
            yield HEARTBEAT
        await asyncio.sleep(1)


@router.get(
    "/waiting/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_waiting(ctx: MayLook, form: Literal["csv", "xlsx"] = "csv") -> Response:
    """The devices that wait for their people, as a file with a column to fill in."""
    frame = assignments.waiting_list(ctx)
    seals.note_export(ctx, "devices", f"{frame.height:,} waiting devices taken out")
    return as_file(frame, "waiting", form)


@router.post("/assignments/preview", openapi_extra=FILE_BODY)
def preview_assignments(ctx: MayManageDevices, body: FileBody) -> Preview:
    """What the list that was filled in would give to whom; a row with a fault says why."""
    return Preview.model_validate(assignments.preview_list(ctx, body))


@router.post("/assignments/apply", openapi_extra=FILE_BODY)
def apply_assignments(
    ctx: MayManageDevices,
    body: FileBody,
    digest: Annotated[str, Query()],
    reason: Annotated[str | None, Query(max_length=500)] = None,
) -> Preview:
    """Give the devices of the list as previewed, in one change; rows with a fault are left out."""
    return Preview.model_validate(assignments.apply_list(ctx, body, digest, reason))


@router.get("/{arrival_id}")
def show_arrival(ctx: MayLook, arrival_id: Number) -> ArrivalDetail:
    """One arrival with its whole trace and every message."""
    found = arrivals.one(ctx, arrival_id)
    return ArrivalDetail.model_validate({**_shown(ctx, found.arrival), "messages": found.messages})


@router.post("/{arrival_id}/hand-over/preview")
def preview_hand_over(ctx: MayLook, arrival_id: Number) -> Preview:
    """What handing the device in use over to the one that arrived would change."""
    return Preview.model_validate(arrivals.preview_hand_over(ctx, arrival_id))


@router.post("/{arrival_id}/hand-over")
def apply_hand_over(ctx: MayManageDevices, arrival_id: Number, given: Apply) -> Preview:
    """Take the arrived device for the one in use, as previewed; the former credential ends."""
    return Preview.model_validate(arrivals.hand_over(ctx, arrival_id, given.digest, given.reason))


@router.post("/{arrival_id}/turn-away", status_code=204)
def turn_away(ctx: MayManageDevices, arrival_id: Number, given: ReasonGiven) -> None:
    """Let the device in use stay what it is; what arrived gets no credential."""
    arrivals.turn_away(ctx, arrival_id, given.reason)
