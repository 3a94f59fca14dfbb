"""Routes: cohorts, filters, saved views."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.devices import as_selection
from sortitor.api.etags import IfMatch, revision_of, tag
from sortitor.api.routes import Route
from sortitor.core.filters import ATTRIBUTES, OPERATORS
from sortitor.operations import cohorts, views
from sortitor.schemas import cohorts as c
from sortitor.schemas.base import Preview

router = APIRouter(tags=["cohorts"], route_class=Route)


def _shape(counted: cohorts.Counted) -> c.Cohort:
    row = counted.cohort
    return c.Cohort.model_validate(
        {
            **row._mapping,
            "devices": counted.devices,
            "kind": "list" if row.filter is None else "filter",
        }
    )


def _cohort(given: c.CohortNew) -> cohorts.Cohort:
    return cohorts.Cohort(given.name, given.filter or None, given.note)


@router.get("/cohorts")
def list_cohorts(ctx: Viewer) -> list[c.Cohort]:
    """Cohorts by name, each with the number of its devices now; the devices are at
    `/devices?cohort=ID`.
    """
    return [_shape(one) for one in cohorts.every(ctx)]


@router.post("/cohorts/preview")
def preview_cohort(ctx: Viewer, given: c.CohortFilter) -> Preview:
    """How many devices a filter holds, which enter and leave by it, by platform and site, with ten
    examples.
    """
    return Preview.model_validate(cohorts.preview(ctx, given.filter, given.cohort_id))


@router.post("/cohorts", status_code=201)
def add_cohort(ctx: Coordinator, given: c.CohortNew) -> c.Cohort:
    """Add a cohort by filter, or (without a filter) an empty list."""
    return _shape(cohorts.add(ctx, _cohort(given), given.digest, given.reason))


@router.get("/cohorts/{cohort_id}")
def show_cohort(response: Response, ctx: Viewer, cohort_id: int) -> c.Cohort:
    """One cohort with the number of its devices."""
    shown = _shape(cohorts.one(ctx, cohort_id))
    tag(response, shown.revision)
    return shown


@router.put("/cohorts/{cohort_id}")
def edit_cohort(
    ctx: Coordinator, cohort_id: int, given: c.CohortNew, if_match: IfMatch = None
) -> c.Cohort:
    """Change a cohort; its members are right when this answers."""
    return _shape(
        cohorts.edit(
            ctx, cohort_id, _cohort(given), revision_of(if_match), given.digest, given.reason
        )
    )


@router.delete("/cohorts/{cohort_id}", status_code=204)
def remove_cohort(ctx: Coordinator, cohort_id: int) -> None:
    """Remove a cohort that nothing speaks of (409 names what does); a revert of the journal entry
    brings it back.
    """
    cohorts.remove(ctx, cohort_id)


@router.get("/cohorts/{cohort_id}/explain")
def explain_device(
    ctx: Viewer, cohort_id: int, device: Annotated[int, Query(description="Number of the device")]
) -> c.Explained:
    """Whether a device is in a cohort, and every comparison with the device's value."""
    inside, clauses = cohorts.explain(ctx, cohort_id, device)
    return c.Explained(
        inside=inside, clauses=[c.Clause.model_validate(clause) for clause in clauses]
    )


@router.get("/cohorts/{cohort_id}/overlap/{other_id}")
def show_overlap(ctx: Viewer, cohort_id: int, other_id: int) -> c.Overlap:
    """How many devices two cohorts share."""
    only_one, both, only_other = cohorts.overlap(ctx, cohort_id, other_id)
    return c.Overlap(only_one=only_one, both=both, only_other=only_other)


@router.get("/cohorts/{cohort_id}/uses")
def list_uses(ctx: Viewer, cohort_id: int) -> list[c.Use]:
    """What speaks of the cohort."""
    return [c.Use.model_validate(use) for use in cohorts.uses(ctx, cohort_id)]


@router.get("/cohorts/{cohort_id}/history")
def show_history(ctx: Viewer, cohort_id: int) -> list[c.DayCount]:
    """How many devices it had on the days of the past year."""
    return [c.DayCount(day=day, devices=number) for day, number in cohorts.history(ctx, cohort_id)]


@router.post("/cohorts/{cohort_id}/devices/preview")
def preview_list_change(ctx: Coordinator, cohort_id: int, given: c.ListChange) -> Preview:
    """Which devices would come to a list or go from it."""
    return Preview.model_validate(
        cohorts.preview_list(ctx, cohort_id, as_selection(given.selection), given.put_in)
    )


@router.post("/cohorts/{cohort_id}/devices/apply")
def apply_list_change(ctx: Coordinator, cohort_id: int, given: c.ListChangeApply) -> Preview:
    """Change a list as previewed."""
    return Preview.model_validate(
        cohorts.change_list(
            ctx, cohort_id, as_selection(given.selection), given.put_in, given.digest, given.reason
        )
    )


@router.get("/filters/attributes")
def list_attributes(ctx: Viewer) -> list[c.Attribute]:
    """Everything a filter can speak of, with the comparisons that fit, for an editor that
    completes.
    """
    return [
        c.Attribute(
            name=name,
            kind=known.kind,
            meaning=known.meaning,
            operators=list(OPERATORS[known.kind]),
            words=list(known.words),
            suggests=name in cohorts.SUGGESTED,
        )
        for name, known in ATTRIBUTES.items()
    ]


@router.get("/filters/values")
def list_values(
    ctx: Viewer, attribute: str, beginning: Annotated[str, Query(max_length=200)] = ""
) -> list[str]:
    """Values that devices have now for an attribute, such as their sites."""
    return cohorts.values_of(ctx, attribute, beginning)


@router.post("/filters/check")
def check_filter(ctx: Viewer, given: c.FilterGiven) -> c.FilterRead:
    """Read a filter: its tree and how many devices fit; a fault is told with its column and a caret
    under it.
    """
    return c.FilterRead.model_validate(cohorts.check_filter(ctx, given.filter))


@router.get("/views")
def list_views(ctx: Viewer) -> list[c.View]:
    """Saved views: one's own and those that others share."""
    return [_view(ctx, row) for row in views.every(ctx)]


def _view(ctx: Viewer, row: Any) -> c.View:
    return c.View.model_validate({**row._mapping, "mine": row.account_id == ctx.actor.account_id})


@router.post("/views", status_code=201)
def save_view(ctx: Viewer, given: c.ViewNew) -> c.View:
    """Keep a view under a name."""
    return _view(ctx, views.save(ctx, given.name, given.shared, given.settings.model_dump()))


@router.delete("/views/{view_id}", status_code=204)
def remove_view(ctx: Viewer, view_id: int) -> None:
    """Forget a view of one's own."""
    views.remove(ctx, view_id)
