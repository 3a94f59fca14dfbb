"""Routes: terms that must be accepted at the door."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response

from sortitor.api.http.access import MayLook
from sortitor.api.http.documents import Key, Noun, document_router
from sortitor.api.http.paging import Cursor, Limit, page, read_number
from sortitor.core.access import Permission
from sortitor.core.terms import Terms
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.operations.terms import TERMS, acceptances, as_html
from sortitor.schemas.base import Page
from sortitor.schemas.terms import Acceptance, TermsDetail, TermsPage


def _shape(ctx: Context, kept: Kept[Terms]) -> TermsDetail:
    return TermsDetail(**kept.document.model_dump(), id=kept.id, revision=kept.revision)


router = document_router(
    Noun(
        kind=TERMS,
        path="/terms",
        tag="terms",
        one="terms",
        many="all_terms",
        answer=TermsDetail,
        every=lambda ctx: [_shape(ctx, kept) for kept in TERMS.every(ctx)],
        find=lambda ctx, key: _shape(ctx, TERMS.one(ctx, key)),
        shape=_shape,
        may=Permission.PREPARE,
    )
)


@router.get("/{key}/acceptances", response_model=Page[Acceptance])
def list_acceptances(
    request: Request,
    response: Response,
    ctx: MayLook,
    key: Key,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Who accepted the terms, in whichever version, newest first."""
    return page(
        request,
        response,
        acceptances(ctx, key, read_number(cursor), limit + 1),
        limit,
        Acceptance.model_validate,
        lambda row: row.id,
    )


@router.get("/{key}/page")
def show_terms_page(
    ctx: MayLook,
    key: Key,
    language: Annotated[str | None, Query(max_length=20, description="BCP 47")] = None,
) -> TermsPage:
    """The terms as a person sees them."""
    spoken, text = as_html(TERMS.one(ctx, key).document, language)
    return TermsPage(language=spoken, html=text)
