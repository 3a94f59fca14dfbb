"""The catalogue as an organisation has it, and items said in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sortitor.core.kits import catalogue as core
from sortitor.core.kits.catalogue import Setting
from sortitor.core.kits.items import (
    AccountPayload,
    AppPayload,
    CertificatePayload,
    CustomPayload,
    DocumentPayload,
    FirmwarePayload,
    Item,
    NetworkPayload,
    ScriptPayload,
    SettingPayload,
)
from sortitor.core.vocabulary import ItemKind, Platform, Security
from sortitor.core.words import LABELS
from sortitor.operations.context import Context
from sortitor.operations.kits.documents import ITEMS
from sortitor.operations.kits.library import library


def search(
    ctx: Context, query: str, theme: str | None, platforms: Sequence[Platform]
) -> Sequence[Setting]:
    """Settings by what was typed, of a theme, known to each of the platforms."""
    return core.search(of(ctx).values(), query, theme, platforms)


def of(ctx: Context) -> Mapping[str, Setting]:
    """Key → setting: the package's, and what the organisation added."""
    with ctx.reading() as connection:
        return library(connection).catalogue


def kinds(ctx: Context) -> Mapping[str, ItemKind]:
    """Name of an item → what it is."""
    return {kept.document.name: kept.document.payload.kind for kept in ITEMS.every(ctx)}


def says(item: Item, settings: Mapping[str, Setting]) -> str:
    """What an item is or sets, in a line."""
    payload = item.payload
    if isinstance(payload, SettingPayload):
        setting = settings.get(payload.setting)
        if setting is None:
            return f"{payload.setting}: {payload.value}"
        return f"{setting.name}: {setting.said(payload.value)}"
    if isinstance(payload, CustomPayload):
        return f"{payload.key} = {payload.value}"[:120]
    if isinstance(payload, AppPayload):
        return payload.identifier
    if isinstance(payload, DocumentPayload):
        return payload.file_name
    if isinstance(payload, NetworkPayload):
        return f"Wi-Fi “{payload.ssid}”, {LABELS[Security][payload.security]}"
    if isinstance(payload, AccountPayload):
        return f"{payload.service} at {payload.server}:{payload.port}"
    if isinstance(payload, CertificatePayload):
        found = payload.read()
        return f"{found.name}, ends on {found.ends_on}"
    if isinstance(payload, ScriptPayload):
        lines = len(payload.text.splitlines())
        return f"script for {payload.platform.label}, {lines} lines"
    assert isinstance(payload, FirmwarePayload)
    return f"system {payload.wanted} or later"
