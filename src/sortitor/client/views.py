"""Saved views of the device list."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Noun
from sortitor.schemas import views as co


class Views(Noun):
    """Saved views of the device list."""

    def list(self) -> Sequence[co.View]:
        """Saved views of the device list.

        >>> for one in s.views.list():
        ...     print(one)
        """
        return self._t.whole(co.View, "GET", "/views")

    def show(self, view_id: int) -> co.View:
        """One view: one's own, or one that is shared.

        >>> s.views.show(2)
        """
        return self._t.call(co.View, "GET", f"/views/{view_id}")

    def save(self, view: co.ViewNew) -> co.View:
        """Keep a view.

        >>> s.views.save(view)
        """
        return self._t.call(co.View, "POST", "/views", json=view)

    def remove(self, view_id: int) -> None:
        """Forget a view of one's own.

        >>> s.views.remove(2)
        """
        self._t.send("DELETE", f"/views/{view_id}")
