"""Holds: what is kept out of sweeps."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.noun import Noun
from sortitor.schemas import holds as h
from sortitor.schemas.base import Preview


class Holds(Noun):
    """Keeping devices, a person's or a cohort's, out of sweeps until a day."""

    def list(self, most: int | None = None, over: bool = False) -> Iterator[h.Hold]:
        """Holds that run or are to come, newest first; `over`: also those that have ended.

        >>> for one in s.holds.list():
        ...     print(one)
        """
        return self._t.pages(h.Hold, "/holds", {"over": over}, most)

    def show(self, hold_id: int) -> h.Hold:
        """One hold, also one that has ended.

        >>> s.holds.show(3)
        """
        return self._t.call(h.Hold, "GET", f"/holds/{hold_id}")

    def preview(self, hold: h.HoldNew) -> Preview:
        """Which devices a hold would keep.

        >>> s.holds.preview(hold)
        """
        return self._t.call(Preview, "POST", "/holds/preview", json=hold)

    def add(self, hold: h.HoldNew, digest: str) -> h.Hold:
        """Hold as previewed.

        >>> s.holds.add(hold, preview.digest)
        """
        given = h.HoldApply(**hold.model_dump(), digest=digest)
        return self._t.call(h.Hold, "POST", "/holds/apply", json=given)

    def end(self, hold_id: int, device_id: int | None = None, reason: str | None = None) -> None:
        """End a hold now, or for one of the devices that it names.

        >>> s.holds.end(3)
        """
        given = h.HoldEnd(device_id=device_id, reason=reason)
        self._t.send("POST", f"/holds/{hold_id}/end", json=given)
