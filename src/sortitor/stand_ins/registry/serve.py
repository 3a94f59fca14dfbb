"""The registry as a server: in a thread of a test, or a process of its own."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import uvicorn

from sortitor.stand_ins.registry.app import make_registry
from sortitor.stand_ins.registry.shelf import Shelf


def _server(shelf: Shelf, seed: int | None = None) -> uvicorn.Server:
    config = uvicorn.Config(
        make_registry(shelf, seed), log_config=None, access_log=False, ws="none", date_header=False
    )
    return uvicorn.Server(config)


def listen(host: str, port: int) -> socket.socket:
    """A listening socket; port 0 takes a free one."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind((host, port))
    return listener


def serve(shelf: Shelf, listener: socket.socket) -> None:
    """Answer until a signal comes."""
    _server(shelf).run(sockets=[listener])


@contextmanager
def serving(shelf: Shelf, seed: int | None = None, port: int = 0) -> Iterator[str]:
    """The registry in a thread; gives its address."""
    listener = listen("127.0.0.1", port)
    server = _server(shelf, seed)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    try:
        yield f"http://127.0.0.1:{listener.getsockname()[1]}"
    finally:
        server.should_exit = True
        thread.join(10)
        listener.close()
