"""Levels: how the systems disagree, and what is done about it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from pathlib import Path
from typing import Any, Literal

from sortitor.client.jobs import Jobs, Watch, unwatched
from sortitor.client.noun import Noun
from sortitor.core.vocabulary import GapState, Mend
from sortitor.core.words import JOB_ROWS
from sortitor.schemas import levels as s
from sortitor.schemas.base import Preview
from sortitor.schemas.jobs import Job


class Levels(Noun):
    """The comparison of the fleet with every roster."""

    def show(self) -> s.Levels:
        """The comparison as it was last made.

        >>> s.levels.show()
        """
        return self._t.call(s.Levels, "GET", "/levels")

    def compare(self, watch: Watch | None = None) -> s.Levels:
        """Compare now; `watch` hears how far it is, where there is so much that a job does it.

        >>> s.levels.compare()
        """
        levels = self.show()
        if sum(roster.devices for roster in levels.rosters) <= JOB_ROWS:
            return self._t.call(s.Levels, "POST", "/levels/compare")
        headers = {"Prefer": "respond-async"}
        job = self._t.call(Job, "POST", "/levels/compare", headers=headers)
        Jobs(self._t).follow(job, watch or unwatched)
        return self.show()

    def trend(self) -> Sequence[s.LevelDay]:
        """How many disagreements stood open, day by day.

        >>> s.levels.trend()
        """
        return self._t.whole(s.LevelDay, "GET", "/levels/trend")

    def pattern(self, mask: int, most: int | None = None) -> Iterator[s.PresentDevice]:
        """The devices of one pattern of presence.

        >>> s.levels.pattern(3)
        """
        return self._t.pages(s.PresentDevice, f"/levels/patterns/{mask}", {}, most)

    def list(self, most: int | None = None, **asked: Any) -> Iterator[s.Discrepancy]:
        """Disagreements, oldest first; `asked` are the fields of GapSelection.

        >>> for one in s.levels.list():
        ...     print(one)
        """
        return self._t.pages(s.Discrepancy, "/discrepancies", _params(asked), most)

    def show_one(self, gap_id: int) -> s.Discrepancy:
        """One disagreement.

        >>> s.levels.show_one(14)
        """
        return self._t.call(s.Discrepancy, "GET", f"/discrepancies/{gap_id}")

    def export(self, to: Path, form: Literal["csv", "xlsx"] = "csv", **asked: Any) -> None:
        """Disagreements as a file.

        >>> s.levels.export(Path("file.csv"))
        """
        self._t.download("/discrepancies/export", to, {**_params(asked), "form": form})

    def decide(
        self,
        which: s.GapSelection,
        state: GapState | None = None,
        until_on: date | None = None,
        owner: str | None = None,
        note: str | None = None,
        reason: str | None = None,
    ) -> int:
        """Decide about disagreements; gives how many were meant.

        >>> s.levels.decide(which)
        """
        given = s.GapDecision(
            which=which, state=state, until_on=until_on, owner=owner, note=note, reason=reason
        )
        return self._t.call(s.Decided, "POST", "/discrepancies/decide", json=given).count

    def preview_mend(self, which: s.GapSelection, mend: Mend) -> Preview:
        """What mending would change.

        >>> s.levels.preview_mend(which, Mend.TAKE_WORD)
        """
        given = s.MendAsked(which=which, mend=mend)
        return self._t.call(Preview, "POST", "/discrepancies/mend/preview", json=given)

    def mend(
        self, which: s.GapSelection, mend: Mend, digest: str, reason: str | None = None
    ) -> Preview:
        """Mend as previewed.

        >>> s.levels.mend(which, Mend.TAKE_WORD, preview.digest)
        """
        given = s.MendApply(which=which, mend=mend, digest=digest, reason=reason)
        return self._t.call(Preview, "POST", "/discrepancies/mend", json=given)


def _params(asked: dict[str, Any]) -> dict[str, Any]:
    """The fields of GapSelection as the list names them."""
    names = {"source_id": "source", "device_id": "device", "near_only": "near"}
    stated = {name: value for name, value in asked.items() if value not in (None, False, ())}
    return {names.get(name, name): value for name, value in stated.items()}
