# Made by tools/async_client.py; change the module of the same name one folder up.
"""Lots."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from typing import Literal

from sortitor.client.aio.jobs import Jobs, Watch, unwatched
from sortitor.client.aio.noun import Noun
from sortitor.client.aio.sending import Content, content_of, name_of
from sortitor.core.vocabulary import LotStatus, Platform, Remedy, Verdict
from sortitor.core.words import JOB_BYTES, JOB_ROWS
from sortitor.schemas import jobs as jb
from sortitor.schemas import lots as lo
from sortitor.schemas.base import Apply, Preview, ReasonGiven

_ASYNC = {"Prefer": "respond-async"}


class Lots(Noun):
    """Lots."""

    async def check(
        self,
        file: Content | None = None,
        *,
        paste: str | None = None,
        name: str | None = None,
        defaults: Mapping[str, str] | None = None,
        columns: Mapping[str, str] | None = None,
        overwrite_manual: bool = False,
        by_hand: bool = False,
        add_unknown: bool | None = None,
        sheets: Sequence[str] = (),
        header_row: int | None = None,
        encoding: str | None = None,
        dates: Mapping[str, str] | None = None,
        like: int | None = None,
        watch: Watch | None = None,
    ) -> lo.Lot:
        """Check a file of any format, or pasted identifiers, and keep it as a draft. The very same
        file gives the same lot again: its `status` says whether it was applied since, its
        `repeated` that it was there.

        file: a path, bytes, or a stream of bytes. A large one is a job, which is waited for.
        columns: column → header. sheets: of a workbook; several are taken together. header_row:
        0 where the file has no headers. dates: header → "day" or "month", which comes first.
        add_unknown: whether devices that nobody knows are added; None:
        those of a table are, those of a pasted list or of a statement by hand are not. like: a lot
        whose defaults and columns are taken over. watch: hears how far a large file is.

        >>> s.lots.check("delivery.csv", defaults={"ownership": "corporate"})
        """
        content = (paste or "").encode() if file is None else content_of(file)
        called = None if file is None else name_of(file)
        params: list[tuple[str, str]] = [("name", name)] if name else []
        params += [("file_name", called)] if called else []
        params += [("default", f"{k}={v}") for k, v in (defaults or {}).items()] + [
            ("column", f"{k}={v}") for k, v in (columns or {}).items()
        ]
        params += [
            (flag, "true")
            for flag, given in (("overwrite_manual", overwrite_manual), ("by_hand", by_hand))
            if given
        ]
        if add_unknown is not None:
            params.append(("add_unknown", "true" if add_unknown else "false"))
        params += [
            (word, str(value))
            for word, value in (("header_row", header_row), ("encoding", encoding), ("like", like))
            if value is not None
        ]
        params += [("sheet", sheet) for sheet in sheets]
        params += [("date_order", f"{k}={v}") for k, v in (dates or {}).items()]
        media = "text/plain" if file is None else "application/octet-stream"
        headers = {"Content-Type": media}
        if len(content) < JOB_BYTES or not (self._t.jobs or watch):
            return await self._t.call(
                lo.Lot, "POST", "/lots", params=params, content=content, headers=headers
            )
        taken = await self._t.call(
            lo.LotTaken,
            "POST",
            "/lots",
            params=params,
            content=content,
            headers={**headers, **_ASYNC},
        )
        if taken.job is not None:
            await Jobs(self._t).follow(taken.job, watch or unwatched)
        lot = await self.show(taken.lot_id)
        return lot.model_copy(update={"repeated": taken.job is None})

    async def read_again(self, lot_id: int, settings: lo.LotSettings) -> lo.Lot:
        """Read a draft in another way: columns, defaults, sheets, header line, encoding, dates.

        >>> s.lots.read_again(12, settings)
        """
        return await self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/settings",
            json=settings.model_dump(mode="json", exclude_unset=True),
        )

    async def edit(
        self,
        lot_id: int,
        column: str,
        value: str | None,
        *,
        rows: Sequence[int] = (),
        note: str | None = None,
        verdict: Verdict | None = None,
    ) -> lo.Lot:
        """Set one cell, or one column of many rows.

        >>> s.lots.edit(12, "serial", "GK4T100023")
        """
        return await self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/edit",
            json=lo.RowEdit(
                rows=list(rows), note=note, verdict=verdict, column=column, value=value
            ),
        )

    async def resolve(
        self,
        lot_id: int,
        remedy: Remedy | None,
        *,
        rows: Sequence[int] = (),
        note: str | None = None,
        verdict: Verdict | None = None,
    ) -> lo.Lot:
        """Leave rows out, take lines as rows, take devices back, merge them; None undoes it.

        >>> s.lots.resolve(12, Remedy.LEAVE_OUT)
        """
        return await self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/resolve",
            json=lo.RowRemedy(rows=list(rows), note=note, verdict=verdict, remedy=remedy),
        )

    async def takeout(
        self, lot_id: int, form: str = "csv", verdicts: Sequence[Verdict] = ()
    ) -> bytes:
        """Rows that stayed behind, with a `problem` column, as a CSV or XLSX file.

        >>> s.lots.takeout(12)
        """
        return (
            await self._t.send(
                "GET",
                f"/lots/{lot_id}/takeout",
                params={"form": form, **({"verdict": list(verdicts)} if verdicts else {})},
            )
        ).content

    async def template(self, platform: Platform, form: str = "csv") -> bytes:
        """A file with the headers for a platform's devices.

        >>> s.lots.template(Platform.ANDROID)
        """
        return (
            await self._t.send("GET", f"/lot-templates/{platform}", params={"form": form})
        ).content

    def list(
        self,
        status: LotStatus | None = None,
        query: str | None = None,
        most: int | None = None,
        *,
        sort: Literal["id", "name", "status", "created_by"] = "id",
        descending: bool = True,
    ) -> AsyncIterator[lo.Lot]:
        """Lots, newest first, or in another order.

        >>> for one in s.lots.list():
        ...     print(one)
        """
        asked = {"status": status, "query": query, "sort": sort, "descending": descending}
        return self._t.pages(lo.Lot, "/lots", asked, most)

    async def show(self, lot_id: int) -> lo.Lot:
        """One lot.

        >>> s.lots.show(12)
        """
        return await self._t.call(lo.Lot, "GET", f"/lots/{lot_id}")

    def rows(
        self,
        lot_id: int,
        verdict: Verdict | None = None,
        note: str | None = None,
        most: int | None = None,
    ) -> AsyncIterator[lo.LotRow]:
        """Rows in the order of the file.

        >>> s.lots.rows(12)
        """
        return self._t.pages(
            lo.LotRow, f"/lots/{lot_id}/rows", {"verdict": verdict, "note": note}, most
        )

    async def notes(self, lot_id: int) -> Sequence[lo.NoteGroup]:
        """Notes grouped, most frequent first.

        >>> s.lots.notes(12)
        """
        return await self._t.whole(lo.NoteGroup, "GET", f"/lots/{lot_id}/notes")

    async def file(self, lot_id: int) -> bytes:
        """The file, byte for byte.

        >>> s.lots.file(12)
        """
        return (await self._t.send("GET", f"/lots/{lot_id}/file")).content

    async def preview(self, lot_id: int) -> Preview:
        """What applying would do now.

        >>> s.lots.preview(12)
        """
        return await self._t.call(Preview, "POST", f"/lots/{lot_id}/preview")

    async def apply(
        self, lot_id: int, digest: str, reason: str | None = None, watch: Watch | None = None
    ) -> lo.Lot:
        """Apply as previewed; a large lot is a job, which is waited for.

        >>> s.lots.apply(12, preview.digest)
        """
        return await self._long(lot_id, "apply", Apply(digest=digest, reason=reason), watch)

    async def discard(self, lot_id: int, reason: str | None = None) -> lo.Lot:
        """Put a draft aside.

        >>> s.lots.discard(12)
        """
        return await self._t.call(
            lo.Lot, "POST", f"/lots/{lot_id}/discard", json=ReasonGiven(reason=reason)
        )

    async def preview_revert(self, lot_id: int) -> Preview:
        """What reverting would do.

        >>> s.lots.preview_revert(12)
        """
        return await self._t.call(Preview, "POST", f"/lots/{lot_id}/revert/preview")

    async def revert(
        self, lot_id: int, digest: str, reason: str | None = None, watch: Watch | None = None
    ) -> lo.Lot:
        """Revert as previewed.

        >>> s.lots.revert(12, preview.digest)
        """
        return await self._long(lot_id, "revert", Apply(digest=digest, reason=reason), watch)

    async def _long(self, lot_id: int, what: str, given: Apply, watch: Watch | None) -> lo.Lot:
        path = f"/lots/{lot_id}/{what}"
        if watch is None:
            lot = await self.show(lot_id)
            if not self._t.jobs or sum(lot.counts.values()) <= JOB_ROWS:
                return await self._t.call(lo.Lot, "POST", path, json=given)
        job = await self._t.call(jb.Job, "POST", path, json=given, headers=_ASYNC)
        await Jobs(self._t).follow(job, watch or unwatched)
        return await self.show(lot_id)
