# Made by tools/async_client.py; change the module of the same name one folder up.
"""Saved views of the device list."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.noun import Noun
from sortitor.schemas import views as co


class Views(Noun):
    """Saved views of the device list."""

    async def list(self) -> Sequence[co.View]:
        """Saved views of the device list.

        >>> for one in s.views.list():
        ...     print(one)
        """
        return await self._t.whole(co.View, "GET", "/views")

    async def show(self, view_id: int) -> co.View:
        """One view: one's own, or one that is shared.

        >>> s.views.show(2)
        """
        return await self._t.call(co.View, "GET", f"/views/{view_id}")

    async def save(self, view: co.ViewNew) -> co.View:
        """Keep a view.

        >>> s.views.save(view)
        """
        return await self._t.call(co.View, "POST", "/views", json=view)

    async def remove(self, view_id: int) -> None:
        """Forget a view of one's own.

        >>> s.views.remove(2)
        """
        await self._t.send("DELETE", f"/views/{view_id}")
