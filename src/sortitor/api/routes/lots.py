"""Routes: lots."""

from __future__ import annotations

import dataclasses
from functools import partial
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import Query, Request, Response

from sortitor.api.http.access import MayImport, MayLook, MaySeePersonal
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import LARGEST, Cursor, Limit, Number, page, read_key, read_number
from sortitor.api.http.routes import Router, made_at, wants_job
from sortitor.api.routes.jobs import Prefer, accepted
from sortitor.core.dates import Order
from sortitor.core.errors import BadInput, Unsupported
from sortitor.core.lots import Manner
from sortitor.core.manifests import Reading
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import LotStatus, Verdict
from sortitor.operations import jobs, lots, seals
from sortitor.operations.context import Context
from sortitor.operations.lots import Chosen, HeadRow
from sortitor.operations.lots import LotRow as LotRowKept
from sortitor.schemas.base import Apply, Page, Preview, ReasonGiven, whole
from sortitor.schemas.jobs import Job
from sortitor.schemas.lots import (
    Lot,
    LotRow,
    LotSettings,
    LotTaken,
    Note,
    NoteGroup,
    Remark,
    RowEdit,
    RowRemedy,
    Rows,
)

router = Router(prefix="/lots", tags=["lots"])


def _pairs(given: list[str], what: str) -> dict[str, str]:
    pairs = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals or not name.strip() or not value.strip():
            raise BadInput(
                "bad_pair",
                f"{what} {text!r} is not of the form name=value.",
                f"Write such as {what}=site=Harbour.",
            )
        pairs[name.strip()] = value.strip()
    return pairs


@router.post(
    "",
    status_code=201,
    openapi_extra=FILE_BODY,
    responses={
        200: {"model": LotTaken, "description": "The lot of this very file, given before"},
        202: {"model": LotTaken},
    },
)
def check_lot(
    request: Request,
    response: Response,
    ctx: MayImport,
    body: FileBody,
    name: Annotated[str | None, Query(max_length=200)] = None,
    file_name: Annotated[str | None, Query(max_length=300)] = None,
    default: Annotated[
        list[str], Query(description="field=value for blank cells, such as ownership=corporate")
    ] = [],  # noqa: B006
    column: Annotated[
        list[str],
        Query(
            description="column=header where the header does not say it, such as serial=Box number"
        ),
    ] = [],  # noqa: B006
    overwrite_manual: bool = False,
    by_hand: Annotated[
        bool,
        Query(description="State the ownership by hand, which a supplier's file cannot change"),
    ] = False,
    add_unknown: Annotated[
        bool | None,
        Query(
            description="Add devices that nobody knows. Empty: those of a table are added, those of"
            " a pasted list or of a statement by hand are not"
        ),
    ] = None,
    sheet: Annotated[
        list[str], Query(max_length=100, description="Of a workbook; several are taken together")
    ] = [],  # noqa: B006
    header_row: Annotated[
        int | None, Query(ge=0, le=1_000_000, description="The headers' line; 0: there are none")
    ] = None,
    encoding: Annotated[
        str | None, Query(max_length=40, description="Of a text, such as Windows-1250")
    ] = None,
    date_order: Annotated[
        list[str],
        Query(description="header=day or header=month: which comes first, as in Bought=day"),
    ] = [],  # noqa: B006
    like: Annotated[
        int | None,
        Query(
            description="Take defaults and columns from this lot, such as for its mended rejects"
        ),
    ] = None,
    prefer: Prefer = None,
) -> Lot | LotTaken:
    """Check a file of any format, or a paste (text/plain), whole, and keep it as a draft with a
    verdict per row.

    The format is recognised by the content. With `Prefer: respond-async` a job does it.
    """
    media = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if media in ("application/json", "multipart/form-data", "application/x-www-form-urlencoded"):
        raise Unsupported(
            "media_type",
            f"The content type {media} is not one that lots take.",
            "Send the file's bytes as text/csv or application/octet-stream, pasted identifiers as"
            " text/plain.",
        )
    settings = lots.Settings(
        defaults=_pairs(default, "default"),
        columns=_pairs(column, "column"),
        overwrite_manual=overwrite_manual,
        by_hand=by_hand,
        add_unknown=add_unknown,
        reading=Reading(
            sheet[0] if len(sheet) == 1 else None,
            header_row,
            encoding,
            tuple(sheet) if len(sheet) > 1 else (),
        ),
        manner=Manner(dates=_orders(date_order)),
    )
    if like is not None:
        settings = _like(lots.one(ctx, like), settings)
    given = lots.Given(
        content=body,
        form="paste" if media == "text/plain" else "table",
        name=name or file_name or "Pasted identifiers",
        file_name=file_name,
        settings=settings,
    )
    if wants_job(prefer):
        kept, job = jobs.ask_check(ctx, given)
        return LotTaken(lot_id=kept.id, job=job and accepted(ctx, response, job))
    lot, fresh = lots.check(ctx, given)
    made_at(response, f"/lots/{lot.id}")
    if not fresh:
        response.status_code = 200
    return _shape(ctx, lot, repeated=not fresh)


