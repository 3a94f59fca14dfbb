"""Routes: what devices get."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from io import BytesIO
from typing import Annotated, Any

import segno
from fastapi import APIRouter, Query
from segno import helpers

from sortitor.api.http.access import MayLook, MayManageDevices, MayPrepare
from sortitor.api.http.documents import A, D, Key, Noun, document_router
from sortitor.api.http.paging import Number
from sortitor.api.http.routes import Router
from sortitor.api.http.selections import selection_of
from sortitor.core.access import Permission
from sortitor.core.kits.catalogue import Setting
from sortitor.core.kits.checklists import Checklist
from sortitor.core.kits.documents import Kit
from sortitor.core.kits.items import CertificatePayload, Item
from sortitor.core.kits.own_settings import OwnSetting
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.vocabulary import Platform
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Kept
from sortitor.operations.kits import catalogue, delivery, handing, lints, passwords, reading, trials
from sortitor.operations.kits.documents import (
    CHECKLISTS,
    ITEMS,
    KITS,
    OWN_SETTINGS,
    SHEETS,
    exported,
    joined,
)
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.kits import (
    AccountTrial,
    AccountTried,
    AdministratorPassword,
    BesideKit,
    CatalogueSetting,
    ChecklistDetail,
    DeviceReport,
    EffectiveKit,
    Getting,
    Handing,
    HandingApply,
    ImaginedDevice,
    ItemDetail,
    ItemLog,
    ItemStates,
    ItemTimes,
    KitDetail,
    KitLint,
    NetworkCode,
    OwnSettingDetail,
    Push,
    PushApply,
    Retry,
    RetryApply,
    SheetDetail,
    SheetExport,
)

router = Router(tags=["kits"])


def _items(ctx: Context, kept: Sequence[Kept[Item]]) -> list[ItemDetail]:
    known = catalogue.of(ctx)
    return [_item(one, known) for one in kept]


def _item(kept: Kept[Item], known: Mapping[str, Setting]) -> ItemDetail:
    item = kept.document
    payload = item.payload
    return ItemDetail(
        **_fields(kept),
        says=catalogue.says(item, known),
        for_platforms=item.fitting(known),
        hand_needed=item.needs_hand,
        certificate=payload.read() if isinstance(payload, CertificatePayload) else None,
    )


def _fields(kept: Kept[Any]) -> dict[str, Any]:
    return {**kept.document.model_dump(), "id": kept.id, "revision": kept.revision}


def _own(ctx: Context, kept: Sequence[Kept[OwnSetting]]) -> list[OwnSettingDetail]:
    return [OwnSettingDetail(**_fields(one)) for one in kept]


def _kits(ctx: Context, kept: Sequence[Kept[Kit]]) -> list[KitDetail]:
    return [KitDetail(**_fields(one)) for one in kept]


def _sheets(ctx: Context, kept: Sequence[Kept[SetupSheet]]) -> list[SheetDetail]:
    return [
        SheetDetail(**_fields(one), takes_away=list(one.document.consequences())) for one in kept
    ]


def _checklists(ctx: Context, kept: Sequence[Kept[Checklist]]) -> list[ChecklistDetail]:
    kinds = catalogue.kinds(ctx)
    return [ChecklistDetail(**_fields(one), in_order=one.document.ordered(kinds)) for one in kept]


def _documents(
    kind: DocumentKind[D],
    path: str,
    one: str,
    answer: type[A],
    made: Callable[[Context, Sequence[Kept[D]]], list[A]],
) -> APIRouter:
    """The routes of one kind; `made` gives what is told of kept ones."""
    return document_router(
        Noun(
            kind=kind,
            path=path,
            tag="kits",
            one=one,
            many=f"{one}s",
            answer=answer,
            every=lambda ctx: made(ctx, kind.every(ctx)),
            find=lambda ctx, key: made(ctx, [kind.one(ctx, key)])[0],
            shape=lambda ctx, kept: made(ctx, [kept])[0],
            may=Permission.PREPARE,
        )
    )


items = _documents(ITEMS, "/items", "item", ItemDetail, _items)
own_settings = _documents(OWN_SETTINGS, "/own-settings", "own_setting", OwnSettingDetail, _own)
kits = _documents(KITS, "/kits", "kit", KitDetail, _kits)
sheets = _documents(SHEETS, "/setup-sheets", "setup_sheet", SheetDetail, _sheets)
checklists = _documents(CHECKLISTS, "/checklists", "checklist", ChecklistDetail, _checklists)


@router.get("/catalogue", response_model=Page[CatalogueSetting])
def search_catalogue(
    ctx: MayLook,
    query: Annotated[
        str, Query(max_length=100, description="Words that begin words of it; empty: all.")
    ] = "",
    theme: Annotated[str | None, Query(max_length=60, description="Of one theme.")] = None,
    platform: Annotated[
        list[Platform] | None, Query(description="Known to each of these; repeatable.")
    ] = None,
) -> Any:
    """What can be set on a device, theme by theme; of what was typed, the nearest first."""
    return whole(catalogue.search(ctx, query, theme, platform or []))


@router.get("/kit-lints", response_model=Page[KitLint])
def list_kit_lints(ctx: MayLook) -> Any:
    """What is forgotten or cannot be, each with the way to mend it."""
    return whole(
        KitLint(
            code=found.lint.code,
            about=found.lint.about,
            words=found.lint.words,
            mend=found.lint.mend,
            kind=found.kind,
            id=found.id,
            cohorts=list(found.cohorts),
        )
        for found in lints.find(ctx)
    )


@router.post("/imagined-kit", response_model=EffectiveKit)
def show_imagined_kit(ctx: MayLook, given: ImaginedDevice) -> Any:
    """What a device would get that is not there, through what, and what was beaten."""
    values = given.model_dump(exclude={"cohorts"})
    return reading.of_imagined(ctx, reading.ImaginedDevice(**values, cohorts=tuple(given.cohorts)))


@router.get("/devices/{device_id}/kit", response_model=EffectiveKit)
def show_device_kit(ctx: MayLook, device_id: Number) -> Any:
    """What a device gets, or will get, through what, and what was beaten."""
    return reading.of_device(ctx, device_id)


@router.get("/cohorts/{key}/kit", response_model=BesideKit)
def show_cohort_kit(ctx: MayLook, key: Key) -> Any:
    """What every device gets beside what a device of the cohort does."""
    return reading.beside(ctx, key)


@router.get("/devices/{device_id}/item-reports", response_model=Page[DeviceReport])
def list_device_item_reports(ctx: MayLook, device_id: Number) -> Any:
    """What a device told of each item as it is now."""
    return whole(delivery.reports_of(ctx, device_id).values())


@router.get("/devices/{device_id}/item-reports/{key}/log")
def show_item_log(ctx: MayManageDevices, device_id: Number, key: Key) -> ItemLog:
    """What a device sent along when the item failed."""
    return ItemLog(log=delivery.log_of(ctx, device_id, key))


@router.post("/devices/{device_id}/administrator-password")
def show_administrator_password(ctx: MayManageDevices, device_id: Number) -> AdministratorPassword:
    """The password of the device's local administrator; each look stands in the journal, and after
    it the device gets another one.
    """
    found = passwords.look(ctx, device_id)
    return AdministratorPassword(user=found.user, password=found.password, former=found.former)


@router.get("/item-times", response_model=Page[ItemTimes])
def list_item_times(ctx: MayLook) -> Any:
    """How long each item takes, of what the fleet told."""
    return whole(delivery.times(ctx))


@router.post("/item-retries/preview")
def preview_retry(ctx: MayLook, given: Retry) -> Preview:
    """On how many devices an item would be tried again."""
    return Preview.model_validate(delivery.preview_retry(ctx, _retry(ctx, given)))


@router.post("/item-retries/apply")
def apply_retry(ctx: MayManageDevices, given: RetryApply) -> Preview:
    """Try an item again where it failed, as previewed; devices that wait look now."""
    done = delivery.apply_retry(ctx, _retry(ctx, given), given.digest, given.reason)
    return Preview.model_validate(done)


def _retry(ctx: Context, given: Retry) -> delivery.Retry:
    return delivery.Retry(given.item, selection_of(ctx, given.selection))


@router.post("/account-trials")
def try_account(ctx: MayPrepare, given: AccountTried) -> AccountTrial:
    """Sign in to a mail, calendar or contacts account from here, with a name and a password that
    are not kept; the journal tells that it was tried.
    """
    password = given.password.get_secret_value()
    found = trials.try_account(ctx, given.account, given.user, password)
    return AccountTrial(ok=found.ok, words=found.words, remedy=found.remedy)


@router.post("/sheet-handings/preview")
def preview_handing(ctx: MayLook, given: Handing) -> Preview:
    """Which devices would get a setup sheet by hand, or would no longer."""
    return Preview.model_validate(handing.preview(ctx, _handing(ctx, given)))


@router.post("/sheet-handings/apply")
def apply_handing(ctx: MayPrepare, given: HandingApply) -> Preview:
    """Give a setup sheet to chosen devices, or clear it from them, as previewed."""
    found = handing.apply(ctx, _handing(ctx, given), given.digest, given.reason)
    return Preview.model_validate(found)


def _handing(ctx: Context, given: Handing) -> handing.Handing:
    return handing.Handing(given.sheet, selection_of(ctx, given.selection), given.clear)


@router.post("/kit-pushes/preview")
def preview_push(ctx: MayLook, given: Push) -> Preview:
    """Which devices would be woken."""
    found = delivery.preview_push(ctx, selection_of(ctx, given.selection))
    return Preview.model_validate(found)


@router.post("/kit-pushes/apply")
def apply_push(ctx: MayManageDevices, given: PushApply) -> Preview:
    """Wake devices as previewed: those that wait look now, the others when they check in next."""
    chosen = selection_of(ctx, given.selection)
    return Preview.model_validate(delivery.apply_push(ctx, chosen, given.digest, given.reason))


@items.get("/{key}/states", response_model=ItemStates)
def show_item_states(ctx: MayLook, key: Key) -> Any:
    """How far the devices that get the item are, failures by their code."""
    return delivery.states(ctx, key)


@items.post("/{key}/network-code")
def show_network_code(ctx: MayPrepare, key: Key) -> NetworkCode:
    """What a phone's camera reads to join the network, with its secret in clear; each look stands
    in the journal.
    """
    network = joined(ctx, key)
    text = helpers.make_wifi_data(
        ssid=network.ssid,
        password=network.secret,
        security="WPA" if network.secret else None,
        hidden=network.hidden,
    )
    image = BytesIO()
    segno.make(text, error="m").save(image, kind="svg", scale=5, border=4, xmldecl=False)
    return NetworkCode(text=text, svg=image.getvalue().decode())


@items.get("/{key}/getting", response_model=Getting)
def show_getting(ctx: MayLook, key: Key) -> Any:
    """Who gets the item, through what."""
    return reading.getting(ctx, key)


@sheets.get("/{key}/export")
def export_setup_sheet(ctx: MayLook, key: Key) -> SheetExport:
    """The sheet as a source carries it, with its digest."""
    sheet, digest = exported(ctx, key)
    return SheetExport(sheet=sheet, digest=digest, form=SetupSheet.exported_schema())


for _router in (items, own_settings, kits, sheets, checklists):
    router.include_router(_router)
