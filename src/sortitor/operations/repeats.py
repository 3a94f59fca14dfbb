"""Answers kept for repeated requests."""

from __future__ import annotations

from collections.abc import Mapping

from sortitor.operations.context import Actor, Clock
from sortitor.store import idempotency
from sortitor.store.engine import Engine, transaction
from sortitor.store.idempotency import AnswerRow


def find(engine: Engine, clock: Clock, actor: Actor, key: str) -> AnswerRow | None:
    """What is known under the actor's key."""
    with transaction(engine) as connection:
        return idempotency.find(connection, actor.account_id or 0, key, clock.wall())


def keep(
    engine: Engine,
    actor: Actor,
    key: str,
    status: int,
    answer: bytes,
    headers: Mapping[str, str],
) -> None:
    """Keep the answer to a claimed key."""
    with transaction(engine) as connection:
        idempotency.keep_answer(connection, actor.account_id or 0, key, status, answer, headers)
