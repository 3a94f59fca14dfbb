# Made by tools/async_client.py; change the module of the same name one folder up.
"""What devices get: the catalogue, items, kits, setup sheets and checklists."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.documents import Documents
from sortitor.client.aio.noun import Key, Noun, at
from sortitor.core.vocabulary import Platform
from sortitor.schemas import kits as k
from sortitor.schemas.base import Preview
from sortitor.schemas.selection import Selection


class Catalogue(Noun):
    """What can be set on a device."""

    async def search(
        self, query: str = "", theme: str | None = None, platforms: Sequence[Platform] = ()
    ) -> Sequence[k.CatalogueSetting]:
        """Settings by the beginnings of words, of a theme, known to each of the platforms.

        >>> s.catalogue.search()
        """
        params = {"query": query, "theme": theme, "platform": list(platforms)}
        return await self._t.whole(k.CatalogueSetting, "GET", "/catalogue", params=params)


class OwnSettings(Documents[k.OwnSetting, k.OwnSettingDetail]):
    """Settings that the organisation adds to the catalogue."""

    path = "/own-settings"
    answer = k.OwnSettingDetail
    model = k.OwnSetting


class Items(Documents[k.Item, k.ItemDetail]):
    """Items."""

    path = "/items"
    answer = k.ItemDetail
    model = k.Item

    async def getting(self, key: Key) -> k.Getting:
        """Who gets an item, through what.

        >>> s.items.getting("Deck Wi-Fi")
        """
        return await self._t.call(k.Getting, "GET", at("/items", key, "getting"))

    async def network_code(self, key: Key) -> k.NetworkCode:
        """What a camera reads to join a network; each look stands in the journal.

        >>> s.items.network_code("Deck Wi-Fi")
        """
        return await self._t.call(k.NetworkCode, "POST", at("/items", key, "network-code"))

    async def states(self, key: Key) -> k.ItemStates:
        """How far the devices that get an item are, failures by their code.

        >>> s.items.states("Deck Wi-Fi")
        """
        return await self._t.call(k.ItemStates, "GET", at("/items", key, "states"))

    async def try_account(
        self, account: k.AccountPayload, user: str, password: str
    ) -> k.AccountTrial:
        """Sign in to an account from the service, with a name and a password that are not kept.

        >>> s.items.try_account(account, "maud@wrenmoor.example", password)
        """
        given = {"account": account.model_dump(mode="json"), "user": user, "password": password}
        return await self._t.call(k.AccountTrial, "POST", "/account-trials", json=given)

    async def times(self) -> Sequence[k.ItemTimes]:
        """How long each item takes, of what the fleet told.

        >>> s.items.times()
        """
        return await self._t.whole(k.ItemTimes, "GET", "/item-times")

    async def preview_retry(self, item: Key, selection: Selection) -> Preview:
        """On how many of the devices an item failed and would be tried again.

        >>> s.items.preview_retry("Deck Wi-Fi", Selection(ids=[546]))
        """
        given = k.Retry(item=str(item), selection=selection)
        return await self._t.call(Preview, "POST", "/item-retries/preview", json=given)

    async def retry(
        self, item: Key, selection: Selection, digest: str, reason: str | None = None
    ) -> Preview:
        """Try an item again as previewed.

        >>> s.items.retry("Deck Wi-Fi", Selection(ids=[546]), preview.digest)
        """
        given = k.RetryApply(item=str(item), selection=selection, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/item-retries/apply", json=given)


class Kits(Documents[k.Kit, k.KitDetail]):
    """Kits, and what devices get."""

    path = "/kits"
    answer = k.KitDetail
    model = k.Kit

    async def of_device(self, device_id: int) -> k.EffectiveKit:
        """What a device gets, or will get, through what, and what was beaten.

        >>> s.kits.of_device(546)
        """
        return await self._t.call(k.EffectiveKit, "GET", f"/devices/{device_id}/kit")

    async def of_imagined(self, device: k.ImaginedDevice) -> k.EffectiveKit:
        """The same of a device that is not there.

        >>> s.kits.of_imagined(ImaginedDevice(platform=Platform.ANDROID))
        """
        return await self._t.call(k.EffectiveKit, "POST", "/imagined-kit", json=device)

    async def beside(self, cohort: Key) -> k.BesideKit:
        """What every device gets beside what a device of a cohort does.

        >>> s.kits.beside("Deck phones")
        """
        return await self._t.call(k.BesideKit, "GET", at("/cohorts", cohort, "kit"))

    async def reports(self, device_id: int) -> Sequence[k.DeviceReport]:
        """What a device told of each item as it is now.

        >>> s.kits.reports(546)
        """
        return await self._t.whole(k.DeviceReport, "GET", f"/devices/{device_id}/item-reports")

    async def log(self, device_id: int, item: Key) -> str | None:
        """What a device sent along when an item failed.

        >>> s.kits.log(546, "Deck Wi-Fi")
        """
        told = await self._t.call(
            k.ItemLog, "GET", at(f"/devices/{device_id}/item-reports", item, "log")
        )
        return told.log

    async def administrator_password(self, device_id: int) -> k.AdministratorPassword:
        """The password of a device's local administrator; each look stands in the journal, and
        after it the device gets another one.

        >>> s.kits.administrator_password(546)
        """
        return await self._t.call(
            k.AdministratorPassword, "POST", f"/devices/{device_id}/administrator-password"
        )

    async def preview_push(self, selection: Selection) -> Preview:
        """Which devices would be woken.

        >>> s.kits.preview_push(Selection(ids=[546]))
        """
        given = k.Push(selection=selection)
        return await self._t.call(Preview, "POST", "/kit-pushes/preview", json=given)

    async def push(self, selection: Selection, digest: str, reason: str | None = None) -> Preview:
        """Wake devices as previewed.

        >>> s.kits.push(Selection(ids=[546]), preview.digest)
        """
        given = k.PushApply(selection=selection, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/kit-pushes/apply", json=given)

    async def lints(self) -> Sequence[k.KitLint]:
        """What is forgotten or cannot be.

        >>> s.kits.lints()
        """
        return await self._t.whole(k.KitLint, "GET", "/kit-lints")


class SetupSheets(Documents[k.SetupSheet, k.SheetDetail]):
    """Setup sheets."""

    path = "/setup-sheets"
    answer = k.SheetDetail
    model = k.SetupSheet

    async def preview_hand(self, sheet: Key, selection: Selection, clear: bool = False) -> Preview:
        """Which devices would get a sheet by hand, or (`clear`) would no longer.

        >>> s.setup_sheets.preview_hand("Crew phones", Selection(ids=[546]))
        """
        given = k.Handing(sheet=str(sheet), selection=selection, clear=clear)
        return await self._t.call(Preview, "POST", "/sheet-handings/preview", json=given)

    async def hand(
        self,
        sheet: Key,
        selection: Selection,
        digest: str,
        clear: bool = False,
        reason: str | None = None,
    ) -> Preview:
        """Give a sheet to chosen devices, or (`clear`) take it from them, as previewed.

        >>> s.setup_sheets.hand("Crew phones", Selection(ids=[546]), preview.digest)
        """
        given = k.HandingApply(
            sheet=str(sheet), selection=selection, clear=clear, digest=digest, reason=reason
        )
        return await self._t.call(Preview, "POST", "/sheet-handings/apply", json=given)

    async def export(self, key: Key) -> k.SheetExport:
        """A sheet as a source carries it, with its digest.

        >>> s.setup_sheets.export("Crew phones")
        """
        return await self._t.call(k.SheetExport, "GET", at("/setup-sheets", key, "export"))


class Checklists(Documents[k.Checklist, k.ChecklistDetail]):
    """Checklists."""

    path = "/checklists"
    answer = k.ChecklistDetail
    model = k.Checklist
