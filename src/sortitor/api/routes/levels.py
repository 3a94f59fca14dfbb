"""Routes: levels, discrepancies, what mends them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import polars as pl
from fastapi import Depends, Query, Request, Response

from sortitor.api.http.access import MayLevel, MayLook
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import LARGEST, Cursor, Limit, Number, page, read_cursor, read_number
from sortitor.api.http.routes import Router, wants_job
from sortitor.api.routes.jobs import Prefer, accepted
from sortitor.core.errors import BadInput
from sortitor.core.levels import TITLES, marked
from sortitor.core.vocabulary import Gap, GapState
from sortitor.operations import jobs, levels
from sortitor.schemas import levels as s
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.jobs import Job

router = Router(tags=["levels"])
_MOST_TAKEN_OUT = 100_000
_NOT_TAKEN_OUT = ("near_ours", "near_theirs")


@router.get("/levels")
def show_levels(ctx: MayLook) -> s.Levels:
    """The comparison as it was last made: rosters, patterns of presence, open disagreements."""
    return s.Levels.model_validate(levels.overview(ctx))


@router.post("/levels/compare", responses={202: {"model": Job}})
def compare_levels(response: Response, ctx: MayLevel, prefer: Prefer = None) -> s.Levels | Job:
    """Compare the fleet with every roster now; with `Prefer: respond-async` as a job."""
    if wants_job(prefer):
        return accepted(ctx, response, jobs.ask_compare(ctx))
    levels.refresh(ctx)
    return s.Levels.model_validate(levels.overview(ctx))


@router.get("/levels/trend")
def show_trend(ctx: MayLook) -> Page[s.LevelDay]:
    """How many disagreements stood open, day by day."""
    return whole(s.LevelDay.model_validate(row) for row in levels.trend(ctx))


@router.get("/levels/patterns/{mask}", response_model=Page[s.PresentDevice])
def list_pattern(
    request: Request,
    response: Response,
    ctx: MayLook,
    mask: int,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """The devices of one pattern of presence."""
    after = read_cursor(cursor)
    fits = isinstance(after, str) and (
        after.startswith("u:") or (after.startswith("d:") and after[2:].isdecimal())
    )
    if after is not None and not (fits and len(after) < 600):
        raise BadInput(
            "bad_cursor", "The cursor belongs to another list.", "Start from the first page."
        )
    if not 0 <= mask <= LARGEST:
        raise BadInput("bad_mask", f"{mask} is no pattern.", "Take one of the comparison's.")
    rows = levels.present(ctx, mask, after, limit + 1)
    return page(request, response, rows, limit, s.PresentDevice.model_validate, _mark)


def _mark(row: levels.PresentRow) -> str:
    return f"d:{row.device_id}" if row.device_id is not None else f"u:{row.identity}"


def _chosen(given: s.GapSelection) -> levels.Chosen:
    return levels.Chosen(**{**given.model_dump(), "ids": tuple(given.ids)})


def _asked(
    kind: Annotated[Gap | None, Query(description="Only of this kind.")] = None,
    source: Annotated[int | None, Query(ge=1, le=LARGEST, description="Only with this.")] = None,
    state: Annotated[
        GapState | None, Query(description="Only in this state; empty: all but closed ones.")
    ] = None,
    owner: Annotated[str | None, Query(max_length=200, description="Only whose owner is.")] = None,
    device: Annotated[int | None, Query(ge=1, le=LARGEST, description="Only of this.")] = None,
    near: Annotated[bool, Query(description="Only those that resemble a device here.")] = False,
) -> levels.Chosen:
    return levels.Chosen((), kind, source, state, owner, device, near)


def _shape(row: levels.GapRow, names: dict[int, str]) -> s.Discrepancy:
    ours, theirs = marked(row.near_serial or "", row.their_serial or "")
    near = row.near_id is not None
    values = {name: getattr(row, name) for name in s.Discrepancy.model_fields if hasattr(row, name)}
    return s.Discrepancy(
        **values,
        title=TITLES[row.kind],
        source=names.get(row.source_id, ""),
        near_ours=[s.Piece(text=text, differs=differs) for text, differs in ours] if near else [],
        near_theirs=(
            [s.Piece(text=text, differs=differs) for text, differs in theirs] if near else []
        ),
    )


Asked = Annotated[levels.Chosen, Depends(_asked)]


@router.get("/discrepancies", response_model=Page[s.Discrepancy])
def list_discrepancies(
    request: Request,
    response: Response,
    ctx: MayLook,
    asked: Asked,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """Disagreements, oldest first; `Accept: text/csv` gives the same list as CSV."""
    names = levels.source_names(ctx)
    rows = levels.page(ctx, asked, read_number(cursor), limit + 1)
    return page(request, response, rows, limit, lambda row: _shape(row, names), lambda row: row.id)


@router.get(
    "/discrepancies/export",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_discrepancies(
    ctx: MayLook, asked: Asked, form: Literal["csv", "xlsx"] = "csv"
) -> Response:
    """Disagreements as a file."""
    names = levels.source_names(ctx)
    rows = [_shape(row, names) for row in levels.page(ctx, asked, None, _MOST_TAKEN_OUT)]
    columns = [name for name in s.Discrepancy.model_fields if name not in _NOT_TAKEN_OUT]
    frame = pl.DataFrame(
        {name: [_text(getattr(row, name)) for row in rows] for name in columns},
        schema=dict.fromkeys(columns, pl.String),
    )
    return as_file(frame, "discrepancies", form)


def _text(value: Any) -> str | None:
    return None if value is None else str(value)


@router.get("/discrepancies/{gap_id}")
def show_discrepancy(ctx: MayLook, gap_id: Number) -> s.Discrepancy:
    """One disagreement, closed or not."""
    return _shape(levels.one(ctx, gap_id), levels.source_names(ctx))


@router.post("/discrepancies/decide")
def decide_discrepancies(ctx: MayLevel, given: s.GapDecision) -> s.Decided:
    """Accept disagreements, put them off, open them again, say that they were carried out by hand,
    or note whose business they are.
    """
    decision = levels.Decision(given.state, given.until_on, given.owner, given.note)
    return s.Decided(count=levels.decide(ctx, _chosen(given.which), decision, given.reason))


@router.post("/discrepancies/mend/preview")
def preview_mend(ctx: MayLook, given: s.MendAsked) -> Preview:
    """What mending disagreements would change."""
    return Preview.model_validate(levels.preview_mend(ctx, _chosen(given.which), given.mend))


@router.post("/discrepancies/mend")
def mend_discrepancies(ctx: MayLevel, given: s.MendApply) -> Preview:
    """Mend disagreements as previewed."""
    chosen = _chosen(given.which)
    return Preview.model_validate(jobs.mend(ctx, chosen, given.mend, given.digest, given.reason))
