"""What a source is opened with, in clear, for as long as it takes to ask it."""

from __future__ import annotations

from sortitor.core.vocabulary import SecretKind
from sortitor.operations.context import Context
from sortitor.operations.sources.ports import Secrets
from sortitor.store import sources as store
from sortitor.store.engine import Connection


def secrets_of(ctx: Context, connection: Connection, source_id: int) -> Secrets:
    """What a source is opened with, in clear."""
    return {
        SecretKind(row.kind): ctx.vault.open(row.sealed)
        for row in store.secrets(connection, source_id)
        if not row.waiting
    }
