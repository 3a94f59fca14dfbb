"""Routes: mails."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response

from sortitor.api.http.access import MayAdminister, MayLook
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Router
from sortitor.core.vocabulary import MailState
from sortitor.operations import mail
from sortitor.schemas.base import Page, ReasonGiven
from sortitor.schemas.mails import Mail, MailTest

router = Router(prefix="/mails", tags=["mails"])


@router.get("", response_model=Page[Mail])
def list_mails(
    request: Request,
    response: Response,
    ctx: MayLook,
    state: Annotated[MailState | None, Query(description="Only those in this state")] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Mails that wait, were sent or could not be, newest first."""
    return page(
        request,
        response,
        rows=mail.page(ctx, state, read_number(cursor), limit + 1),
        limit=limit,
        shape=Mail.model_validate,
        key=lambda row: row.id,
    )


@router.post("/test", status_code=204)
def send_test_mail(ctx: MayAdminister, given: MailTest) -> None:
    """Send a mail to this address, to see that mails go out."""
    mail.send_test(ctx, given.address)


@router.post("/{mail_id}/again", status_code=204)
def send_mail_again(ctx: MayAdminister, mail_id: Number, given: ReasonGiven) -> None:
    """Try a mail that waits or has failed at once."""
    mail.try_again(ctx, mail_id)
