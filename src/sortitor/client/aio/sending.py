"""What is sent: a file however it is given, whole or as it is read."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator

from sortitor.client.sending import Content as Content
from sortitor.client.sending import content_of as content_of
from sortitor.client.sending import name_of as name_of


async def sent_in_pieces(pieces: Iterator[bytes]) -> AsyncIterator[bytes]:
    """The pieces as the HTTP library takes them."""
    for piece in pieces:
        yield piece
