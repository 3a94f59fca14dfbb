"""A stand-in as a server: in a thread of a test, or a process of its own."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import uvicorn
from fastapi import FastAPI


def _server(app: FastAPI) -> uvicorn.Server:
    config = uvicorn.Config(app, log_config=None, access_log=False, ws="none", date_header=False)
    return uvicorn.Server(config)


def listen(host: str, port: int) -> socket.socket:
    """A listening socket; port 0 takes a free one."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind((host, port))
    return listener


def serve(app: FastAPI, listener: socket.socket) -> None:
    """Answer until a signal comes."""
    _server(app).run(sockets=[listener])


@contextmanager
def serving(app: FastAPI, port: int = 0) -> Iterator[str]:
    """The stand-in in a thread; gives its address."""
    listener = listen("127.0.0.1", port)
    server = _server(app)
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
