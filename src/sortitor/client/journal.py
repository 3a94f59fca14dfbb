"""The journal."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.noun import Noun
from sortitor.schemas import journal as j
from sortitor.schemas.base import Apply, Preview


class Journal(Noun):
    """The journal."""

    def list(
        self, operation: str | None = None, actor: str | None = None, most: int | None = None
    ) -> Iterator[j.Entry]:
        """Entries, newest first."""
        return self._t.pages(j.Entry, "/journal", {"operation": operation, "actor": actor}, most)

    def show(self, entry_id: int) -> j.EntryDetail:
        """One entry with its first effects."""
        return self._t.call(j.EntryDetail, "GET", f"/journal/{entry_id}")

    def preview_revert(self, entry_id: int) -> Preview:
        """What reverting would do."""
        return self._t.call(Preview, "POST", f"/journal/{entry_id}/revert/preview")

    def revert(self, entry_id: int, digest: str, reason: str | None = None) -> int:
        """Revert as previewed; gives the reverting entry's number."""
        return self._t.call(
            j.Reverted,
            "POST",
            f"/journal/{entry_id}/revert",
            json=Apply(digest=digest, reason=reason),
        ).entry_id
