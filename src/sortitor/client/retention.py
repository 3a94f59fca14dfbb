"""What goes when its time is over."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Noun
from sortitor.schemas.retention import Going


class Retention(Noun):
    """What goes when its time is over."""

    def preview(self) -> Sequence[Going]:
        """What would go tonight.

        >>> s.retention.preview()
        """
        return self._t.whole(Going, "GET", "/retention")
