"""The asynchronous client: what is committed is what its source makes, and it does what the other
does.
"""

import asyncio
from pathlib import Path

import pytest
from tests.worlds import World, in_a_loop, manifest
from tools import async_client

from sortitor.client.aio import AsyncSortitor
from sortitor.client.errors import NotFound
from sortitor.core.vocabulary import Role


def test_it_is_of_today() -> None:
    made = async_client.made()
    there = {path.name: path.read_text() for path in async_client.MADE.glob("*.py")}
    by_hand = {"sending.py"}
    assert set(there) - by_hand == set(made)
    stale = [name for name, text in made.items() if there[name] != text]
    assert stale == [], "run: python tools/async_client.py"


def test_a_lot_is_driven_through(world: World, tmp_path: Path) -> None:
    token = world.tokens[Role.COORDINATOR]

    async def driven() -> tuple[list[str | None], int]:
        async with AsyncSortitor(world.url, token) as s:
            lot = await s.lots.check(
                manifest(tmp_path, ["serial,platform", "KM-1,ios", "KM-2,ios"])
            )
            preview = await s.lots.preview(lot.id)
            await s.lots.apply(lot.id, preview.digest)
            serials = [device.serial async for device in s.devices.list()]
            counts = await asyncio.gather(*(s.devices.count() for _ in range(5)))
            with pytest.raises(NotFound):
                await s.devices.show(99)
            kept = await s.files.put(manifest(tmp_path, ["x" * 3_000_000], "large.bin"))
            await s.files.fetch(kept.digest, tmp_path / "again.bin")
            assert (tmp_path / "again.bin").read_text() == "x" * 3_000_000 + "\n"
            return serials, sum(counts)

    serials, counted = in_a_loop(driven())
    assert sorted(filter(None, serials)) == ["KM-1", "KM-2"]
    assert counted == 10
