"""What a selection means at this moment: cohorts that time moves are read by their filters."""

from __future__ import annotations

from dataclasses import replace

from sqlalchemy import Connection

from sortitor.core.cohorts import inlined
from sortitor.core.filters import Filter, all_of, attributes, parse, veiled
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Role
from sortitor.operations.context import Context, must
from sortitor.store import cohorts


def meant(connection: Connection, selection: Selection) -> Selection:
    """The same devices, said so that the store can find them."""
    if selection.cohort_id is not None:
        cohort = must(cohorts.one(connection, selection.cohort_id), "cohort", selection.cohort_id)
        if cohort.moving:
            selection = replace(
                selection, cohort_id=None, filter=all_of(parse(cohort.filter), selection.filter)
            )
    if selection.filter is not None:
        selection = replace(selection, filter=written_out(connection, selection.filter))
    return selection


def sees_identifiers(ctx: Context) -> bool:
    """Whether the identifiers of personal devices are for whoever asks: for those who work with
    them.
    """
    return ctx.actor.role.covers(Role.COORDINATOR)


def asked_by(ctx: Context, filter_text: str) -> Filter:
    """The filter that somebody asks by. Raises BadInput with column, caret and nearest name."""
    found = parse(filter_text)
    return found if sees_identifiers(ctx) else veiled(found)


def written_out(connection: Connection, found: Filter) -> Filter:
    """The filter without cohorts that only their own filters know."""
    return inlined(found, cohorts.moving(connection)) if "cohorts" in attributes(found) else found
