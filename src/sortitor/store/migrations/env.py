"""Alembic's entry: runs on the connection that `store/schema.py` hands over."""

from typing import Any

from alembic import context

from sortitor.store.tables import metadata


def _ours(name: str | None, kind: str, _: object) -> bool:
    """The queue's own tables are not compared."""
    return not (kind == "table" and name and name.startswith("procrastinate"))


def _comparable(thing: Any, *_: object) -> bool:
    """PostgreSQL keeps the collation of an indexed expression apart from it, where alembic does not
    look.
    """
    return getattr(thing, "name", None) not in _COLLATED


_COLLATED = {
    index.name
    for table in metadata.tables.values()
    for index in table.indexes
    if any("COLLATE" in str(part) for part in index.expressions)
}
context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=metadata,
    include_name=_ours,
    include_object=_comparable,
)
with context.begin_transaction():
    context.run_migrations()
