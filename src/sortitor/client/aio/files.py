# Made by tools/async_client.py; change the module of the same name one folder up.
"""Files that are kept for devices."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from sortitor.client.aio.noun import Noun, at
from sortitor.client.errors import Broken
from sortitor.schemas.base import Problem
from sortitor.schemas.files import KeptFile

_CHUNK = 1024**2
Heard = Callable[[int, int], None]


def _silent(done: int, total: int) -> None:
    """Nobody follows."""


class Files(Noun):
    """Files that are kept for devices, by their SHA-256 in hex."""

    async def list(self) -> Sequence[KeptFile]:
        """All files, by name.

        >>> for one in s.files.list():
        ...     print(one)
        """
        return await self._t.whole(KeptFile, "GET", "/files")

    async def get(self, digest: str) -> KeptFile:
        """One file, and the items that name it.

        >>> s.files.get(preview.digest)
        """
        return await self._t.call(KeptFile, "GET", at("/files", digest))

    async def put(self, path: Path, name: str | None = None, heard: Heard = _silent) -> KeptFile:
        """Keep a file, however large: it is read as it is sent. `heard` hears of the bytes that
        went, and of how many these are.

        >>> s.files.put(Path("file.csv"))
        """
        params = {"name": name or path.name, "digest": digest_of(path)}
        answer = await self._t.upload("/files", pieces(path, heard), params, path.stat().st_size)
        return KeptFile.model_validate_json(answer)

    async def fetch(self, digest: str, to: Path) -> None:
        """Write the bytes of a file to a path. Raises Broken where they are others.

        >>> s.files.fetch(preview.digest, Path("file.csv"))
        """
        await self._t.download(at("/files", digest, "content"), to)
        if digest_of(to) != digest:
            raise Broken(_OTHER)

    async def remove(self, digest: str) -> None:
        """Let go of a file that no item names.

        >>> s.files.remove(preview.digest)
        """
        await self._t.send("DELETE", at("/files", digest))


_OTHER = Problem(
    type="about:blank",
    title="Other bytes",
    status=502,
    detail="What came is not the file that was asked for.",
    code="other_digest",
)


def digest_of(path: Path) -> str:
    """The SHA-256 of a file, in hex."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def pieces(path: Path, heard: Heard = _silent) -> Iterator[bytes]:
    """The bytes of a file, a piece at a time."""
    total, done = (path.stat().st_size, 0)
    with path.open("rb") as file:
        while piece := file.read(_CHUNK):
            yield piece
            done += len(piece)
            heard(done, total)
