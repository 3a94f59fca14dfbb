"""Alembic's entry: runs on the connection that `store/schema.py` hands over."""

from alembic import context

from sortitor.store.tables import metadata


def _ours(name: str | None, kind: str, _: object) -> bool:
    """The queue's own tables are not compared."""
    return not (kind == "table" and name and name.startswith("procrastinate"))


context.configure(connection=context.config.attributes["connection"], target_metadata=metadata, include_name=_ours)
with context.begin_transaction():
    context.run_migrations()
