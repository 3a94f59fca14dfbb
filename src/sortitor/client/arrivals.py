"""Arrivals, as the coordinator sees them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from sortitor.client.noun import Key, Noun
from sortitor.core.vocabulary import (
    Outcome,
    WayStage,
)
from sortitor.schemas import arrivals as r
from sortitor.schemas.base import Apply, Preview, ReasonGiven


class Arrivals(Noun):
    """Arrivals."""

    def list(
        self,
        outcome: Outcome | None = None,
        waiting: bool = False,
        most: int | None = None,
        *,
        way: WayStage | None = None,
        pass_id: int | None = None,
        device: int | None = None,
        identifier: str | None = None,
        person: Key | None = None,
    ) -> Iterator[r.Arrival]:
        """Arrivals, newest first: by what became of them, their device or pass, the serial number
        or IMEI that they stated, or their person.

        >>> for one in s.arrivals.list():
        ...     print(one)
        """
        conditions = {
            "outcome": outcome,
            "waiting": waiting or None,
            "way": way,
            "pass_id": pass_id,
            "device": device,
            "identifier": identifier,
            "person": person,
        }
        return self._t.pages(r.Arrival, "/arrivals", conditions, most)

    def counts(self, days: int = 1) -> r.WayCounts:
        """How many arrivals of the last days stand at each stage of the way in.

        >>> s.arrivals.counts()
        """
        return self._t.call(r.WayCounts, "GET", "/arrivals/counts", params={"days": days})

    def show(self, arrival_id: int) -> r.ArrivalDetail:
        """One arrival with its trace.

        >>> s.arrivals.show(88)
        """
        return self._t.call(r.ArrivalDetail, "GET", f"/arrivals/{arrival_id}")

    def preview_hand_over(self, arrival_id: int) -> Preview:
        """What handing the device in use over to the one that arrived would change.

        >>> s.arrivals.preview_hand_over(88)
        """
        return self._t.call(Preview, "POST", f"/arrivals/{arrival_id}/hand-over/preview")

    def hand_over(self, arrival_id: int, digest: str, reason: str | None = None) -> Preview:
        """Take the arrived device for the one in use, as previewed.

        >>> s.arrivals.hand_over(88, preview.digest)
        """
        given = Apply(digest=digest, reason=reason)
        return self._t.call(Preview, "POST", f"/arrivals/{arrival_id}/hand-over", json=given)

    def turn_away(self, arrival_id: int, reason: str | None = None) -> None:
        """Let the device in use stay what it is.

        >>> s.arrivals.turn_away(88)
        """
        given = ReasonGiven(reason=reason)
        self._t.send("POST", f"/arrivals/{arrival_id}/turn-away", json=given)

    def waiting_file(self, form: str = "csv") -> bytes:
        """The devices that wait for their people, with a column to fill in.

        >>> s.arrivals.waiting_file()
        """
        return self._t.send("GET", "/arrivals/waiting/file", params={"form": form}).content

    def preview_assignments(self, path: Path) -> Preview:
        """What a list that was filled in would give to whom.

        >>> s.arrivals.preview_assignments(Path("file.csv"))
        """
        content, headers = path.read_bytes(), {"Content-Type": "application/octet-stream"}
        return self._t.call(
            Preview, "POST", "/arrivals/assignments/preview", content=content, headers=headers
        )

    def apply_assignments(self, path: Path, digest: str, reason: str | None = None) -> Preview:
        """Give the devices of a list as previewed.

        >>> s.arrivals.apply_assignments(Path("file.csv"), preview.digest)
        """
        content, headers = path.read_bytes(), {"Content-Type": "application/octet-stream"}
        return self._t.call(
            Preview,
            "POST",
            "/arrivals/assignments/apply",
            content=content,
            headers=headers,
            params={"digest": digest, "reason": reason},
        )
