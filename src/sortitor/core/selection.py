"""Which devices are meant: by number, or by simple conditions that all hold."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.filters import Filter
from sortitor.core.vocabulary import Ownership, Platform, Stage


@dataclass(frozen=True, slots=True)
class Selection:
    """Empty tuples and None do not restrict. `query` searches as the search box does."""

    ids: tuple[int, ...] = ()
    identifiers: tuple[str, ...] = ()
    stages: tuple[Stage, ...] = ()
    platforms: tuple[Platform, ...] = ()
    ownerships: tuple[Ownership, ...] = ()
    sites: tuple[str, ...] = ()
    makers: tuple[str, ...] = ()
    models: tuple[str, ...] = ()
    lot_id: int | None = None
    person_id: int | None = None
    cohort_id: int | None = None
    query: str | None = None
    idle_days_min: int | None = None
    idle_days_max: int | None = None
    filter: Filter | None = None
