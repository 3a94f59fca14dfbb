"""Handing work to the queue in the transaction that asks for it, so that both are committed or
neither.
"""

from __future__ import annotations

from functools import cache
from typing import Any

from procrastinate import App, SyncPsycopgConnector
from sqlalchemy import Connection

from sortitor.store.engine import raw


@cache
def _app() -> App:
    # Never opened: it only writes jobs, on the connection that it is given.
    return App(connector=SyncPsycopgConnector())


def enqueue(connection: Connection, task: str, **arguments: Any) -> None:
    """Let a worker carry out a task once this transaction is committed."""
    _app().configure_task(task, connection=raw(connection), allow_unknown=True).defer(**arguments)
