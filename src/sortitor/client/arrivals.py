"""Arrivals, as the coordinator sees them."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.noun import Noun
from sortitor.core.vocabulary import (
    Outcome,
)
from sortitor.schemas import arrivals as r


class Arrivals(Noun):
    """Arrivals."""

    def list(
        self, outcome: Outcome | None = None, waiting: bool = False, most: int | None = None
    ) -> Iterator[r.Arrival]:
        """Arrivals, newest first."""
        return self._t.pages(
            r.Arrival, "/arrivals", {"outcome": outcome, "waiting": waiting or None}, most
        )

    def show(self, arrival_id: int) -> r.ArrivalDetail:
        """One arrival with its trace."""
        return self._t.call(r.ArrivalDetail, "GET", f"/arrivals/{arrival_id}")
