"""Which devices are meant."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.filters import Filter


@dataclass(frozen=True, slots=True)
class Selection:
    """All that is said must hold; empty tuples and None say nothing.

    `query` searches as the search box does.
    """

    ids: tuple[int, ...] = ()
    identifiers: tuple[str, ...] = ()
    query: str | None = None
    person_id: int | None = None
    cohort_id: int | None = None
    #: What a lot added or changed.
    lot_id: int | None = None
    filter: Filter | None = None
    #: Whoever asks may not see the identifiers of personal devices, so neither finds a device by a
    #: part of one.
    masked: bool = False
