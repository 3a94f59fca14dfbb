"""What the operations ask of the storage that keeps files."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol


@dataclass(frozen=True, slots=True)
class Received:
    """A file that has come in whole and is nobody's yet: by which name it lies there, its SHA-256
    in hex, and how many bytes it has.
    """

    name: str
    digest: str
    size: int


class Storage(Protocol):
    """Files by their digest. Raises Unavailable where the storage does not do what is asked."""

    async def receive(self, chunks: AsyncIterator[bytes]) -> Received:
        """Take a file in as it comes; of one that breaks off nothing stays."""
        ...

    def settle(self, name: str, digest: str) -> None:
        """Let a received file be found by its digest."""
        ...

    def discard(self, name: str) -> None:
        """Forget a received file."""
        ...

    def remove(self, digest: str) -> None:
        """Forget a file; one that is not there is no fault."""
        ...

    def read(self, digest: str, begin: int, end: int) -> AsyncIterator[bytes]:
        """The bytes from `begin` to before `end`, as they come."""
        ...

    def forget_strays(self, before: datetime) -> int:
        """Forget what came in before a moment and was never settled; how many these were."""
        ...

    def digests(self, before: datetime) -> list[str]:
        """All files that have been there since before a moment."""
        ...


#: Of a context that never meets a file.
no_storage: Any = None
