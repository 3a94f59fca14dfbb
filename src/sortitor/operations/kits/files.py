"""Files that are kept for devices: taken in as they come, named by items, handed out in parts, and
let go when nothing names them any more.

The bytes are there before anything says so, and go after nothing says so any more: whenever a
process is killed, what is known of is there whole.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass
from datetime import timedelta

from sortitor.core.errors import BadInput, Conflict, FieldProblem, TooLarge
from sortitor.core.previews import listed, plural, sized
from sortitor.core.vocabulary import Giving
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.kits.library import Library, library
from sortitor.operations.kits.ports import Received
from sortitor.store import files as store
from sortitor.store.engine import Connection
from sortitor.store.files import FileRow as FileRow
from sortitor.store.settling import hold_still

#: No upload takes so long.
_STRAY_AFTER = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class KeptFile:
    """A file and the items that name it."""

    row: FileRow
    items: tuple[str, ...]


def every(ctx: Context) -> list[KeptFile]:
    """All files, by name."""
    with ctx.reading() as connection:
        naming = _naming(library(connection))
        return [KeptFile(row, naming.get(row.digest, ())) for row in store.every(connection)]


def one(ctx: Context, digest: str) -> KeptFile:
    """The file of a digest. Raises NotFound."""
    with ctx.reading() as connection:
        return _kept(connection, digest)


def _kept(connection: Connection, digest: str) -> KeptFile:
    row = or_not_found(store.one(connection, digest), "file", digest)
    return KeptFile(row, _naming(library(connection)).get(digest, ()))


async def keep(
    ctx: Context, chunks: AsyncIterator[bytes], name: str, digest: str | None
) -> KeptFile:
    """Take a file in as it comes. `digest`: the SHA-256 that it should have. The same file twice is
    one. Raises BadInput for an empty one, one that is too large or has another digest.
    """
    came = await ctx.storage.receive(_bounded(chunks, ctx.limits.max_file_bytes))
    try:
        _check(came, digest)
        return await asyncio.to_thread(_settle, ctx, came, name)
    finally:
        await asyncio.to_thread(ctx.storage.discard, came.name)


async def _bounded(chunks: AsyncIterator[bytes], most: int) -> AsyncIterator[bytes]:
    size = 0
    async for chunk in chunks:
        size += len(chunk)
        if size > most:
            words = f"The file is larger than {sized(most)}."
            raise TooLarge("file_too_large", words, "Keep it elsewhere, and give its address.")
        yield chunk


def _check(came: Received, digest: str | None) -> None:
    if not came.size:
        raise BadInput("file_empty", "The file is empty.", "Choose another one.")
    if digest is not None and digest.lower() != came.digest:
        words = f"What came has the SHA-256 {came.digest}, not {digest}."
        remedy = "Send it again; if that does not help, look where it comes from."
        problem = FieldProblem("/query/digest", "other_digest", words)
        raise BadInput("other_digest", words, remedy, (problem,))


def _settle(ctx: Context, came: Received, name: str) -> KeptFile:
    with ctx.changing() as connection:
        store.hold_files(connection)
        # Also where it is known: what was lost with its storage is there again.
        ctx.storage.settle(came.name, came.digest)
        if store.one(connection, came.digest) is None:
            row = FileRow(came.digest, name, came.size, ctx.now, ctx.actor.name, ctx.now)
            store.add(connection, row)
            words = f"File “{name}” put in, {sized(came.size)}"
            ctx.record(connection, "file.keep", "file", words, after={"digest": came.digest})
        else:
            store.use(connection, [came.digest], ctx.now)
        return _kept(connection, came.digest)


def remove(ctx: Context, digest: str) -> None:
    """Let go of a file that nothing names. Raises NotFound, and Conflict for one that is named."""
    with ctx.changing() as connection:
        # An item that is being saved and names it is saved first, or does not find it.
        hold_still(connection)
        store.hold_files(connection)
        row = or_not_found(store.one(connection, digest), "file", digest)
        items = _naming(library(connection)).get(digest, ())
        if items:
            words = f"File “{row.name}” is named by {listed([f'item “{one}”' for one in items])}."
            raise Conflict("in_use", words, "Give those another file first.")
        store.remove(connection, digest)
        ctx.record(connection, "file.remove", "file", f"File “{row.name}” let go")
    _forget(ctx, digest)


def _forget(ctx: Context, digest: str) -> None:
    """Remove the bytes of what nothing knows of any more."""
    with ctx.bookkeeping() as connection:
        store.hold_files(connection)
        if store.one(connection, digest) is None:
            ctx.storage.remove(digest)


def keep_up(ctx: Context) -> None:
    """Let go of what nothing has named for long, and of what uploads that broke off left; by
    schedule.
    """
    days = ctx.limits.keeping.files_days
    with ctx.changing() as connection:
        hold_still(connection)
        store.hold_files(connection)
        naming, rows = _naming(library(connection)), store.every(connection)
        store.use(connection, naming.keys(), ctx.now)
        before = ctx.now - timedelta(days=days)
        gone = [row for row in rows if days and row.digest not in naming and row.used_at < before]
        for row in gone:
            store.remove(connection, row.digest)
        if gone:
            words = f"{plural(len(gone), 'file')} let go that nothing named for {days} days"
            ctx.record(connection, "file.remove", "file", words)
    old = ctx.clock.wall() - _STRAY_AFTER
    ctx.storage.forget_strays(old)
    with ctx.reading() as connection:
        known = {row.digest for row in store.every(connection)}
    for digest in ctx.storage.digests(old):
        if digest not in known:
            _forget(ctx, digest)


def check_kept(connection: Connection, needed: Mapping[str, int | None]) -> None:
    """Raise BadInput for a file of an item that is not kept here, or has another size. needed:
    digest → its bytes, where these are said.
    """
    for digest, size in needed.items():
        found = store.one(connection, digest)
        if found is None:
            words = f"No file is kept here with the SHA-256 {digest}."
            remedy = "Put the file in first, or say where it lies."
        elif size is not None and found.size != size:
            words = f"File “{found.name}” has {found.size:,} bytes, not {size:,}."
            remedy = "Say how many it has."
        else:
            continue
        problem = FieldProblem("/payload/digest", "no_such_file", words)
        raise BadInput("no_such_file", words, remedy, (problem,))


def _naming(found: Library) -> dict[str, tuple[str, ...]]:
    """Digest → the items that name the file."""
    naming: dict[str, list[str]] = {}
    for kept in found.documents[Giving.ITEM].values():
        for digest in kept.document.files(found.catalogue):
            naming.setdefault(digest, []).append(kept.document.name)
    return {digest: tuple(sorted(items)) for digest, items in naming.items()}
