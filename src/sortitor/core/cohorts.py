"""Cohorts: named sets of devices, by filter or by list."""

from __future__ import annotations

from collections.abc import Mapping

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import Comparison, Filter, Joined, Not, attributes, holds_for, parse


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


def inlined(found: Filter, moving: Mapping[str, Filter]) -> Filter:
    """The filter with what it says of moving cohorts (name → filter) written out, since nothing but
    their filters knows who is in them now.
    """
    if isinstance(found, Not):
        return Not(inlined(found.part, moving))
    if isinstance(found, Joined):
        return Joined(found.word, tuple(inlined(part, moving) for part in found.parts))
    if found.attribute != "cohorts":
        return found
    if found.operator == "ne":
        return Not(inlined(Comparison("cohorts", "eq", found.value, found.text), moving))
    meant = tuple(filter_ for name, filter_ in moving.items() if holds_for(found, [name]))
    return Joined("or", (found, *meant)) if meant else found
