"""Statements are worked out once: one that the engine cannot keep, or that is put together with
other words each time, takes longer to write than to answer.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from bench.everything import EVERYTHING, Asked
from sqlalchemy import event
from sqlalchemy.engine import Engine
from tests.service.test_today import everything_at_once
from tests.worlds import World, a_pass, http, import_lot, knocking, manifest

from sortitor.core.vocabulary import Activation, Role


@contextmanager
def written_anew() -> Iterator[list[str]]:
    """The statements that were worked out meanwhile, and all others as one empty text."""
    found: list[str] = []

    def note(_: Any, __: Any, statement: str, ___: Any, context: Any, ____: Any) -> None:
        if context is not None and context.compiled is not None:
            found.append("" if context.cache_hit.name == "CACHE_HIT" else statement)

    event.listen(Engine, "after_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(Engine, "after_cursor_execute", note)


def test_no_statement_is_worked_out_for_each_request(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    lines = ["serial,site", *[f"DD-{number},Quay" for number in range(3)]]
    import_lot(s, manifest(tmp_path, lines), platform="android", ownership="corporate")

    def ask(asked: Asked) -> Callable[[int], object]:
        path = f"/api/v1{asked.path}"
        if asked.body is None:
            return lambda _: client.get(path)
        return lambda _: client.post(path, json=asked.body)

    acts = {asked.path: ask(asked) for asked in EVERYTHING}
    acts["a knock"] = lambda turn: s.agent.knock(knocking(code, f"WA-{turn}"))
    acts["a declared device's"] = lambda turn: s.agent.knock(knocking(code, f"DD-{turn}"))
    with http(world, Role.ADMINISTRATOR) as client:
        for turn in range(2):
            for act in acts.values():
                act(turn)
        for name, act in acts.items():
            with written_anew() as found:
                act(2)
            anew = [statement for statement in found if statement]
            assert found or name not in ("/devices", "a knock"), "statements are heard of"
            assert not anew, f"{name}: {anew[0][:300]}"
