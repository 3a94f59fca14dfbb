"""Routes: passes, arrivals, and the agent protocol."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Any

import segno
from fastapi import APIRouter, Query, Request, Response

from sortitor.api.access import Anonymous, Coordinator, Viewer, bearer, service_of
from sortitor.api.paging import Cursor, Limit, page, read_number
from sortitor.api.routes import Route
from sortitor.core import passes as core
from sortitor.core.errors import NotSignedIn
from sortitor.core.lifecycle import Sighting
from sortitor.core.vocabulary import Outcome, Stage
from sortitor.operations import arrivals
from sortitor.operations.arrivals import hash_credential
from sortitor.operations.checkins import CheckIns
from sortitor.schemas.arrivals import (
    Arrival,
    ArrivalWhole,
    CheckIn,
    CheckInAnswer,
    Knock,
    KnockAnswer,
    Pass,
    PassCode,
    PassNew,
    Relay,
    RelayAnswer,
)
from sortitor.schemas.base import Page, Reason

router = APIRouter(tags=["arrivals"], route_class=Route)
agent = APIRouter(prefix="/agent", tags=["agent"])


@router.post("/passes", status_code=201)
def add_pass(request: Request, ctx: Coordinator, given: PassNew) -> PassCode:
    """Make a pass; its code and QR are shown this once."""
    begins = given.valid_from or ctx.now
    terms = arrivals.PassTerms(
        given.label,
        given.activation,
        given.ownership,
        given.person,
        begins,
        begins + timedelta(days=given.valid_days),
        given.max_uses,
    )
    pass_id, code = arrivals.add_pass(ctx, terms)
    url = f"{ctx.limits.public_url or str(request.base_url).rstrip('/')}/welcome/{code}"
    return PassCode(
        id=pass_id,
        code=core.shown(code),
        url=url,
        qr_svg=segno.make(url, error="m").svg_inline(scale=5, border=4),
    )


@router.get("/passes", response_model=Page[Pass])
def list_passes(
    request: Request, response: Response, ctx: Viewer, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Passes, newest first."""

    def shape(row: Any) -> Pass:
        trouble = core.trouble(
            ctx.now,
            row.valid_from,
            row.valid_until,
            row.revoked_at is not None,
            row.uses,
            row.max_uses,
        )
        state = (
            "revoked"
            if row.revoked_at
            else {None: "valid", "pass_expired": "not valid now", "pass_spent": "used up"}[trouble]
        )
        return Pass.model_validate({**row._mapping, "state": state})

    return page(
        request,
        response,
        arrivals.passes(ctx, read_number(cursor), limit + 1),
        limit,
        shape,
        lambda row: row.id,
    )


@router.post("/passes/{pass_id}/revoke", status_code=204)
def revoke_pass(ctx: Coordinator, pass_id: int, given: Reason) -> None:
    """End a pass at once."""
    arrivals.revoke_pass(ctx, pass_id, given.reason)


@router.get("/arrivals", response_model=Page[Arrival])
def list_arrivals(
    request: Request,
    response: Response,
    ctx: Viewer,
    outcome: Outcome | None = None,
    waiting: Annotated[bool, Query(description="Only devices that are parked right now")] = False,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Arrivals, newest first, with every reason."""
    return page(
        request,
        response,
        arrivals.page(ctx, outcome, waiting, read_number(cursor), limit + 1),
        limit,
        Arrival.model_validate,
        lambda row: row.id,
    )


@router.get("/arrivals/{arrival_id}")
def show_arrival(ctx: Viewer, arrival_id: int) -> ArrivalWhole:
    """One arrival with its whole trace."""
    return ArrivalWhole.model_validate(arrivals.one(ctx, arrival_id))


@agent.post("/knock")
def knock(ctx: Anonymous, given: Knock) -> KnockAnswer:
    """A device arrives: the gate decides, the device is named and given its credential."""
    stated = arrivals.Knock(
        given.code,
        given.platform,
        given.os_version or None,
        given.maker or None,
        given.model or None,
        given.serial or None,
        tuple(given.imeis),
        given.person or None,
    )
    told = arrivals.knock(ctx, stated)
    return KnockAnswer(
        arrival_id=told.arrival_id,
        outcome=told.outcome,
        messages=list(dict.fromkeys(r.sentence for r in told.reasons)),
        codes=[r.code for r in told.reasons],
        device_id=told.device_id,
        name=told.name,
        credential=told.credential,
    )


def _check_ins(request: Request) -> CheckIns:
    found = service_of(request).check_ins
    assert found is not None, "check-ins are taken once the service has started"
    return found


@agent.post("/check-in")
async def check_in(request: Request, given: CheckIn) -> CheckInAnswer:
    """A sign of life, answered after it is committed."""
    credential = bearer(request)
    sink = _check_ins(request)
    found = (
        await sink.one(Sighting(hash_credential(credential), sink.now(), given.os_version or None))
        if credential
        else None
    )
    if found is None:
        raise NotSignedIn(
            "bad_credential",
            "This device credential is unknown or has ended.",
            "Let the device knock again with a pass.",
        )
    device_id, name, stage = found
    return CheckInAnswer(device_id=device_id, name=name, stage=Stage(stage))


@agent.post("/check-ins")
async def relay(request: Request, given: Relay) -> RelayAnswer:
    """Up to 1,000 check-ins that a relay gathered, in one transaction."""
    batch = [
        Sighting(hash_credential(c.credential), c.seen_at, c.os_version or None)
        for c in given.check_ins
    ]
    found = await _check_ins(request).many(batch)
    unknown = [place for place, answer in enumerate(found) if answer is None]
    return RelayAnswer(received=len(batch) - len(unknown), unknown=unknown)
