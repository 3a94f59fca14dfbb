"""Routes: the filter language, for editors."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from sortitor.api.http.access import MayLook
from sortitor.api.http.routes import Router
from sortitor.core.filters import ATTRIBUTES, OPERATORS
from sortitor.operations import filters
from sortitor.schemas.base import Page, whole
from sortitor.schemas.filters import Attribute, FilterGiven, FilterRead

router = Router(prefix="/filters", tags=["filters"])


@router.get("/attributes")
def list_attributes(ctx: MayLook) -> Page[Attribute]:
    """Everything a filter can speak of, with the comparisons that fit, for an editor that
    completes.
    """
    return whole(
        Attribute(
            name=name,
            kind=known.kind,
            meaning=known.meaning,
            operators=list(OPERATORS[known.kind]),
            words=list(known.words),
            suggests=name in filters.SUGGESTED,
        )
        for name, known in ATTRIBUTES.items()
    )


@router.get("/values")
def list_values(
    ctx: MayLook, attribute: str, beginning: Annotated[str, Query(max_length=200)] = ""
) -> Page[str]:
    """Values that devices have now for an attribute, such as their sites."""
    return whole(filters.values_of(ctx, attribute, beginning))


@router.post("/check")
def check_filter(ctx: MayLook, given: FilterGiven) -> FilterRead:
    """Read a filter: its tree and how many devices fit; a fault is told with its column and a caret
    under it.
    """
    return FilterRead.model_validate(
        filters.check(ctx, given.filter, given.in_use, given.awaited_too)
    )
