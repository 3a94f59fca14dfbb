"""Routes: cohorts."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from sortitor.api.http.access import MayLook, MaySort
from sortitor.api.http.documents import Key, Noun, document_router
from sortitor.api.http.routes import Router
from sortitor.api.http.selections import selection_of
from sortitor.core.access import Permission
from sortitor.core.cohorts import Cohort
from sortitor.operations.cohorts import documents as cohorts
from sortitor.operations.cohorts import lists, reading
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.schemas import cohorts as c
from sortitor.schemas.base import Page, Preview, whole

router = Router(tags=["cohorts"])


def _shape(counted: cohorts.CountedCohort) -> c.CohortDetail:
    row = counted.row
    return c.CohortDetail(
        id=row.id,
        revision=row.revision,
        name=row.name,
        kind="list" if row.filter is None else "filter",
        filter=row.filter,
        note=row.note,
        moving=row.moving,
        devices=counted.devices,
        created_by=row.created_by,
        created_at=row.created_at,
    )


def _made(ctx: Context, kept: Kept[Cohort]) -> c.CohortDetail:
    return _shape(cohorts.one(ctx, kept.id))


router.include_router(
    document_router(
        Noun(
            kind=cohorts.COHORTS,
            path="/cohorts",
            tag="cohorts",
            one="cohort",
            many="cohorts",
            answer=c.CohortDetail,
            every=lambda ctx: [_shape(one) for one in cohorts.every(ctx)],
            find=lambda ctx, key: _shape(cohorts.one(ctx, key)),
            shape=_made,
            may=Permission.SORT,
        )
    )
)


@router.get("/cohorts/{key}/explain")
def explain_device(
    ctx: MayLook, key: Key, device: Annotated[int, Query(description="Number of the device")]
) -> c.Explained:
    """Whether a device is in a cohort, and every comparison with the device's value."""
    inside, clauses = reading.explain(ctx, key, device)
    return c.Explained(
        inside=inside, clauses=[c.Clause.model_validate(clause) for clause in clauses]
    )


@router.get("/cohorts/{key}/overlap/{other}")
def show_overlap(ctx: MayLook, key: Key, other: Key) -> c.Overlap:
    """How many devices two cohorts share."""
    only_one, both, only_other = reading.overlap(ctx, key, other)
    return c.Overlap(only_one=only_one, both=both, only_other=only_other)


@router.get("/cohorts/{key}/uses")
def list_uses(ctx: MayLook, key: Key) -> Page[c.Use]:
    """What speaks of the cohort."""
    return whole(c.Use.model_validate(use) for use in cohorts.uses(ctx, key))


@router.get("/cohorts/{key}/history")
def show_history(ctx: MayLook, key: Key) -> Page[c.DayCount]:
    """How many devices it had on the days of the past year."""
    return whole(c.DayCount(day=day, devices=number) for day, number in reading.history(ctx, key))


@router.post("/cohorts/{key}/devices/preview")
def preview_list_change(ctx: MayLook, key: Key, given: c.ListChange) -> Preview:
    """Which devices would come to a list or go from it."""
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(lists.preview(ctx, key, selection, given.put_in))


@router.post("/cohorts/{key}/devices/apply")
def apply_list_change(ctx: MaySort, key: Key, given: c.ListChangeApply) -> Preview:
    """Change a list as previewed."""
    selection = selection_of(ctx, given.selection)
    done = lists.change(ctx, key, selection, given.put_in, given.digest, given.reason)
    return Preview.model_validate(done)
