"""What a selection means at this moment: cohorts that time moves are read by their filters."""

from __future__ import annotations

from dataclasses import replace

from sortitor.core.cohorts import inlined
from sortitor.core.filters import Filter, all_of, attributes, parse
from sortitor.core.selection import Selection
from sortitor.operations.context import or_not_found
from sortitor.store import cohorts
from sortitor.store.engine import Connection


def resolve_selection(connection: Connection, selection: Selection) -> Selection:
    """The same devices, said so that the store can find them."""
    if selection.cohort_id is not None:
        found = cohorts.one(connection, selection.cohort_id)
        cohort = or_not_found(found, "cohort", selection.cohort_id)
        if cohort.moving and cohort.filter is not None:
            own_filter = all_of(parse(cohort.filter), selection.filter)
            selection = replace(selection, cohort_id=None, filter=own_filter)
    if selection.filter is not None:
        selection = replace(selection, filter=written_out(connection, selection.filter))
    return selection


def written_out(connection: Connection, found: Filter) -> Filter:
    """The filter without cohorts that only their own filters know."""
    if "cohorts" not in attributes(found):
        return found
    return inlined(found, cohorts.moving(connection))
