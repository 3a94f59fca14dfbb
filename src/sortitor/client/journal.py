"""The journal."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import Literal

from sortitor.client.noun import Key, Noun
from sortitor.schemas import journal as j
from sortitor.schemas.base import Apply, Preview


def _asked(
    operation: str | None,
    actor: str | None,
    person: Key | None,
    device: int | None,
    since: date | None,
    until: date | None,
) -> dict[str, str]:
    asked = {
        "operation": operation,
        "actor": actor,
        "person": person,
        "device": device,
        "since": since,
        "until": until,
    }
    return {name: str(value) for name, value in asked.items() if value is not None}


class Journal(Noun):
    """The journal."""

    def list(
        self,
        operation: str | None = None,
        actor: str | None = None,
        most: int | None = None,
        *,
        person: Key | None = None,
        device: int | None = None,
        since: date | None = None,
        until: date | None = None,
        descending: bool = True,
    ) -> Iterator[j.Entry]:
        """Entries, newest or oldest first: by how their operation begins, who acted, whom and
        which device they concerned, from a day to a day.

        >>> for one in s.journal.list():
        ...     print(one)
        """
        asked = _asked(operation, actor, person, device, since, until)
        return self._t.pages(j.Entry, "/journal", {**asked, "descending": descending}, most)

    def file(
        self,
        path: Path,
        form: Literal["csv", "xlsx", "jsonl"] = "csv",
        operation: str | None = None,
        actor: str | None = None,
        *,
        person: Key | None = None,
        device: int | None = None,
        since: date | None = None,
        until: date | None = None,
    ) -> None:
        """Write the same entries in words to a file.

        >>> s.journal.file(Path("file.csv"))
        """
        asked = _asked(operation, actor, person, device, since, until)
        self._t.download("/journal/file", path, {"form": form, **asked})

    def show(self, entry_id: int) -> j.EntryDetail:
        """One entry with its first effects.

        >>> s.journal.show(118)
        """
        return self._t.call(j.EntryDetail, "GET", f"/journal/{entry_id}")

    def preview_revert(self, entry_id: int) -> Preview:
        """What reverting would do.

        >>> s.journal.preview_revert(118)
        """
        return self._t.call(Preview, "POST", f"/journal/{entry_id}/revert/preview")

    def revert(self, entry_id: int, digest: str, reason: str | None = None) -> int:
        """Revert as previewed; gives the reverting entry's number.

        >>> s.journal.revert(118, preview.digest)
        """
        return self._t.call(
            j.Reverted,
            "POST",
            f"/journal/{entry_id}/revert",
            json=Apply(digest=digest, reason=reason),
        ).entry_id

    def head(self) -> j.Head:
        """The end of the sealed chain, signed.

        >>> s.journal.head()
        """
        return self._t.call(j.Head, "GET", "/journal/head")

    def check_head(self, signed: str) -> j.HeadChecked:
        """Whether the chain still holds a head that was given out earlier.

        >>> s.journal.check_head(head.signed)
        """
        given = j.HeadGiven(signed=signed)
        return self._t.call(j.HeadChecked, "POST", "/journal/head/check", json=given)

    def verify(self) -> Iterator[j.Verification]:
        """Check the chain part by part, to its end or the first entry that is broken.

        >>> s.journal.verify()
        """
        place = 0
        while True:
            part = self._t.call(
                j.Verification, "GET", "/journal/verification", params={"after_place": place}
            )
            yield part
            if part.over:
                return
            place = part.place

    def export(self, path: Path, after_place: int = 0) -> None:
        """Write the sealed journal as JSON Lines.

        >>> s.journal.export(Path("file.csv"))
        """
        self._t.download("/journal/export", path, params={"after_place": after_place})
