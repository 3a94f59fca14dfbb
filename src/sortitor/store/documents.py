"""Documents as they are kept: whole, each kind in a table of its own.

Columns beside `document` are there because SQL needs them; those that PostgreSQL can work out of it
are generated.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from sqlalchemy import Connection, Select, Table, func, insert, select, update

from sortitor.core.documents import Document
from sortitor.store.rows import number

D = TypeVar("D", bound=Document)


@dataclass(frozen=True, slots=True)
class Kept(Generic[D]):
    """A document with its number, and how often it was changed."""

    id: int
    revision: int
    document: D


@dataclass(frozen=True, slots=True)
class Shelf(Generic[D]):
    """Where the documents of one kind are kept."""

    model: type[D]
    table: Table

    def every(self, connection: Connection) -> list[Kept[D]]:
        """All of them, by name."""
        query = self._query().order_by(func.lower(self.table.c.name))
        return [self._kept(row) for row in connection.execute(query)]

    def one(self, connection: Connection, number: int, lock: bool = False) -> Kept[D] | None:
        """One by its number; `lock` holds it until the end of the transaction."""
        query = self._query().where(self.table.c.id == number)
        row = connection.execute(query.with_for_update() if lock else query).one_or_none()
        return None if row is None else self._kept(row)

    def number_of(self, connection: Connection, name: str) -> int | None:
        """The number of the document of a name, without regard to case."""
        query = select(self.table.c.id).where(func.lower(self.table.c.name) == name.lower())
        return connection.execute(query).scalar_one_or_none()

    def add(self, connection: Connection, document: D, **beside: Any) -> int:
        """A new document's number; `beside` sets columns beside it."""
        values = {"document": document.as_json(), **beside}
        return number(connection, insert(self.table).values(**values).returning(self.table.c.id))

    def change(self, connection: Connection, number: int, document: D, **beside: Any) -> None:
        """Put another document in its place and count its revision up."""
        values = {"document": document.as_json(), **beside}
        connection.execute(
            update(self.table)
            .where(self.table.c.id == number)
            .values(**values, revision=self.table.c.revision + 1)
        )

    def remove(self, connection: Connection, number: int) -> None:
        """Forget a document."""
        connection.execute(self.table.delete().where(self.table.c.id == number))

    def _query(self) -> Select[Any]:
        return select(self.table.c.id, self.table.c.revision, self.table.c.document)

    def _kept(self, row: Any) -> Kept[D]:
        return Kept(row.id, row.revision, self.model.model_validate(row.document))
