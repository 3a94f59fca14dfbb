"""Filters for editors: reading them, counting their devices, values to choose from."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any

from sortitor.core.errors import BadInput
from sortitor.core.filter_repairs import asks
from sortitor.core.filters import all_of, as_tree, moving, one_of, parse
from sortitor.core.lifecycle import COUNTED
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations import kept_numbers
from sortitor.operations.context import Context
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.selections import written_out
from sortitor.store import devices as store

#: So many are offered; of an attribute that has fewer than so many, all are kept.
_MOST_VALUES, _KEPT_VALUES = 20, 2_000
#: Attributes whose values can be chosen from.
SUGGESTED = frozenset(store.CHOICES)


@dataclass(frozen=True, slots=True)
class Question:
    """What a filter that fits nothing probably means."""

    words: str
    filter: str


@dataclass(frozen=True, slots=True)
class ReadFilter:
    """A filter that can be read: its tree, and how many devices fit it now."""

    tree: dict[str, Any]
    devices: int
    moving: bool
    question: Question | None


def check(
    ctx: Context, filter_text: str, in_use: bool = False, awaited_too: bool = False
) -> ReadFilter:
    """Read a filter and count its devices, or those of them that are in use (or awaited). Raises
    BadInput with column, caret and nearest name.
    """
    found = parse(filter_text)
    stages = (*COUNTED, Stage.AWAITED) if awaited_too else COUNTED
    with ctx.reading() as connection:
        fitting = written_out(connection, ctx.veil.parse(filter_text))
        counted = all_of(one_of("stage", stages), fitting) if in_use else fitting
        number = store.count(connection, Selection(filter=counted), ctx.now)
    asked = asks(filter_text)
    question = Question(asked.mistakes[0].words, asked.text) if asked is not None else None
    return ReadFilter(as_tree(found), number, moving(found), question)


def values_of(ctx: Context, attribute: str, beginning: str) -> list[str]:
    """Values that devices have now for an attribute of few words, for completion."""
    if attribute not in SUGGESTED:
        raise BadInput("no_values", f"{attribute!r} has no values to choose from.", "Write one.")
    counting = Counting(f"values of {attribute}", partial(_first_values, attribute))
    known = kept_numbers.known(ctx, [counting])[counting.family]
    if len(known) < _KEPT_VALUES:
        begins = beginning.lower()
        return [value for value in known if value.lower().startswith(begins)][:_MOST_VALUES]
    with ctx.reading() as connection:
        return store.values_of(connection, attribute, beginning, _MOST_VALUES)


def _first_values(attribute: str, ctx: Context) -> list[str]:
    with ctx.reading() as connection:
        return store.values_of(connection, attribute, "", _KEPT_VALUES)
