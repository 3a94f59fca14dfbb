# Made by tools/async_client.py; change the module of the same name one folder up.
"""What the calls of every noun share."""

from __future__ import annotations

from urllib.parse import quote

from sortitor.client.aio.transport import Transport

Key = int | str


class Noun:
    """The calls of one noun."""

    def __init__(self, transport: Transport) -> None:
        self._t = transport


def at(path: str, key: Key, *rest: str) -> str:
    """The address of one thing: `/pools`, `Display signage` → `/pools/Display%20signage`."""
    return "/".join((path, quote(str(key), safe=""), *rest))
