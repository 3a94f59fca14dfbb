"""Routes that few installations ask for and whose models take long to build: loaded when somebody
asks for the first time.
"""

from __future__ import annotations

import threading
import warnings
from collections.abc import Callable

from anyio import to_thread
from fastapi import APIRouter
from pydantic.warnings import UnsupportedFieldAttributeWarning
from starlette._utils import get_route_path
from starlette.routing import BaseRoute, Match
from starlette.types import Receive, Scope, Send

#: Held while anything is loaded after the start: two threads that import packages of ours, each
#: beginning at another end, would wait for each other, and Python then gives one of them a module
#: that is only half there.
LOADING = threading.RLock()

# FastAPI ignores it where it makes its models, but by filters of the whole process: one thread
# undoes what another has set.
warnings.filterwarnings("ignore", category=UnsupportedFieldAttributeWarning)


class LateRoutes(BaseRoute):
    """Everything below a path."""

    def __init__(self, below: str, load: Callable[[], APIRouter]) -> None:
        self.below = below
        self._load = load
        self._router: APIRouter | None = None

    @property
    def router(self) -> APIRouter:
        """The routes, loaded by now."""
        with LOADING:
            if self._router is None:
                self._router = APIRouter()
                self._router.include_router(self._load())
            return self._router

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """Whether a request is for something below the path."""
        is_below = scope["type"] == "http" and get_route_path(scope).startswith(f"{self.below}/")
        return (Match.FULL if is_below else Match.NONE), {}

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Hand the request to its route."""
        if self._router is None:
            await to_thread.run_sync(lambda: self.router)
        await self.router(scope, receive, send)
