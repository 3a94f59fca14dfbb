# Made by tools/async_client.py; change the module of the same name one folder up.
"""Cohorts."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import quote

from sortitor.client.aio.documents import Documents
from sortitor.client.aio.noun import Key, at
from sortitor.schemas import cohorts as co
from sortitor.schemas import devices as d
from sortitor.schemas.base import Preview


class Cohorts(Documents[co.Cohort, co.CohortDetail]):
    """Sets of devices, by filter or by list."""

    path = "/cohorts"
    answer = co.CohortDetail
    model = co.Cohort

    async def explain(self, cohort: Key, device_id: int) -> co.Explained:
        """Whether a device is in it, comparison by comparison.

        >>> s.cohorts.explain("Deck phones", 546)
        """
        return await self._t.call(
            co.Explained, "GET", at("/cohorts", cohort, "explain"), params={"device": device_id}
        )

    async def overlap(self, one: Key, other: Key) -> co.Overlap:
        """How many devices two cohorts share.

        >>> s.cohorts.overlap(one, "Spares")
        """
        return await self._t.call(
            co.Overlap, "GET", at("/cohorts", one, "overlap", quote(str(other), safe=""))
        )

    async def uses(self, cohort: Key) -> Sequence[co.Use]:
        """What speaks of it.

        >>> s.cohorts.uses("Deck phones")
        """
        return await self._t.whole(co.Use, "GET", at("/cohorts", cohort, "uses"))

    async def history(self, cohort: Key) -> Sequence[co.DayCount]:
        """Its numbers by day.

        >>> s.cohorts.history("Deck phones")
        """
        return await self._t.whole(co.DayCount, "GET", at("/cohorts", cohort, "history"))

    async def preview_list(
        self, cohort: Key, selection: d.Selection, put_in: bool = True
    ) -> Preview:
        """Which devices would come to a list or go from it.

        >>> s.cohorts.preview_list("Deck phones", Selection(ids=[546]))
        """
        return await self._t.call(
            Preview,
            "POST",
            at("/cohorts", cohort, "devices/preview"),
            json=co.ListChange(selection=selection, put_in=put_in),
        )

    async def change_list(
        self,
        cohort: Key,
        selection: d.Selection,
        digest: str,
        put_in: bool = True,
        reason: str | None = None,
    ) -> Preview:
        """Change a list as previewed.

        >>> s.cohorts.change_list("Deck phones", Selection(ids=[546]), preview.digest)
        """
        given = co.ListChangeApply(selection=selection, put_in=put_in, digest=digest, reason=reason)
        return await self._t.call(
            Preview, "POST", at("/cohorts", cohort, "devices/apply"), json=given
        )
