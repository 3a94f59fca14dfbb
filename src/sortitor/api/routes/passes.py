"""Routes: passes."""

from __future__ import annotations

from typing import Any

import segno
from fastapi import APIRouter, Request, Response

from sortitor.api.http.access import MayLook, MayPrepare, service_of
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Route
from sortitor.core import passes as core
from sortitor.core.passes import PassTerms
from sortitor.operations import arrivals
from sortitor.operations.arrivals import PassRow
from sortitor.operations.context import Context
from sortitor.schemas.base import Page, ReasonGiven
from sortitor.schemas.passes import Pass, PassCode

router = APIRouter(prefix="/passes", tags=["passes"], route_class=Route)
_STATES = {None: "valid", "pass_expired": "not valid now", "pass_spent": "used up"}


@router.post("", status_code=201)
def add_pass(request: Request, ctx: MayPrepare, given: PassTerms) -> PassCode:
    """Make a pass; its code and QR are shown this once."""
    pass_id, code = arrivals.add_pass(ctx, given)
    # After the #, which no browser sends: the code is in nobody's log.
    url = f"{service_of(request).public_url}/welcome#{code}"
    return PassCode(
        id=pass_id,
        code=core.shown(code),
        url=url,
        qr_svg=segno.make(url, error="m").svg_inline(scale=5, border=4),
    )


@router.get("", response_model=Page[Pass])
def list_passes(
    request: Request, response: Response, ctx: MayLook, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Passes, newest first."""
    return page(
        request,
        response,
        rows=arrivals.passes(ctx, read_number(cursor), limit + 1),
        limit=limit,
        shape=lambda row: _shape(ctx, row),
        key=lambda row: row.id,
    )


def _shape(ctx: Context, row: PassRow) -> Pass:
    terms = row.terms
    state = "revoked" if row.revoked_at else _STATES[arrivals.trouble_of(ctx, row)]
    return Pass(
        id=row.id,
        label=terms.label,
        activation=terms.activation,
        ownership=terms.ownership,
        person_name=row.person_name,
        valid_from=row.valid_from,
        valid_until=row.valid_until,
        max_uses=row.max_uses,
        uses=row.uses,
        created_by=row.created_by,
        revoked_at=row.revoked_at,
        state=state,
    )


@router.post("/{pass_id}/revoke", status_code=204)
def revoke_pass(ctx: MayPrepare, pass_id: Number, given: ReasonGiven) -> None:
    """End a pass at once."""
    arrivals.revoke_pass(ctx, pass_id, given.reason)
