# Made by tools/async_client.py; change the module of the same name one folder up.
"""People."""

from __future__ import annotations

from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any, Literal

from sortitor.client.aio.noun import Key, Noun, at
from sortitor.schemas import people as p
from sortitor.schemas.base import Preview


class People(Noun):
    """People."""

    async def preview_import(self, path: Path, complete: bool = False) -> Preview:
        """What a CSV of people would change. `complete`: it names everybody, so whom it does not
        name has left.

        >>> s.people.preview_import(Path("file.csv"))
        """
        return await self._t.call(
            Preview,
            "POST",
            "/people/imports/preview",
            content=path.read_bytes(),
            params={"complete": complete},
            headers={"Content-Type": "text/csv"},
        )

    async def apply_import(
        self, path: Path, digest: str, reason: str | None = None, complete: bool = False
    ) -> Preview:
        """Import the people as previewed.

        >>> s.people.apply_import(Path("file.csv"), preview.digest)
        """
        params: dict[str, Any] = {"digest": digest, "complete": complete} | (
            {"reason": reason} if reason else {}
        )
        return await self._t.call(
            Preview,
            "POST",
            "/people/imports/apply",
            content=path.read_bytes(),
            params=params,
            headers={"Content-Type": "text/csv"},
        )

    def list(
        self,
        query: str | None = None,
        group: str | None = None,
        most: int | None = None,
        pool: Key | None = None,
        *,
        over_quota: bool = False,
        sort: Literal["id", "name", "user_name", "department", "site", "holding"] = "id",
        descending: bool = False,
    ) -> AsyncIterator[p.Person]:
        """People in an order; `pool`: those whose devices take a seat of it; `over_quota`: those
        who have more devices than they may.

        >>> for one in s.people.list():
        ...     print(one)
        """
        asked = {
            "query": query,
            "group": group,
            "pool": pool,
            "over_quota": over_quota or None,
            "sort": sort,
            "descending": descending or None,
        }
        return self._t.pages(p.Person, "/people", asked, most)

    async def show(self, person: Key) -> p.PersonDetail:
        """One person with devices and quota.

        >>> s.people.show("maud.fenwick")
        """
        return await self._t.call(p.PersonDetail, "GET", at("/people", person))

    async def set_left(self, person: Key, left: bool = True, reason: str | None = None) -> None:
        """Note that somebody has left, or is back.

        >>> s.people.set_left("maud.fenwick")
        """
        await self._t.send(
            "POST", at("/people", person, "left"), json=p.Leaving(left=left, reason=reason)
        )

    async def preview_departure(self, person: Key, departure: p.Departure) -> Preview:
        """What somebody's leaving would do to their devices, passes and holds.

        >>> s.people.preview_departure("maud.fenwick", departure)
        """
        return await self._t.call(
            Preview, "POST", at("/people", person, "departure/preview"), json=departure
        )

    async def leave(
        self, person: Key, departure: p.Departure, digest: str, reason: str | None = None
    ) -> Preview:
        """Let somebody leave as previewed.

        >>> s.people.leave("maud.fenwick", departure, preview.digest)
        """
        given = p.DepartureApply(**departure.model_dump(), digest=digest, reason=reason)
        return await self._t.call(
            Preview, "POST", at("/people", person, "departure/apply"), json=given
        )
