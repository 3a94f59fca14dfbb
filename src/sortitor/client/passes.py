"""Passes."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.noun import Noun
from sortitor.schemas import passes as r
from sortitor.schemas.base import ReasonGiven


class Passes(Noun):
    """Passes."""

    def add(self, given: r.PassTerms) -> r.PassCode:
        """Make a pass; the code is given this once."""
        return self._t.call(r.PassCode, "POST", "/passes", json=given)

    def list(self, most: int | None = None) -> Iterator[r.Pass]:
        """Passes, newest first."""
        return self._t.pages(r.Pass, "/passes", {}, most)

    def revoke(self, pass_id: int, reason: str | None = None) -> None:
        """End a pass at once."""
        self._t.send("POST", f"/passes/{pass_id}/revoke", json=ReasonGiven(reason=reason))
