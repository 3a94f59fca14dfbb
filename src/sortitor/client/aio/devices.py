# Made by tools/async_client.py; change the module of the same name one folder up.
"""Devices."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from pathlib import Path
from typing import Any, Literal

from sortitor.client.aio.noun import Noun
from sortitor.client.aio.sending import content_of
from sortitor.core.vocabulary import Ownership
from sortitor.schemas import devices as d
from sortitor.schemas.base import Preview
from sortitor.schemas.sweeps import Erasure

Flag = Literal["missing", "stolen"]


class Devices(Noun):
    """Devices."""

    def list(self, most: int | None = None, **conditions: Any) -> AsyncIterator[d.Device]:
        """Devices; conditions as the HTTP interface names them: filter, query, person, cohort,
        pool, sort, descending.

        >>> for one in s.devices.list():
        ...     print(one)
        """
        return self._t.pages(d.Device, "/devices", conditions, most)

    async def count(self, **conditions: Any) -> int:
        """How many devices fit.

        >>> s.devices.count()
        """
        asked = {name: value for name, value in conditions.items() if value not in (None, [], ())}
        return int(
            (
                await self._t.send("GET", "/devices", params={**asked, "total": "true", "limit": 1})
            ).json()["total"]
        )

    async def csv(self, columns: Sequence[str] = (), **conditions: Any) -> str:
        """All devices that fit as CSV, with these columns (attributes of the filter language).

        >>> print(s.devices.csv(["name", "site"], filter="idle_days ge 90"))
        """
        content = await self.file("csv", columns, **conditions)
        return content.decode("utf-8-sig")

    async def file(
        self, form: str = "csv", columns: Sequence[str] = (), **conditions: Any
    ) -> bytes:
        """All devices that fit, as CSV or XLSX with these columns (attributes of the filter
        language).

        >>> Path("idle.xlsx").write_bytes(s.devices.file("xlsx", filter="idle_days ge 90"))
        """
        asked = {**conditions, "form": form, "column": [*columns]}
        response = await self._t.send("GET", "/devices/file", params=asked)
        return response.content

    async def show(self, device_id: int) -> d.DeviceDetail:
        """One device with all that is known of it.

        >>> s.devices.show(546)
        """
        return await self._t.call(d.DeviceDetail, "GET", f"/devices/{device_id}")

    async def find(self, listed: str | Path) -> d.FoundDevices:
        """The devices that a list means: a paste, or a file of any format.

        >>> s.devices.find("GK4T100023 GK4T100024")
        """
        is_file = isinstance(listed, Path)
        content = content_of(listed) if isinstance(listed, Path) else listed.encode()
        media = "application/octet-stream" if is_file else "text/plain"
        return await self._t.call(
            d.FoundDevices,
            "POST",
            "/devices/find",
            content=content,
            params={"pasted": not is_file},
            headers={"Content-Type": media},
        )

    async def preview_declare(self, selection: d.Selection, ownership: Ownership) -> Preview:
        """Whose the devices would become.

        >>> s.devices.preview_declare(Selection(ids=[546]), Ownership.CORPORATE)
        """
        return await self._t.call(
            Preview,
            "POST",
            "/devices/declare/preview",
            json=d.Declare(selection=selection, ownership=ownership),
        )

    async def declare(
        self, selection: d.Selection, ownership: Ownership, digest: str, reason: str | None = None
    ) -> Preview:
        """Declare as previewed.

        >>> s.devices.declare(Selection(ids=[546]), Ownership.CORPORATE, preview.digest)
        """
        return await self._t.call(
            Preview,
            "POST",
            "/devices/declare/apply",
            json=d.DeclareApply(
                selection=selection, ownership=ownership, digest=digest, reason=reason
            ),
        )

    async def preview_retire(self, selection: d.Selection) -> Preview:
        """Which devices would be retired, and what that leaves.

        >>> s.devices.preview_retire(Selection(ids=[546]))
        """
        given = d.Turn(selection=selection)
        return await self._t.call(Preview, "POST", "/devices/retire/preview", json=given)

    async def retire(
        self, selection: d.Selection, digest: str, reason: str | None = None
    ) -> Preview:
        """Retire as previewed.

        >>> s.devices.retire(Selection(ids=[546]), preview.digest)
        """
        given = d.TurnApply(selection=selection, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/devices/retire/apply", json=given)

    async def preview_give(self, selection: d.Selection, person: str | None) -> Preview:
        """Which devices a person (user name or mail) would get; with None, which would be
        nobody's.

        >>> s.devices.preview_give(Selection(ids=[546]), "maud.fenwick")
        """
        given = d.Give(selection=selection, person=person)
        return await self._t.call(Preview, "POST", "/devices/give/preview", json=given)

    async def give(
        self, selection: d.Selection, person: str | None, digest: str, reason: str | None = None
    ) -> Preview:
        """Give as previewed.

        >>> s.devices.give(Selection(ids=[546]), "maud.fenwick", preview.digest)
        """
        given = d.GiveApply(selection=selection, person=person, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/devices/give/apply", json=given)

    async def preview_bring_back(self, selection: d.Selection) -> Preview:
        """Which devices would come back, and as what.

        >>> s.devices.preview_bring_back(Selection(ids=[546]))
        """
        given = d.Turn(selection=selection)
        return await self._t.call(Preview, "POST", "/devices/bring-back/preview", json=given)

    async def bring_back(
        self, selection: d.Selection, digest: str, reason: str | None = None
    ) -> Preview:
        """Bring back as previewed.

        >>> s.devices.bring_back(Selection(ids=[546]), preview.digest)
        """
        given = d.TurnApply(selection=selection, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/devices/bring-back/apply", json=given)

    async def preview_erase(self, selection: d.Selection) -> Preview:
        """Which retired devices would be erased, and what goes with them.

        >>> s.devices.preview_erase(Selection(ids=[546]))
        """
        given = d.Turn(selection=selection)
        return await self._t.call(Preview, "POST", "/devices/erase/preview", json=given)

    async def erase(
        self, selection: d.Selection, digest: str, confirm: int, reason: str | None = None
    ) -> Erasure:
        """Erase as previewed; `confirm` is how many they are. Nothing brings them back.

        >>> s.devices.erase(Selection(ids=[546]), preview.digest, 14)
        """
        given = d.EraseApply(selection=selection, digest=digest, confirm=confirm, reason=reason)
        return await self._t.call(Erasure, "POST", "/devices/erase/apply", json=given)

    async def preview_assign(self, device_id: int, person: str | None) -> Preview:
        """What giving the device to a person would change.

        >>> s.devices.preview_assign(546, "maud.fenwick")
        """
        return await self._t.call(
            Preview, "POST", f"/devices/{device_id}/assign/preview", json=d.Assign(person=person)
        )

    async def assign(
        self, device_id: int, person: str | None, digest: str, reason: str | None = None
    ) -> Preview:
        """Give the device to a person as previewed.

        >>> s.devices.assign(546, "maud.fenwick", preview.digest)
        """
        return await self._t.call(
            Preview,
            "POST",
            f"/devices/{device_id}/assign/apply",
            json=d.AssignApply(person=person, digest=digest, reason=reason),
        )

    async def name(self, device_id: int, name: str, reason: str | None = None) -> None:
        """Name a device by hand.

        >>> s.devices.name(546, "Quay phones")
        """
        await self._t.send(
            "POST", f"/devices/{device_id}/name", json=d.SetName(name=name, reason=reason)
        )

    async def preview_report(self, selection: d.Selection, flag: Flag | None) -> Preview:
        """Which devices would be reported missing or stolen (None: found), and what that does.

        >>> s.devices.preview_report(Selection(ids=[546]), "missing")
        """
        given = d.Report(selection=selection, flag=flag)
        return await self._t.call(Preview, "POST", "/devices/report/preview", json=given)

    async def report(
        self, selection: d.Selection, flag: Flag | None, digest: str, reason: str | None = None
    ) -> Preview:
        """Report as previewed.

        >>> s.devices.report(Selection(ids=[546]), "missing", preview.digest)
        """
        given = d.ReportApply(selection=selection, flag=flag, digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", "/devices/report/apply", json=given)
