"""Routes: passes."""

from __future__ import annotations

from typing import Any

import segno
from fastapi import Request, Response
from segno import helpers

from sortitor.api.http.access import MayLook, MayPrepare, service_of
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Router, made_at
from sortitor.core import passes as core
from sortitor.core.passes import PassTerms
from sortitor.operations.arrivals import PassRow, passes, trouble_of
from sortitor.operations.context import Context
from sortitor.schemas.base import Page, ReasonGiven, whole
from sortitor.schemas.passes import (
    Pass,
    PassCode,
    PassCount,
    PassesGiven,
    PassGiven,
    PassOfPerson,
    PassUse,
    Revoking,
    WifiGiven,
)

router = Router(prefix="/passes", tags=["passes"])
_STATES = {None: "valid", "pass_expired": "not valid now", "pass_spent": "used up"}


@router.post("", status_code=201)
def add_pass(request: Request, response: Response, ctx: MayPrepare, given: PassGiven) -> PassCode:
    """Make a pass; its code and QR are shown this once."""
    terms = PassTerms.model_validate(given.model_dump(exclude={"passcode", "mailed", "wifi"}))
    made = passes.add(ctx, terms, given.passcode, given.mailed)
    made_at(response, f"/passes/{made.id}")
    # After the #, which no browser sends: the code is in nobody's log.
    url = f"{service_of(request).public_url}/welcome#{made.code}"
    return PassCode(
        id=made.id,
        code=core.shown(made.code),
        url=url,
        qr_svg=segno.make(url, error="m").svg_inline(scale=5, border=4),
        wifi_svg=_wifi_qr(given.wifi) if given.wifi else None,
    )


def _wifi_qr(wifi: WifiGiven) -> str:
    made: str = helpers.make_wifi(
        ssid=wifi.ssid,
        password=wifi.password,
        security="WPA" if wifi.password else None,
        hidden=wifi.hidden,
    ).svg_inline(scale=4, border=4)
    return made


@router.post("/batch", status_code=201)
def add_passes(response: Response, ctx: MayPrepare, given: PassesGiven) -> Page[PassOfPerson]:
    """Make a pass each for many people, in one action; mailed, or with their codes this once.
    `Location` is the first, which lists the people of all.
    """
    made = passes.add_for_people(
        ctx, given.terms, given.people, given.group, given.passcode, given.mailed
    )
    if made:
        made_at(response, f"/passes/{made[0].id}")
    return whole(
        PassOfPerson(
            id=one.id,
            person=one.person.user_name if one.person else "",
            code=None if given.mailed else core.shown(one.code),
        )
        for one in made
    )


@router.get("", response_model=Page[Pass])
def list_passes(
    request: Request, response: Response, ctx: MayLook, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Passes, newest first; of those made in one action the first."""
    return page(
        request,
        response,
        rows=passes.every(ctx, read_number(cursor), limit + 1),
        limit=limit,
        shape=lambda row: _shape(ctx, row),
        key=lambda row: row.id,
    )


@router.get("/{pass_id}")
def show_pass(ctx: MayLook, pass_id: Number) -> Pass:
    """One pass: what it says, and how often it was used."""
    return _shape(ctx, passes.one(ctx, pass_id))


@router.get("/{pass_id}/people")
def list_pass_people(ctx: MayLook, pass_id: Number) -> Page[PassUse]:
    """Who has this pass or one that was made with it, whether it was mailed and used."""
    return whole(PassUse.model_validate(row) for row in passes.uses(ctx, pass_id))


def _shape(ctx: Context, row: PassRow) -> Pass:
    terms = row.terms
    state = "revoked" if row.revoked_at else _STATES[trouble_of(ctx, row)]
    return Pass(
        id=row.id,
        label=terms.label,
        activation=terms.activation,
        ownership=terms.ownership,
        asks_ownership=terms.asks_ownership,
        sign_in=terms.sign_in,
        has_passcode=row.passcode_hash is not None,
        cohort=terms.cohort,
        person_name=row.person_name if row.made == 1 else None,
        valid_from=row.valid_from,
        valid_until=row.valid_until,
        max_uses=row.max_uses,
        uses=row.uses,
        created_by=row.created_by,
        created_at=row.created_at,
        revoked_at=row.revoked_at,
        mailed_at=row.mailed_at,
        made=row.made,
        used=row.used,
        state=state,
    )


@router.post("/{pass_id}/revoke")
def revoke_pass(ctx: MayPrepare, pass_id: Number, given: Revoking) -> PassCount:
    """End a pass at once, or all that were made with it."""
    return PassCount(count=passes.revoke(ctx, pass_id, given.whole_batch, given.reason))


@router.post("/{pass_id}/remind")
def remind_of_pass(ctx: MayPrepare, pass_id: Number, given: ReasonGiven) -> PassCount:
    """Mail those who have not used their pass."""
    return PassCount(count=passes.remind(ctx, pass_id))
