"""Routes that are loaded late answer the same as if they had been there from the start."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import threading

import pytest
from fastapi import APIRouter
from fastapi.routing import iter_route_contexts
from starlette.routing import compile_path
from starlette.types import Receive, Scope, Send

from sortitor.api import app
from sortitor.api.http.routes import LateRouter, LoadedFirst


def addresses(late: LateRouter) -> list[str]:
    late.load()
    found = [one.path_format for one in iter_route_contexts(late.routes)]
    assert all(found)
    return [str(path) for path in found]


@pytest.mark.parametrize("name", app.LATE)
def test_the_parts_that_are_told_are_those_of_the_module(name: str) -> None:
    """Else an address would be there only once another had been asked for."""
    late = app.LATE[name]
    told = set(late._parts)
    assert {path.split("/")[1] for path in addresses(late)} == told


def test_no_module_answers_for_another() -> None:
    """What answers is the same, whichever module was loaded first."""
    every = {name: addresses(late) for name, late in app.LATE.items()}
    for name, own in every.items():
        for other in every.keys() - {name}:
            patterns = [(path, compile_path(path)[0]) for path in every[other]]
            taken = {(a, b) for a in own for b, pattern in patterns if pattern.match(a)}
            assert not taken, f"{name} and {other}"


def test_a_start_loads_none_of_them() -> None:
    """Nor the models that they speak with."""
    look = "import sys, sortitor.server.wiring; print(*sorted(sys.modules))"
    done = subprocess.run([sys.executable, "-c", look], capture_output=True, text=True, check=True)
    loaded = done.stdout.split()
    assert "sortitor.api.routes.health" in loaded
    assert "sortitor.jobs.tasks" not in loaded
    assert not {f"sortitor.api.routes.{name}" for name in app.LATE} & set(loaded)
    assert [name for name in loaded if name.startswith("sortitor.schemas.")] == [
        "sortitor.schemas.base"
    ]


def test_others_are_answered_while_routes_are_loaded() -> None:
    others = threading.Event()

    def find() -> APIRouter:
        assert others.wait(30), "nobody else was answered"
        return APIRouter()

    late = LateRouter(("slow",), find)
    told: list[str] = []

    async def told_on(scope: Scope, _: Receive, __: Send) -> None:
        told.append(scope["path"])
        others.set()

    async def both() -> None:
        first = LoadedFirst(told_on, [late])
        asked = [{"type": "http", "path": f"/api/v1/{name}"} for name in ("slow", "quick")]
        await asyncio.gather(*(first(scope, None, None) for scope in asked))  # type: ignore[arg-type]

    asyncio.run(both())
    assert told == ["/api/v1/quick", "/api/v1/slow"]
    assert late.is_loaded


def test_whatever_is_asked_for_at_once_is_loaded_whole() -> None:
    """By several threads, each from another end, with the worker's own modules among them."""
    race = """if True:
        import random, threading
        from concurrent.futures import ThreadPoolExecutor
        from sortitor.api import app
        from sortitor.server import wiring

        wanted = [late.load for late in app.LATE.values()] * 3
        wanted += [lambda: wiring._loaded("sortitor.jobs.tasks").make_app] * 3
        random.shuffle(wanted)
        together = threading.Barrier(8)
        def load(mine):
            together.wait(30)
            for one in mine:
                one()
        with ThreadPoolExecutor(8) as threads:
            list(threads.map(load, [wanted[number::8] for number in range(8)]))
        print(sum(len(late.routes) for late in app.LATE.values()))
        """
    done = subprocess.run(
        [sys.executable, "-c", race], capture_output=True, text=True, timeout=120, check=False
    )
    assert done.returncode == 0, done.stderr
    assert int(done.stdout) == sum(len(late.routes) for late in app.LATE.values())
