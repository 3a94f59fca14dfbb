"""Cohorts: named sets of devices, by filter or by list."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import Field

from sortitor.core.documents import FilterText, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import (
    Comparison,
    Filter,
    Joined,
    Not,
    attributes,
    holds_for,
    moving,
    parse,
)


class Cohort(NamedDocument):
    """A set of devices: by filter, or (without one) by list."""

    filter: FilterText = Field(
        default=None, description="Which devices are in it, in the filter language; empty: a list."
    )
    note: Note = Field(default=None, description="What it is for.")

    def check(self) -> None:
        """Raise BadInput for a filter that cannot be a cohort's."""
        if self.filter:
            check_filter(self.filter)

    @property
    def is_moving(self) -> bool:
        """Whether the mere passing of time moves devices in and out."""
        return self.filter is not None and moving(parse(self.filter))


def check_filter(text: str) -> Filter:
    """The filter of a cohort. Raises BadInput where it is none, or speaks of cohorts itself: sets
    that lean on each other have no beginning.
    """
    found = parse(text)
    if "cohorts" in attributes(found):
        detail = "A cohort's filter cannot speak of cohorts."
        raise BadInput(
            "cohort_of_cohorts",
            detail,
            "Write out the other cohort's filter.",
            (FieldProblem("/filter", "cohort_of_cohorts", detail),),
        )
    return found


def inlined(found: Filter, moving_cohorts: Mapping[str, Filter]) -> Filter:
    """The filter with what it says of moving cohorts (name → filter) written out.

    Nothing but their filters knows who is in them now.
    """
    if isinstance(found, Not):
        return Not(inlined(found.part, moving_cohorts))
    if isinstance(found, Joined):
        return Joined(found.word, tuple(inlined(part, moving_cohorts) for part in found.parts))
    if found.attribute != "cohorts":
        return found
    if found.operator == "ne":
        return Not(inlined(Comparison("cohorts", "eq", found.value, found.text), moving_cohorts))
    meant = tuple(filter_ for name, filter_ in moving_cohorts.items() if holds_for(found, [name]))
    return Joined("or", (found, *meant)) if meant else found


def speaks_of(found: Filter, name: str) -> bool:
    """Whether a filter asks for membership of the cohort of this name."""
    if isinstance(found, Not):
        return speaks_of(found.part, name)
    if isinstance(found, Joined):
        return any(speaks_of(part, name) for part in found.parts)
    if found.attribute != "cohorts":
        return False
    asked = Comparison("cohorts", "eq", found.value) if found.operator == "ne" else found
    return holds_for(asked, [name])