def _orders(given: list[str]) -> dict[str, Order]:
    orders: dict[str, Order] = {}
    for header, order in _pairs(given, "date_order").items():
        if order not in ("day", "month"):
            raise BadInput(
                "bad_order",
                f"{order!r} is no order of dates.",
                "Write day or month: which of them comes first.",
            )
        orders[header] = "day" if order == "day" else "month"
    return orders


def _like(lot: HeadRow, settings: lots.Settings) -> lots.Settings:
    columns = {}
    if lot.columns_from != "meaning":
        columns = {column: header for header, column in lot.columns.items()}
    return dataclasses.replace(
        settings,
        defaults={**lot.defaults, **settings.defaults},
        columns={**columns, **settings.columns},
    )


def _shape(ctx: Context, row: HeadRow, repeated: bool = False) -> Lot:
    told = lots.veiled_understanding(ctx, row)
    manner = row.reading.get("manner", {})
    lot = Lot.model_validate(
        {
            **{field.name: getattr(row, field.name) for field in dataclasses.fields(row)},
            "above": [{"line": line, "cells": cells} for line, cells in told.get("above", [])],
            "remarks": [
                _remark(remark)
                for part in ("file", "columns", "cells")
                for remark in told.get(part, [])
            ],
            "manner": {
                "dates": manner.get("dates", {}),
                "trusted": manner.get("trusted", []),
                "makers": manner.get("spellings", {}).get("maker", {}),
            },
            "sheets_read": row.reading.get("sheets", []),
        }
    )
    lot.counts = {verdict: lot.counts.get(verdict, 0) for verdict in Verdict}
    lot.repeated = repeated
    return lot


def _remark(kept: dict[str, Any]) -> Remark:
    rows = sum(last - first + 1 for first, last in kept["rows"])
    note = _note(kept["code"], kept["column"], kept["given"])
    return Remark(**note.model_dump(), rows=rows)


