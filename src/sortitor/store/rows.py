"""Rows with types: what a query gives, as frozen dataclasses of the rooms above."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import fields
from enum import StrEnum
from types import UnionType
from typing import Any, TypeVar, Union, get_args, get_origin, get_type_hints

from sqlalchemy import BigInteger, ColumnElement, Connection, Executable, Row, any_, literal
from sqlalchemy.dialects.postgresql import ARRAY

Kind = TypeVar("Kind")


def read_all(connection: Connection, query: Executable, kind: type[Kind]) -> list[Kind]:
    """Every row as a `kind`; columns are its fields by name, words become enums."""
    make = _maker(kind)
    return [make(row) for row in connection.execute(query)]


def read_one(
    connection: Connection,
    query: Executable,
    kind: type[Kind],
    values: Mapping[str, Any] | None = None,
) -> Kind | None:
    """The only row as a `kind`, or None; `values` of a query that was made beforehand."""
    row = connection.execute(query, values).one_or_none()
    return None if row is None else _maker(kind)(row)


def number(
    connection: Connection, query: Executable, values: Mapping[str, Any] | None = None
) -> int:
    """The one number that a query gives; `values` of a query that was made beforehand."""
    return int(connection.execute(query, values).scalar_one())


def among(column: ColumnElement[Any], numbers: Iterable[int]) -> ColumnElement[bool]:
    """Whether a column is one of the numbers, given as one array: a parameter each ends at
    65,535.
    """
    return column == any_(literal([*numbers], ARRAY(BigInteger)))


_MAKERS: dict[type[Any], Callable[[Row[Any]], Any]] = {}


def _maker(kind: type[Kind]) -> Callable[[Row[Any]], Kind]:
    """How a row becomes a `kind`, worked out once."""
    if kind not in _MAKERS:
        _MAKERS[kind] = _new_maker(kind)
    return _MAKERS[kind]


def _new_maker(kind: type[Kind]) -> Callable[[Row[Any]], Kind]:
    names = [field.name for field in fields(kind)]  # type: ignore[arg-type]
    hints = get_type_hints(kind)
    words = {name: found for name in names if (found := _enum_of(hints[name])) is not None}

    def make(row: Row[Any]) -> Kind:
        given = row._mapping
        values = {name: given[name] for name in names}
        for name, enum in words.items():
            if values[name] is not None:
                values[name] = enum(values[name])
        return kind(**values)

    return make


def _enum_of(hint: Any) -> type[StrEnum] | None:
    """The enum that a field holds, alone or beside None."""
    if get_origin(hint) in (Union, UnionType):
        return next((enum for part in get_args(hint) if (enum := _enum_of(part))), None)
    return hint if isinstance(hint, type) and issubclass(hint, StrEnum) else None
