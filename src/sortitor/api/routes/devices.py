"""Routes: devices."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import polars as pl
from fastapi import Query, Request, Response

from sortitor.api.http.access import MayLook, MayManageDevices, MaySweep
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.files import XLSX, as_file, as_streamed
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_key
from sortitor.api.http.routes import Router
from sortitor.api.http.selections import Asked, selection_of
from sortitor.api.routes.holds import hold_shape
from sortitor.core.columns import FIELDS
from sortitor.core.sweeps import idle_days
from sortitor.core.vocabulary import Basis
from sortitor.operations import devices, erasing, finding, handover, reporting, retiring, seals
from sortitor.operations.context import Context
from sortitor.operations.devices import DeviceRow, LineRow
from sortitor.operations.sweeps.standing import Standing
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.devices import (
    Assign,
    AssignApply,
    CohortOfDevice,
    Declare,
    DeclareApply,
    Device,
    DeviceDetail,
    EraseApply,
    Fact,
    FoundDevices,
    Give,
    GiveApply,
    Happening,
    Identifier,
    Report,
    ReportApply,
    SeatOfDevice,
    SetName,
    SweepOfDevice,
    Turn,
    TurnApply,
)
from sortitor.schemas.sweeps import Erasure

router = Router(tags=["devices"])
#: So many devices are a file at once.
_FEW = 5_000
#: What an export has when nothing else is asked for.
_EXPORTED = (
    "id",
    "name",
    "stage",
    "platform",
    "osVersion",
    "maker",
    "model",
    "serial",
    "imei",
    "ownership",
    "person.userName",
    "site",
    "lastSeenAt",
    "idleDays",
)
Columns = Annotated[
    Sequence[str],
    Query(
        alias="column",
        max_length=60,
        description="An attribute of the filter language; repeatable",
    ),
]


def line(ctx: Context, row: LineRow, columns: dict[str, str | None] | None = None) -> Device:
    """A device as a line of a list."""
    return Device(
        id=row.id,
        name=row.name,
        stage=row.stage,
        platform=row.platform,
        os_version=row.os_version,
        maker=row.maker,
        model=row.model,
        ownership=row.ownership,
        person_id=row.person_id,
        person_name=row.person_name,
        site=row.site,
        serial=ctx.veil.identifier(row.serial, row.ownership),
        imei=ctx.veil.identifier(row.imei, row.ownership),
        asset_tag=row.asset_tag,
        flag=row.flag,
        retire_on=row.retire_on,
        last_seen_at=row.last_seen_at,
        idle_days=_idle_days(ctx, row),
        columns=columns,
    )


def _idle_days(ctx: Context, row: LineRow | DeviceRow) -> int:
    seen = row.last_seen_at or row.enrolled_at or row.created_at
    return idle_days(ctx.limits.zone, ctx.now, seen)


@router.get("/devices", response_model=Page[Device])
def list_devices(
    request: Request,
    response: Response,
    ctx: MayLook,
    selection: Asked,
    sort: Annotated[
        Literal["id", "name", "site", "model", "stage", "seen"],
        Query(description="The order; `seen`: by the day of the last sign of life."),
    ] = "id",
    descending: Annotated[bool, Query(description="The last first.")] = False,
    total: Annotated[bool, Query(description="Count all that fit, too.")] = False,
    columns: Columns = (),
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """Devices that fit all conditions; `Accept: text/csv` gives the same list as CSV.

    With `column`, each device carries the attributes asked for as text, in `columns`.
    """
    found = devices.page(ctx, selection, sort, descending, read_key(cursor), limit + 1)
    values = devices.columns_of(ctx, [row.id for row in found], columns)
    return page(
        request,
        response,
        rows=found,
        limit=limit,
        shape=lambda row: line(ctx, row, values.get(row.id)),
        key=lambda row: [row.sort_key, row.id],
        total=devices.count(ctx, selection) if total else None,
    )


@router.get(
    "/devices/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_devices(
    ctx: MayLook, selection: Asked, form: Literal["csv", "xlsx"] = "csv", columns: Columns = ()
) -> Response:
    """All devices that fit, as a file with the columns asked for."""
    table = devices.table(ctx, selection, columns or _EXPORTED)
    seals.note_export(ctx, "devices", f"{table.devices:,} devices taken out as {form.upper()}")
    if ctx.leash is not None:
        ctx.leash.loosen()
    if table.devices <= _FEW:
        return as_file(pl.concat(table.parts), "devices", form)
    return as_streamed(table.parts, "devices", form)


@router.get("/devices/facets")
def list_facets(ctx: MayLook) -> dict[str, dict[str, int]]:
    """How many devices there are by stage, platform, ownership and site."""
    return devices.facets(ctx)


@router.get("/devices/{device_id}")
def show_device(ctx: MayLook, device_id: Number) -> DeviceDetail:
    """One device: facts with their basis, identifiers, holds, timeline."""
    found = devices.one(ctx, device_id)
    row = found.device
    identifiers = [
        Identifier(
            kind=one.kind,
            value=ctx.veil.identifier(one.value, row.ownership) or "",
            given=ctx.veil.identifier(one.given, row.ownership),
        )
        for one in found.identifiers
    ]
    first = {one.kind.value: one.value for one in reversed(identifiers)}
    return DeviceDetail(
        id=row.id,
        name=row.name,
        stage=row.stage,
        platform=row.platform,
        os_version=row.os_version,
        maker=row.maker,
        model=row.model,
        ownership=row.ownership,
        person_id=row.person_id,
        person_name=row.person_name,
        site=row.site,
        serial=first.get("serial"),
        imei=first.get("imei"),
        asset_tag=row.asset_tag,
        flag=row.flag,
        last_seen_at=row.last_seen_at,
        idle_days=_idle_days(ctx, row),
        ownership_basis=row.ownership_basis,
        name_basis=row.name_basis,
        person_user_name=row.person_user_name,
        stage_at=row.stage_at,
        enrolled_at=row.enrolled_at,
        lot_id=row.lot_id,
        lot_row=row.lot_row,
        identifiers=identifiers,
        facts=_facts(row),
        details=_details(ctx, row),
        holds=[hold_shape(ctx, hold) for hold in found.holds],
        cohorts=[CohortOfDevice.model_validate(cohort) for cohort in found.cohorts],
        retire_on=row.retire_on,
        sweep=found.sweep and _sweep(found.sweep),
        seats=[
            SeatOfDevice(
                pool_id=kept.id,
                pool=kept.document.name,
                since=row.enrolled_at or row.created_at,
            )
            for kept in found.pools
        ],
        timeline=[
            Happening.model_validate({**one, "entry_id": one["id"]}) for one in found.timeline
        ],
    )


def _sweep(found: Standing) -> SweepOfDevice:
    return SweepOfDevice(
        rule_id=found.rule.id,
        rule=found.rule.document.name,
        idle_window_days=found.rule.document.idle_window_days,
        others=list(found.others),
        dormant_on=found.dormant_on,
        retire_on=found.retire_on,
    )


def _details(ctx: Context, row: DeviceRow) -> dict[str, Any]:
    told = {name: value for name, value in row.details.items() if value is not None}
    return ctx.veil.details(told, row.ownership)


def _facts(row: DeviceRow) -> list[Fact]:
    """What is known field by field: set by hand, reported by the device, from a lot, or
    inferred.
    """
    facts = []
    for field in FIELDS:
        value = getattr(row, field)
        if value in (None, "", []):
            continue
        words = ", ".join(value) if isinstance(value, list) else str(value)
        facts.append(Fact(field=field, value=words, basis=_basis(row, field)))
    if row.os_version:
        facts.append(Fact(field="os_version", value=row.os_version, basis="the device itself"))
    return facts


def _basis(row: DeviceRow, field: str) -> str:
    """Who says so."""
    if field == "ownership":
        return row.ownership_basis.value
    if field == "name" and row.name_basis != Basis.DECLARED:
        return "a template" if row.name_basis == Basis.INFERRED else Basis.MANUAL.value
    if field in row.manual:
        return Basis.MANUAL.value
    return f"lot {row.lot_id}, row {row.lot_row}" if row.lot_id else "the device itself"


@router.post("/devices/find", openapi_extra=FILE_BODY)
def find_devices(
    ctx: MayManageDevices,
    body: FileBody,
    pasted: Annotated[bool, Query(description="The body is a paste, not a file")] = False,
) -> FoundDevices:
    """The devices that a list means: a paste, or a file of any format. Each row is known by any of
    its cells: an identifier, an asset tag or a name.
    """
    return FoundDevices.model_validate(finding.find(ctx, body, "paste" if pasted else "table"))


@router.post("/devices/declare/preview")
def preview_declare(ctx: MayLook, given: Declare) -> Preview:
    """Whose the selected devices would become."""
    return Preview.model_validate(
        devices.preview_declare(ctx, selection_of(ctx, given.selection), given.ownership)
    )


@router.post("/devices/declare/apply")
def apply_declare(ctx: MayManageDevices, given: DeclareApply) -> Preview:
    """Declare as previewed."""
    return Preview.model_validate(
        devices.declare(
            ctx, selection_of(ctx, given.selection), given.ownership, given.digest, given.reason
        )
    )


@router.post("/devices/retire/preview")
def preview_retire(ctx: MayLook, given: Turn) -> Preview:
    """Which of the selected devices would be retired, and what that leaves."""
    return Preview.model_validate(retiring.preview_retire(ctx, selection_of(ctx, given.selection)))


@router.post("/devices/retire/apply")
def apply_retire(ctx: MayManageDevices, given: TurnApply) -> Preview:
    """Retire as previewed."""
    return Preview.model_validate(
        retiring.retire(ctx, selection_of(ctx, given.selection), given.digest, given.reason)
    )


@router.post("/devices/give/preview")
def preview_give(ctx: MayLook, given: Give) -> Preview:
    """Which of the selected devices a person would get, or which would be nobody's."""
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(handover.preview(ctx, selection, given.person))


