"""Rows with types: what a query gives, as frozen dataclasses of the rooms above."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import fields
from datetime import datetime
from enum import StrEnum
from functools import lru_cache
from types import UnionType
from typing import Any, TypeVar, Union, get_args, get_origin, get_type_hints

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Executable,
    Row,
    Select,
    any_,
    literal,
    tuple_,
)
from sqlalchemy.dialects.postgresql import ARRAY

from sortitor.core.errors import BadInput

Kind = TypeVar("Kind")


def read_all(connection: Connection, query: Executable, kind: type[Kind]) -> list[Kind]:
    """Every row as a `kind`; columns are its fields by name, words become enums."""
    result = connection.execute(query)
    make = _maker(kind, tuple(result.keys()))  # type: ignore[arg-type]
    return [make(row) for row in result.all()]


def read_one(
    connection: Connection,
    query: Executable,
    kind: type[Kind],
    values: Mapping[str, Any] | None = None,
) -> Kind | None:
    """The only row as a `kind`, or None; `values` of a query that was made beforehand."""
    result = connection.execute(query, values)
    row = result.one_or_none()
    return None if row is None else _maker(kind, tuple(result.keys()))(row)  # type: ignore[arg-type]


def number(
    connection: Connection, query: Executable, values: Mapping[str, Any] | None = None
) -> int:
    """The one number that a query gives; `values` of a query that was made beforehand."""
    return int(connection.execute(query, values).scalar_one())


def as_pattern(text: str) -> str:
    """A text that LIKE is to find as it is."""
    return re.sub(r"([%_\\])", r"\\\1", text)


def among(column: ColumnElement[Any], numbers: Iterable[int]) -> ColumnElement[bool]:
    """Whether a column is one of the numbers, given as one array: a parameter each ends at
    65,535.
    """
    return column == any_(literal([*numbers], ARRAY(BigInteger)))


def beyond(
    key: ColumnElement[Any], number: ColumnElement[int], after: Sequence[Any], descending: bool
) -> ColumnElement[bool]:
    """What comes after the row of a key and a number, `after`, in the order of both. Raises
    BadInput for the key of another order.
    """
    value, kind = after[0], key.type.python_type
    try:
        value = datetime.fromisoformat(value) if kind is datetime else value
    except (TypeError, ValueError):
        value = None
    if not isinstance(value, kind):
        raise BadInput(
            "bad_cursor", "The cursor belongs to another list.", "Start from the first page."
        )
    place, there = tuple_(key, number), tuple_(literal(value, key.type), literal(after[1]))
    return place < there if descending else place > there


def in_order(
    query: Select[Any],
    key: ColumnElement[Any],
    number: ColumnElement[int],
    after: Sequence[Any] | None,
    descending: bool,
) -> Select[Any]:
    """A query in the order of a key, then of a number, from the row after `after` on; the key comes
    along as `sort_key`.
    """
    if after is not None:
        query = query.where(beyond(key, number, after, descending))
    order = (key.desc(), number.desc()) if descending else (key, number)
    return query.add_columns(key.label("sort_key")).order_by(*order)


@lru_cache(maxsize=512)
def _maker(kind: type[Kind], columns: tuple[str, ...]) -> Callable[[Row[Any]], Kind]:
    """How a row with these columns becomes a `kind`, worked out once."""
    places = {name: place for place, name in enumerate(columns)}
    hints = get_type_hints(kind)
    parts = [
        (field.name, places[field.name], _enum_of(hints[field.name]))
        for field in fields(kind)  # type: ignore[arg-type]
    ]

    def make(row: Row[Any]) -> Kind:
        return kind(
            **{
                name: row[place] if enum is None or row[place] is None else enum(row[place])
                for name, place, enum in parts
            }
        )

    return make


def _enum_of(hint: Any) -> type[StrEnum] | None:
    """The enum that a field holds, alone or beside None."""
    if get_origin(hint) in (Union, UnionType):
        return next((enum for part in get_args(hint) if (enum := _enum_of(part))), None)
    return hint if isinstance(hint, type) and issubclass(hint, StrEnum) else None
