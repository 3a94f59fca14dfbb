"""Files in a folder, or in storage that speaks the S3 protocol."""

from __future__ import annotations

import hashlib
import re
import uuid
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sortitor.core.errors import Unavailable
from sortitor.operations.kits.ports import Received

_INCOMING, _SETTLED = "incoming", "files"
_CHUNK, _AT_ONCE, _READ = 8 * 1024**2, 2, 1024**2
_DIGEST = re.compile(r"[0-9a-f]{64}")


@dataclass(frozen=True, slots=True)
class Access:
    """How storage is reached that speaks the S3 protocol; what is empty is found where such
    programs usually look for it.
    """

    endpoint: str = ""
    region: str = ""
    key_id: str = ""
    secret: str = ""


class ObjectStorage:
    """Storage at a folder or an address (`s3://bucket/prefix`), opened when it is first asked."""

    def __init__(self, where: str, access: Access | None = None) -> None:
        self._where, self._access = where, access or Access()
        self._opened: Any = None

    async def receive(self, chunks: AsyncIterator[bytes]) -> Received:
        """Take a file in as it comes; of one that breaks off nothing stays."""
        import obstore

        name, digest, size = uuid.uuid4().hex, hashlib.sha256(), 0

        async def counted() -> AsyncIterator[bytes]:
            nonlocal size
            async for chunk in chunks:
                if chunk:
                    digest.update(chunk)
                    size += len(chunk)
                    yield chunk

        with self._faults():
            await obstore.put_async(
                self._store,
                f"{_INCOMING}/{name}",
                counted(),
                chunk_size=_CHUNK,
                max_concurrency=_AT_ONCE,
            )
        return Received(name, digest.hexdigest(), size)

    def settle(self, name: str, digest: str) -> None:
        """Let a received file be found by its digest."""
        import obstore

        with self._faults():
            obstore.rename(self._store, f"{_INCOMING}/{name}", _place(digest))

    def discard(self, name: str) -> None:
        """Forget a received file."""
        self._delete(f"{_INCOMING}/{name}")

    def remove(self, digest: str) -> None:
        """Forget a file; one that is not there is no fault."""
        self._delete(_place(digest))

    async def read(self, digest: str, begin: int, end: int) -> AsyncIterator[bytes]:
        """The bytes from `begin` to before `end`, as they come."""
        import obstore

        with self._faults():
            found = await obstore.get_async(
                self._store, _place(digest), options={"range": (begin, end)}
            )
            async for piece in found.stream(min_chunk_size=_READ):
                yield bytes(piece)

    def forget_strays(self, before: datetime) -> int:
        """Forget what came in before a moment and was never settled; how many these were."""
        strays = [name for name, at in self._listed(_INCOMING) if at < before]
        for name in strays:
            self.discard(name)
        return len(strays) + self._forget_halves(before)

    def digests(self, before: datetime) -> list[str]:
        """All files that have been there since before a moment."""
        found = [name for name, at in self._listed(_SETTLED) if at < before]
        return [name for name in found if _DIGEST.fullmatch(name)]

    @property
    def _store(self) -> Any:
        if self._opened is None:
            self._opened = _open(self._where, self._access)
        return self._opened

    @property
    def _folder(self) -> Path | None:
        return None if "://" in self._where else Path(self._where)

    def _forget_halves(self, before: datetime) -> int:
        """What a killed process was writing; other storage forgets unfinished uploads itself."""
        if self._folder is None:
            return 0
        halves = [
            path
            for path in (self._folder / _INCOMING).glob("*#*")
            if datetime.fromtimestamp(path.stat().st_mtime, UTC) < before
        ]
        for path in halves:
            path.unlink(missing_ok=True)
        return len(halves)

    def _listed(self, prefix: str) -> Iterator[tuple[str, datetime]]:
        import obstore

        with self._faults():
            for page in obstore.list(self._store, prefix):
                for one in page:
                    yield one["path"].rsplit("/", 1)[-1], one["last_modified"]

    def _delete(self, path: str) -> None:
        import obstore

        with self._faults():
            try:
                obstore.delete(self._store, path)
            except FileNotFoundError:
                return

    @contextmanager
    def _faults(self) -> Iterator[None]:
        """What the storage says goes to the log; the caller hears that it does not answer."""
        from obstore.exceptions import BaseError

        try:
            yield
        except (BaseError, OSError) as error:
            raise Unavailable(
                "storage_fault",
                f"The storage of files does not do what is asked of it: {_line(error)}",
                "Look whether it is there, has room, and may be written (SORTITOR_FILES_AT).",
            ) from error


def _open(where: str, access: Access) -> Any:
    from obstore.store import LocalStore, S3Store

    if "://" not in where:
        return LocalStore(where, mkdir=True)
    given = {
        "endpoint": access.endpoint,
        "region": access.region,
        "access_key_id": access.key_id,
        "secret_access_key": access.secret,
    }
    config: Any = {name: value for name, value in given.items() if value}
    plain: Any = {"allow_http": True} if access.endpoint.startswith("http://") else {}
    return S3Store.from_url(where, config=config, client_options=plain)


def _place(digest: str) -> str:
    # Many files of one folder are slow to look through.
    return f"{_SETTLED}/{digest[:2]}/{digest}"


def _line(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]