@router.get("", response_model=Page[Lot])
def list_lots(
    request: Request,
    response: Response,
    ctx: MayLook,
    status: LotStatus | None = None,
    query: Annotated[
        str | None,
        Query(max_length=200, description="In name, file name, supplier, order or who checked it"),
    ] = None,
    sort: Annotated[
        Literal["id", "name", "status", "created_by"],
        Query(description="The order; the number is when it was checked."),
    ] = "id",
    descending: Annotated[bool, Query(description="The last first.")] = True,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Lots, newest first, or in the order asked for."""
    return page(
        request,
        response,
        lots.page(ctx, read_key(cursor), limit + 1, status, query, sort, descending),
        limit,
        partial(_shape, ctx),
        lambda row: [row.sort_key, row.id],
    )


@router.get("/{lot_id}")
def show_lot(ctx: MayLook, lot_id: Number) -> Lot:
    """One lot: how it was read, its columns, and how many rows have which verdict."""
    return _shape(ctx, lots.one(ctx, lot_id))


@router.get("/{lot_id}/rows", response_model=Page[LotRow])
def list_rows(
    request: Request,
    response: Response,
    ctx: MayLook,
    lot_id: Number,
    verdict: Verdict | None = None,
    note: Annotated[str | None, Query(description="Only rows with this note code")] = None,
    first: Annotated[
        int, Query(ge=1, le=LARGEST, description="From the row of this number on")
    ] = 1,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """Rows in the order of the file, each with its cells as given, its verdict and its notes."""
    after = read_number(cursor) or first - 1
    rows = lots.rows(ctx, lot_id, verdict, note, after, limit + 1)
    return page(request, response, rows, limit, _row, lambda row: row.row)


def _note(code: str, column: str | None, given: str | None) -> Note:
    kind = CATALOGUE[code]
    return Note(
        code=code,
        severity=kind.severity,
        title=kind.title,
        remedy=kind.remedy,
        column=column or None,
        given=given,
    )


def _row(row: LotRowKept) -> LotRow:
    notes = [_note(**note) for note in row.notes or []]
    return LotRow(
        device_name=row.device_name,
        row=row.row,
        verdict=row.verdict,
        cells=row.cells,
        kept=row.kept,
        edited=row.edited or {},
        remedy=row.remedy,
        device_id=row.device_id,
        changes=row.changes,
        notes=notes,
    )


@router.get("/{lot_id}/notes")
def list_notes(ctx: MayLook, lot_id: Number) -> Page[NoteGroup]:
    """The notes grouped, most frequent first; each group leads to its rows by `rows?note=CODE`."""
    return whole(
        NoteGroup(**_note(row.code, row.column, row.given).model_dump(), rows=row.rows)
        for row in lots.note_groups(ctx, lot_id)
    )


@router.get(
    "/{lot_id}/file",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}}},
)
def download_file(ctx: MaySeePersonal, lot_id: Number) -> Response:
    """The file as it was given, byte for byte.

    It may name personal devices, so it is for those who may see their identifiers.
    """
    lot, content = lots.content(ctx, lot_id)
    seals.note_export(ctx, "lot", f"The file of lot {lot_id} taken out")
    name = quote(lot.file_name or f"lot-{lot_id}.txt")
    return Response(
        content,
        media_type="application/octet-stream",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{name}"},
    )


@router.get(
    "/{lot_id}/takeout",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def take_out(
    ctx: MayLook,
    lot_id: Number,
    form: Literal["csv", "xlsx"] = "csv",
    verdict: Annotated[list[Verdict], Query()] = [Verdict.CONFLICT, Verdict.REJECT],  # noqa: B006
) -> Response:
    """Rows that stayed behind, in the shape of the original with a `problem` column; mended, they
    import with `like` this lot.
    """
    _, frame = lots.takeout(ctx, lot_id, verdict)
    seals.note_export(ctx, "lot", f"{frame.height:,} rows of lot {lot_id} taken out")
    return as_file(frame, f"lot-{lot_id}-to-mend", form)


@router.post("/{lot_id}/settings")
def read_lot_again(ctx: MayImport, lot_id: Number, given: LotSettings) -> Lot:
    """Read a draft in another way: columns, defaults, sheets, header line, encoding, dates, makers.

    It is checked again at once.
    """
    asked = given.model_dump(exclude_unset=True)
    names = ("sheet", "sheets", "header_row", "encoding")
    reading = {name: asked[name] for name in names if name in asked}
    return _shape(
        ctx,
        lots.read_again(
            ctx,
            lot_id,
            lots.Change(
                columns=given.columns,
                defaults=given.defaults,
                reading=reading,
                dates=given.dates,
                trusted=given.trusted,
                makers=given.makers,
                overwrite_manual=given.overwrite_manual,
                by_hand=given.by_hand,
                add_unknown=given.add_unknown,
                name=given.name,
            ),
        ),
    )


def _chosen(given: Rows) -> Chosen:
    return Chosen(tuple(given.rows), given.note, given.verdict)


@router.post("/{lot_id}/edit")
def edit_rows(ctx: MayImport, lot_id: Number, given: RowEdit) -> Lot:
    """Set one cell, or one column of many rows, and check again at once."""
    return _shape(ctx, lots.edit(ctx, lot_id, _chosen(given), given.column, given.value))


@router.post("/{lot_id}/resolve")
def resolve_rows(ctx: MayImport, lot_id: Number, given: RowRemedy) -> Lot:
    """Leave rows out, take lines as rows, take devices back, merge them; null undoes it."""
    return _shape(ctx, lots.choose(ctx, lot_id, _chosen(given), given.remedy))


@router.post("/{lot_id}/preview")
def preview_apply(ctx: MayImport, lot_id: Number) -> Preview:
    """Check the draft against the fleet as it is now, and show what applying would do."""
    return Preview.model_validate(lots.preview(ctx, lot_id))


@router.post("/{lot_id}/apply", responses={202: {"model": Job}})
def apply_lot(
    response: Response, ctx: MayImport, lot_id: Number, given: Apply, prefer: Prefer = None
) -> Lot | Job:
    """Apply as previewed, in one transaction; with `Prefer: respond-async` as a job."""
    if wants_job(prefer):
        return accepted(ctx, response, jobs.ask(ctx, "apply", lot_id, given.model_dump()))
    return _shape(ctx, lots.apply(ctx, lot_id, given.digest, given.reason))


@router.post("/{lot_id}/discard")
def discard_lot(ctx: MayImport, lot_id: Number, given: ReasonGiven) -> Lot:
    """Put a draft aside."""
    return _shape(ctx, lots.discard(ctx, lot_id, given.reason))


@router.post("/{lot_id}/revert/preview")
def preview_revert_lot(ctx: MayLook, lot_id: Number) -> Preview:
    """What reverting would do, and what it would leave and why."""
    return Preview.model_validate(lots.preview_revert(ctx, lot_id))


@router.post("/{lot_id}/revert", responses={202: {"model": Job}})
def revert_lot(
    response: Response, ctx: MayImport, lot_id: Number, given: Apply, prefer: Prefer = None
) -> Lot | Job:
    """Revert as previewed; with `Prefer: respond-async` as a job."""
    if wants_job(prefer):
        return accepted(ctx, response, jobs.ask(ctx, "revert", lot_id, given.model_dump()))
    return _shape(ctx, lots.revert(ctx, lot_id, given.digest, given.reason))
