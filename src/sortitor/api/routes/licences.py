"""Routes: licence pools, vouchers, the month's report."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query, Response

from sortitor.api.http.access import MayLicense, MayLook
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.documents import Key, Noun, document_router
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.routes import Router
from sortitor.core.access import Permission
from sortitor.core.licences.compare import Outcome
from sortitor.core.licences.pools import Pool
from sortitor.operations import licences, pictures, seals
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.schemas import licences as s
from sortitor.schemas.base import Page, Preview, whole


def _shape(ctx: Context, counted: licences.CountedPool) -> s.PoolDetail:
    kept, standing = counted.kept, counted.standing
    books = counted.course.books
    return s.PoolDetail(
        **kept.document.model_dump(),
        id=kept.id,
        revision=kept.revision,
        needed=counted.needed,
        state=counted.state,
        held=standing.seats,
        in_grace=standing.in_grace,
        free=max(0, standing.seats - counted.needed),
        ends_on=standing.ends_on,
        ended_on=standing.ended_on,
        lasts_on=standing.lasts_on,
        seat_days=books.at(ctx.today).seat_days if books else None,
    )


def _made(ctx: Context, kept: Kept[Pool]) -> s.PoolDetail:
    return _shape(ctx, licences.counted(ctx, kept))


router = Router(tags=["licences"])
router.include_router(
    document_router(
        Noun(
            kind=licences.POOLS,
            path="/pools",
            tag="licences",
            one="pool",
            many="pools",
            answer=s.PoolDetail,
            every=lambda ctx: [_shape(ctx, one) for one in licences.every(ctx)],
            find=lambda ctx, key: _shape(ctx, licences.one(ctx, key)),
            shape=_made,
            may=Permission.LICENSE,
        )
    )
)


def _voucher(found: licences.VoucherRead) -> s.Voucher:
    voucher, claims = found.voucher, found.voucher.claims
    return s.Voucher(
        number=claims.jti,
        used_as=found.used_as,
        source_id=voucher.source_id,
        issuer=voucher.source,
        made_at=voucher.made_at,
        product=claims.product,
        seats=claims.seats,
        days=claims.days,
        trial=claims.trial,
        words=voucher.words,
        pools=[s.PoolNamed(id=kept.id, name=kept.document.name) for kept in found.pools],
        booked=found.booked and s.Grant.model_validate(found.booked),
    )


def _outcome(found: Outcome) -> s.PoolOutcome:
    standing = found.standing
    return s.PoolOutcome(
        act=found.act,
        state=found.state,
        held=standing.seats,
        in_grace=standing.in_grace,
        ends_on=standing.ends_on,
        whole_days=None if found.days is None else int(found.days),
        seat_days=found.seat_days,
        moved_days=found.moved_days,
        uncovered=found.uncovered,
        uncovered_on=found.uncovered_on,
        without=found.without,
        unused=found.unused,
    )


@router.post("/vouchers/read")
def read_voucher(ctx: MayLook, given: s.VoucherText) -> s.Voucher:
    """What a voucher is, and which pools it is for; nothing is written."""
    return _voucher(licences.read(ctx, given.text))


@router.post("/vouchers/picture", openapi_extra=FILE_BODY)
def read_picture(ctx: MayLook, body: FileBody) -> s.VoucherText:
    """The voucher in a picture of its code, such as a photograph of a sheet; nothing is written."""
    return s.VoucherText(text=pictures.codes_in(body)[0])


@router.post("/pools/{key}/compare")
def compare_voucher(ctx: MayLook, key: Key, given: s.VoucherText) -> s.Comparison:
    """What a voucher would do to a pool, each way; nothing is written."""
    found = licences.compare(ctx, key, given.text)
    comparison = found.comparison
    return s.Comparison(
        voucher=_voucher(found.read),
        needed=found.pool.needed,
        now=_outcome(comparison.now),
        outcomes=[_outcome(one) for one in comparison.outcomes],
        gained=comparison.gained,
        until=comparison.until,
        best=comparison.best,
        latest=[
            s.SeatTaker(
                id=row.id,
                name=row.name,
                serial=ctx.veil.identifier(row.serial, row.ownership),
                stage=row.stage,
                site=row.site,
                person_name=row.person_name,
                since=row.since,
            )
            for row in found.latest
        ],
    )


@router.get("/pools/{key}/grants")
def list_grants(ctx: MayLook, key: Key) -> Page[s.Grant]:
    """The vouchers of a pool, newest first, also those taken back."""
    return whole(s.Grant.model_validate(row) for row in licences.history(ctx, key))


@router.post("/pools/{key}/grants/preview")
def preview_grant(ctx: MayLook, key: Key, given: s.GrantAsked) -> Preview:
    """What using a voucher one way would do; nothing is written."""
    return Preview.model_validate(licences.preview(ctx, key, given.text, given.act))


@router.post("/pools/{key}/grants/apply")
def apply_grant(ctx: MayLicense, key: Key, given: s.GrantApply) -> s.Grant:
    """Use a voucher as previewed. Reverting its journal entry takes it back, for 30 days."""
    row = licences.apply(ctx, key, given.text, given.act, given.digest, given.reason)
    return s.Grant.model_validate(row)


@router.get("/pools/{key}/course")
def show_course(ctx: MayLook, key: Key) -> s.PoolCourse:
    """A pool day by day, 180 days back and 270 ahead, and when it turns short."""
    found = licences.course(ctx, key)
    growth, forecast = found.growth, found.forecast
    return s.PoolCourse(
        today=ctx.today,
        people=found.people,
        days=[s.PoolDay.model_validate(line) for line in found.lines],
        came=growth.came,
        went=growth.went,
        awaited=growth.awaited,
        usual_days=growth.usual_days,
        short_on=forecast.short_on,
        short_of=forecast.missing,
        short_by_end=forecast.by_end,
        ways=[s.WayBack.model_validate(way) for way in found.ways],
        turned_away=[s.TurnedAway(outcome=o, number=n) for o, n in found.turned_away],
    )


Month = Annotated[
    str | None, Query(max_length=7, description="Such as 2026-01; empty: the present one.")
]


@router.get("/licences/report")
def show_report(ctx: MayLook, month: Month = None) -> s.LicenceReport:
    """A month of every pool: needed, held, what changed, and what it cost where prices are
    known.
    """
    first_on, last_on = licences.month_of(ctx, month)
    lines = licences.report(ctx, month)
    pools = [s.PoolMonth.model_validate(line) for line in lines]
    return s.LicenceReport(first_on=first_on, last_on=last_on, pools=pools)


@router.get(
    "/licences/report/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_report(
    ctx: MayLook, month: Month = None, form: Literal["csv", "xlsx"] = "csv"
) -> Response:
    """The report as a file."""
    frame = licences.frame_of(licences.report(ctx, month))
    first_on, _ = licences.month_of(ctx, month)
    name = f"licences-{first_on:%Y-%m}"
    seals.note_export(ctx, "licences", f"Licences of {first_on:%Y-%m} taken out as {form.upper()}")
    return as_file(frame, name, form)
