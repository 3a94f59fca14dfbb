"""Which devices a request means: through the veil of whoever asks, and in no other way."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import Depends, Query

from sortitor.api.http.access import MayLook
from sortitor.core.filters import all_of
from sortitor.core.selection import Selection as Chosen
from sortitor.operations import licences
from sortitor.operations.cohorts.documents import COHORTS
from sortitor.operations.context import Context
from sortitor.schemas.selection import Selection


def selection_of(ctx: Context, given: Selection) -> Chosen:
    """The devices that the body of a request names."""
    return ctx.veil.selection(
        ids=given.ids,
        identifiers=given.identifiers,
        person_id=given.person_id,
        cohort_id=given.cohort_id,
        lot_id=given.lot_id,
        query=given.query,
        filter_text=given.filter,
    )


def _from_query(
    ctx: MayLook,
    query: Annotated[
        str | None,
        Query(
            max_length=200,
            description="Serial, its last characters, IMEI, name, person, asset tag",
        ),
    ] = None,
    person: Annotated[int | None, Query(description="Devices of this person")] = None,
    cohort: Annotated[
        str | None, Query(description="Devices of this cohort, by number or name")
    ] = None,
    lot: Annotated[int | None, Query(description="Devices that this lot added or changed")] = None,
    pool: Annotated[
        str | None,
        Query(description="Devices that take a seat of this licence pool, by number or name"),
    ] = None,
    filter_text: Annotated[
        str | None,
        Query(
            alias="filter",
            description="In the filter language (RFC 7644 §3.4.2.2), such as"
            ' `site sw "Quill" and idleDays ge 90`',
        ),
    ] = None,
) -> Chosen:
    asked = ctx.veil.selection(
        query=query,
        person_id=person,
        cohort_id=None if cohort is None else COHORTS.one(ctx, cohort).id,
        lot_id=lot,
        filter_text=filter_text,
    )
    if pool is None:
        return asked
    return replace(asked, filter=all_of(licences.filter_of(ctx, pool), asked.filter))


#: The devices that the query of a request names.
Asked = Annotated[Chosen, Depends(_from_query)]