@router.post("/devices/give/apply")
def apply_give(ctx: MayManageDevices, given: GiveApply) -> Preview:
    """Give as previewed; what a quota keeps out stays as it is."""
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(
        handover.give(ctx, selection, given.person, given.digest, given.reason)
    )


@router.post("/devices/bring-back/preview")
def preview_bring_back(ctx: MayLook, given: Turn) -> Preview:
    """Which of the selected devices would come back, and as what."""
    return Preview.model_validate(
        retiring.preview_bring_back(ctx, selection_of(ctx, given.selection))
    )


@router.post("/devices/bring-back/apply")
def apply_bring_back(ctx: MayManageDevices, given: TurnApply) -> Preview:
    """Bring back as previewed; nobody gets more than the quota allows."""
    return Preview.model_validate(
        retiring.bring_back(ctx, selection_of(ctx, given.selection), given.digest, given.reason)
    )


@router.post("/devices/erase/preview")
def preview_erase(ctx: MayLook, given: Turn) -> Preview:
    """Which of the selected devices would be erased, and what goes with them."""
    return Preview.model_validate(erasing.preview(ctx, selection_of(ctx, given.selection)))


@router.post("/devices/erase/apply")
def apply_erase(ctx: MaySweep, given: EraseApply) -> Erasure:
    """Erase retired devices as previewed; nothing brings them back."""
    selection = selection_of(ctx, given.selection)
    done = erasing.erase(ctx, selection, given.digest, given.confirm, given.reason)
    return Erasure.model_validate(done)


