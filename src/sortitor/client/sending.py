"""What is sent: a file however it is given, whole or as it is read."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

#: A file by its path, its bytes, or what they can be read from.
Content = Path | str | bytes | BinaryIO


def content_of(given: Content) -> bytes:
    """The bytes of a file; a text is a path."""
    if isinstance(given, bytes):
        return given
    if isinstance(given, str | Path):
        return Path(given).read_bytes()
    return given.read()


def name_of(given: Content) -> str | None:
    """What a file is called; None for bytes."""
    if isinstance(given, str | Path):
        return Path(given).name
    named = getattr(given, "name", None)
    return Path(named).name if isinstance(named, str) else None


def sent_in_pieces(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """The pieces as the HTTP library takes them."""
    return pieces
