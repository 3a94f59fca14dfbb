"""Rows with types: what a query gives, as frozen dataclasses of the rooms above."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import fields
from datetime import date, datetime
from enum import StrEnum
from functools import cached_property, lru_cache
from types import UnionType
from typing import Any, TypeVar, Union, get_args, get_origin, get_type_hints

from psycopg import Cursor
from sqlalchemy import (
    BigInteger,
    ClauseElement,
    ColumnElement,
    Connection,
    Executable,
    Select,
    any_,
    cast,
    literal,
    tuple_,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.dialects.postgresql.psycopg import PGDialect_psycopg
from sqlalchemy.sql.compiler import SQLCompiler

from sortitor.core.errors import BadInput
from sortitor.store.engine import raw

Kind = TypeVar("Kind")


def read_all(connection: Connection, query: Executable, kind: type[Kind]) -> list[Kind]:
    """Every row as a `kind`; columns are its fields by name, words become enums."""
    result = connection.execute(query)
    return _made(kind, result.keys(), result.all())


def read_one(connection: Connection, query: Executable, kind: type[Kind]) -> Kind | None:
    """The only row as a `kind`, or None."""
    result = connection.execute(query)
    row = result.one_or_none()
    return None if row is None else _made(kind, result.keys(), [row])[0]


def number(connection: Connection, query: Executable) -> int:
    """The one number that a query gives."""
    return int(connection.execute(query).scalar_one())


class Ready:
    """A statement that is worked out once, with its values named by `bindparam`, and from then on
    run by the driver itself: for what every arriving device asks, where preparing the question took
    longer than answering it.
    """

    def __init__(self, statement: ClauseElement) -> None:
        self._statement = statement
        self._columns: tuple[str, ...] | None = None

    @cached_property
    def _written(self) -> tuple[str, dict[str, Any], dict[str, Callable[[Any], Any]]]:
        """As SQL, with the values that it has already, and what makes values fit their types."""
        dialect = PGDialect_psycopg()  # type: ignore[no-untyped-call]
        compiled = self._statement.compile(dialect=dialect)
        # A list of values is one array: IN would be written anew for every length.
        assert isinstance(compiled, SQLCompiler)
        assert not compiled.post_compile_params
        fitting: dict[str, Callable[[Any], Any]] = {
            str(name): fit
            for name, bound in compiled.binds.items()
            if (fit := bound.type.dialect_impl(dialect).bind_processor(dialect)) is not None
        }
        named = {str(name) for name, bound in compiled.binds.items() if bound.required}
        values = compiled.construct_params(dict.fromkeys(named))
        own = {
            name: _fitted(fitting.get(name), value)
            for name, value in values.items()
            if name not in named
        }
        return str(compiled), own, fitting

    def _run(self, connection: Connection, values: Mapping[str, Any]) -> Cursor[Any]:
        text, own, fitting = self._written
        given = {name: _fitted(fitting.get(name), value) for name, value in values.items()}
        return raw(connection).execute(text.encode(), own | given)

    def rows(self, connection: Connection, values: Mapping[str, Any]) -> list[Any]:
        """What it gives, as tuples."""
        return self._run(connection, values).fetchall()

    def one(
        self, connection: Connection, kind: type[Kind], values: Mapping[str, Any]
    ) -> Kind | None:
        """The only row as a `kind`, or None."""
        cursor = self._run(connection, values)
        row = cursor.fetchone()
        if row is None:
            return None
        if self._columns is None:
            self._columns = tuple(column.name for column in cursor.description or ())
        return _made(kind, self._columns, [row])[0]


def _fitted(fit: Callable[[Any], Any] | None, value: Any) -> Any:
    return value if fit is None else fit(value)


def as_pattern(text: str) -> str:
    """A text that LIKE is to find as it is."""
    return re.sub(r"([%_\\])", r"\\\1", text)


def among(column: ColumnElement[Any], numbers: Iterable[int]) -> ColumnElement[bool]:
    """Whether a column is one of the numbers, given as one array: a parameter each ends at
    65,535. As text: the driver writes a list number by number.
    """
    written = ",".join(f"{number:d}" for number in numbers)
    return column == any_(cast(literal(f"{{{written}}}"), ARRAY(BigInteger)))


def beyond(
    key: ColumnElement[Any], number: ColumnElement[int], after: Sequence[Any], descending: bool
) -> ColumnElement[bool]:
    """What comes after the row of a key and a number, `after`, in the order of both. Raises
    BadInput for the key of another order.
    """
    value, kind = after[0], key.type.python_type
    try:
        value = kind.fromisoformat(value) if kind in (date, datetime) else value
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


def _made(kind: type[Kind], names: Iterable[str], rows: Sequence[Sequence[Any]]) -> list[Kind]:
    """Rows with columns of these names, each as a `kind`; column by column, which is quicker."""
    if not rows:
        return []
    columns = dict(zip(names, zip(*rows, strict=True), strict=True))
    values = (
        columns[name] if words is None else map(words.__getitem__, columns[name])
        for name, words in _parts(kind)  # type: ignore[arg-type]
    )
    return list(map(kind, *values))


@lru_cache(maxsize=512)
def _parts(kind: type[Any]) -> tuple[tuple[str, dict[str | None, StrEnum | None] | None], ...]:
    """The fields of a `kind`, in order, and what their words stand for."""
    hints = get_type_hints(kind)
    return tuple((field.name, _words_of(hints[field.name])) for field in fields(kind))


def _words_of(hint: Any) -> dict[str | None, StrEnum | None] | None:
    """What each word of a field's enum stands for: to look it up is quicker than to call the
    enum.
    """
    enum = _enum_of(hint)
    return None if enum is None else {None: None, **{word.value: word for word in enum}}


def _enum_of(hint: Any) -> type[StrEnum] | None:
    """The enum that a field holds, alone or beside None."""
    if get_origin(hint) in (Union, UnionType):
        return next((enum for part in get_args(hint) if (enum := _enum_of(part))), None)
    return hint if isinstance(hint, type) and issubclass(hint, StrEnum) else None
