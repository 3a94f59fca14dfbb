# Made by tools/async_client.py; change the module of the same name one folder up.
"""What goes when its time is over."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.noun import Noun
from sortitor.schemas.retention import Going


class Retention(Noun):
    """What goes when its time is over."""

    async def preview(self) -> Sequence[Going]:
        """What would go tonight.

        >>> s.retention.preview()
        """
        return await self._t.whole(Going, "GET", "/retention")
