"""The registry as a server: in a thread of a test, or a process of its own."""

from __future__ import annotations

import socket
from contextlib import AbstractContextManager

from sortitor.stand_ins import serving as servers
from sortitor.stand_ins.registry.app import make_registry
from sortitor.stand_ins.registry.shelf import Shelf


def serve(shelf: Shelf, listener: socket.socket) -> None:
    """Answer until a signal comes."""
    servers.serve(make_registry(shelf), listener)


def serving(shelf: Shelf, seed: int | None = None, port: int = 0) -> AbstractContextManager[str]:
    """The registry in a thread; gives its address."""
    return servers.serving(make_registry(shelf, seed), port)
