"""Routes: devices."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends, Query, Request, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.files import XLSX, as_file
from sortitor.api.paging import Cursor, Limit, page, read_key
from sortitor.api.routes import Route
from sortitor.core import selection as core
from sortitor.core.columns import FIELDS
from sortitor.core.filters import all_of, parse
from sortitor.core.sweeps import idle_days
from sortitor.core.vocabulary import Basis, Ownership
from sortitor.operations import devices, licences, selections
from sortitor.operations.context import Context
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.devices import (
    Assign,
    AssignApply,
    CohortOfDevice,
    Declare,
    DeclareApply,
    Device,
    DeviceWhole,
    Fact,
    Happening,
    Hold,
    HoldMade,
    HoldNew,
    Identifier,
    Report,
    Selection,
    SetName,
)

router = APIRouter(tags=["devices"], route_class=Route)
#: What an export has when nothing else is asked for.
_EXPORTED = [
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
]


def as_selection(given: Selection) -> core.Selection:
    """The core's selection of a request's."""
    values: dict[str, Any] = {
        name: tuple(value) if isinstance(value, list) else value
        for name, value in given.model_dump().items()
    }
    return core.Selection(**{**values, "filter": parse(given.filter) if given.filter else None})


def _from_query(
    ctx: Viewer,
    query: Annotated[
        str | None,
        Query(
            max_length=200, description="Serial, its last characters, IMEI, name, person, asset tag"
        ),
    ] = None,
    person: int | None = None,
    cohort: Annotated[int | None, Query(description="Devices of this cohort")] = None,
    pool: Annotated[
        int | None, Query(description="Devices that take a seat of this licence pool")
    ] = None,
    filter_text: Annotated[
        str | None,
        Query(
            alias="filter",
            description=(
                'In the filter language (RFC 7644 §3.4.2.2), such as `site sw "Quill" and idleDays'
                " ge 90`"
            ),
        ),
    ] = None,
) -> core.Selection:
    asked = selections.asked_by(ctx, filter_text) if filter_text else None
    given = core.Selection(
        query=query,
        person_id=person,
        cohort_id=cohort,
        filter=asked,
        masked=not selections.sees_identifiers(ctx),
    )
    return (
        given
        if pool is None
        else replace(given, filter=all_of(licences.needing(ctx, pool), given.filter))
    )


def _masked(value: str | None, hidden: bool) -> str | None:
    return f"•••{value[-4:]}" if value and hidden else value


def _hidden(row: Any, ctx: Context) -> bool:
    """Identifiers of personal devices are for those who work with them."""
    return row.ownership == Ownership.PERSONAL and not selections.sees_identifiers(ctx)


_NOTHING: dict[str, Any] = dict.fromkeys(Device.model_fields)


def line(row: Any, ctx: Context) -> Device:
    """A device as a line of a list."""
    values = {**_NOTHING, **dict(zip(row._fields, row, strict=True))}
    values["idle_days"] = max(
        0, idle_days(ctx.now, row.last_seen_at, row.enrolled_at or row.created_at)
    )
    if _hidden(row, ctx):
        values |= {name: _masked(values[name], True) for name in ("serial", "imei")}
    return Device.model_validate(values)


@router.get("/devices", response_model=Page[Device])
def list_devices(
    request: Request,
    response: Response,
    ctx: Viewer,
    selection: Annotated[core.Selection, Depends(_from_query)],
    sort: Annotated[Literal["id", "name", "site", "model", "stage", "seen"], Query()] = "id",
    descending: bool = False,
    total: bool = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """Devices that fit all conditions; `Accept: text/csv` gives the same list as CSV."""
    rows = devices.page(ctx, selection, sort, descending, read_key(cursor), limit + 1)
    counted = devices.count(ctx, selection) if total else None
    return page(
        request,
        response,
        rows,
        limit,
        lambda row: line(row, ctx),
        lambda row: [row.sort_key, row.id],
        counted,
    )


@router.get(
    "/devices/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_devices(
    ctx: Viewer,
    selection: Annotated[core.Selection, Depends(_from_query)],
    form: Literal["csv", "xlsx"] = "csv",
    column: Annotated[
        list[str],
        Query(description="An attribute of the filter language; repeatable", max_length=60),
    ] = [],  # noqa: B006
) -> Response:
    """All devices that fit, as a file with the columns asked for."""
    return as_file(devices.table(ctx, selection, column or _EXPORTED), "devices", form)


@router.get("/devices/facets")
def list_facets(ctx: Viewer) -> dict[str, dict[str, int]]:
    """How many devices there are by stage, platform, ownership and site."""
    return devices.facets(ctx)


@router.get("/devices/{device_id}")
def show_device(ctx: Viewer, device_id: int) -> DeviceWhole:
    """One device: facts with their basis, identifiers, holds, timeline."""
    whole = devices.one(ctx, device_id)
    row, hidden = whole.device, _hidden(whole.device, ctx)
    identifiers = [
        Identifier(
            kind=i.kind, value=_masked(i.value, hidden) or "", given=_masked(i.given, hidden)
        )
        for i in whole.identifiers
    ]
    first = {i.kind.value: i.value for i in reversed(identifiers)}
    return DeviceWhole(
        **{**line(row, ctx).model_dump(), "serial": first.get("serial"), "imei": first.get("imei")},
        ownership_basis=row.ownership_basis,
        name_basis=row.name_basis,
        person_user_name=row.person_user_name,
        stage_at=row.stage_at,
        enrolled_at=row.enrolled_at,
        lot_id=row.lot_id,
        lot_row=row.lot_row,
        identifiers=identifiers,
        facts=_facts(row),
        details={name: value for name, value in row.details.items() if value is not None},
        holds=[Hold.model_validate(h) for h in whole.holds],
        cohorts=[CohortOfDevice.model_validate(c) for c in whole.cohorts],
        timeline=[Happening.model_validate({**h, "entry_id": h["id"]}) for h in whole.timeline],
    )


def _facts(row: Any) -> list[Fact]:
    """What is known field by field: set by hand, reported by the device, from a lot, or
    inferred.
    """
    origin = f"lot {row.lot_id}, row {row.lot_row}" if row.lot_id else "the device itself"
    facts = []
    for field in FIELDS:
        value = row._mapping[field]
        if value in (None, "", []):
            continue
        basis = Basis.MANUAL.value if field in row.manual else origin
        if field == "ownership":
            basis = row.ownership_basis
        if field == "name" and row.name_basis != Basis.DECLARED:
            basis = "a template" if row.name_basis == Basis.INFERRED else Basis.MANUAL.value
        facts.append(
            Fact(
                field=field,
                value=", ".join(value) if isinstance(value, list) else str(value),
                basis=basis,
            )
        )
    if row.os_version:
        facts.append(Fact(field="os_version", value=row.os_version, basis="the device itself"))
    return facts


@router.post("/devices/declare/preview")
def preview_declare(ctx: Coordinator, given: Declare) -> Preview:
    """Whose the selected devices would become."""
    return Preview.model_validate(
        devices.preview_declare(ctx, as_selection(given.selection), given.ownership)
    )


@router.post("/devices/declare/apply")
def apply_declare(ctx: Coordinator, given: DeclareApply) -> Preview:
    """Declare as previewed."""
    return Preview.model_validate(
        devices.declare(
            ctx, as_selection(given.selection), given.ownership, given.digest, given.reason
        )
    )


@router.post("/devices/{device_id}/assign/preview")
def preview_assign(ctx: Coordinator, device_id: int, given: Assign) -> Preview:
    """What giving the device to a person would change."""
    return Preview.model_validate(devices.preview_assign(ctx, device_id, given.person))


@router.post("/devices/{device_id}/assign/apply")
def apply_assign(ctx: Coordinator, device_id: int, given: AssignApply) -> Preview:
    """Give the device to a person; a parked one becomes active."""
    return Preview.model_validate(
        devices.assign(ctx, device_id, given.person, given.digest, given.reason)
    )


@router.post("/devices/{device_id}/name", status_code=204)
def name_device(ctx: Coordinator, device_id: int, given: SetName) -> None:
    """Name a device by hand; templates leave it alone from then on."""
    devices.set_name(ctx, device_id, given.name, given.reason)


@router.post("/devices/{device_id}/report", status_code=204)
def report_device(ctx: Coordinator, device_id: int, given: Report) -> None:
    """Report a device missing or stolen, or clear the report."""
    devices.set_flag(ctx, device_id, given.flag, given.reason)


@router.post("/devices/{device_id}/holds", status_code=201)
def hold_device(ctx: Coordinator, device_id: int, given: HoldNew) -> HoldMade:
    """Keep a device out of sweeps up to and including a day."""
    return HoldMade(id=devices.hold(ctx, device_id, given.reason, given.until_on))


@router.delete("/holds/{hold_id}", status_code=204)
def end_hold(ctx: Coordinator, hold_id: int) -> None:
    """End a hold now."""
    devices.end_hold(ctx, hold_id)