@router.post("/devices/report/preview")
def preview_report(ctx: MayLook, given: Report) -> Preview:
    """Which of the selected devices would be reported missing, stolen or found, and what that
    does.
    """
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(reporting.preview(ctx, selection, given.flag))


@router.post("/devices/report/apply")
def apply_report(ctx: MayManageDevices, given: ReportApply) -> Preview:
    """Report as previewed."""
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(
        reporting.report(ctx, selection, given.flag, given.digest, given.reason)
    )


@router.post("/devices/{device_id}/assign/preview")
def preview_assign(ctx: MayLook, device_id: Number, given: Assign) -> Preview:
    """What giving the device to a person would change."""
    return Preview.model_validate(devices.preview_assign(ctx, device_id, given.person))


@router.post("/devices/{device_id}/assign/apply")
def apply_assign(ctx: MayManageDevices, device_id: Number, given: AssignApply) -> Preview:
    """Give the device to a person; a parked one becomes active."""
    return Preview.model_validate(
        devices.assign(ctx, device_id, given.person, given.digest, given.reason)
    )


@router.post("/devices/{device_id}/name", status_code=204)
def name_device(ctx: MayManageDevices, device_id: Number, given: SetName) -> None:
    """Name a device by hand; templates leave it alone from then on."""
    devices.set_name(ctx, device_id, given.name, given.reason)
