"""Rosters and public keys that are handed over as a file: looked through, previewed, applied, kept
as a run.
"""

from __future__ import annotations

from sortitor.core.errors import Conflict
from sortitor.core.licences.keys import keys_of
from sortitor.core.previews import Preview
from sortitor.core.roster_files import roster_of
from sortitor.core.rosters import Told
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RunState, SourceKind
from sortitor.operations import levels
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.files import read_list
from sortitor.operations.sources import runs
from sortitor.operations.sources.documents import SOURCES
from sortitor.store import sources as store
from sortitor.store.documents import Kept
from sortitor.store.sources import RunRow


def preview(ctx: Context, key: Key, content: bytes) -> Preview:
    """What a roster file, or one of public keys, would change."""
    kept = _taking_files(ctx, key)
    return runs.preview_told(ctx, kept, _read(ctx, kept.document, content))


def apply(ctx: Context, key: Key, content: bytes, digest: str) -> RunRow:
    """Take the file over as previewed."""
    kept = _taking_files(ctx, key)
    told = _read(ctx, kept.document, content)
    require_digest(runs.preview_told(ctx, kept, told), digest)
    with ctx.changing() as connection:
        if not store.lock(connection, kept.id):
            or_not_found(None, "source", key)
        run_id = store.add_run(
            connection,
            {
                "source_id": kept.id,
                "source_name": kept.document.name,
                "whole": True,
                "unbraked": True,
                "by": ctx.actor.name,
                "asked_at": ctx.now,
                "state": RunState.DONE,
            },
        )
        taken = runs.take_over(ctx, connection, kept, told, unbraked=True)
        runs.finish(ctx, connection, run_id, kept, told, taken)
        done = or_not_found(store.run(connection, run_id), "run", run_id)
    levels.refresh(ctx)
    return done


def _taking_files(ctx: Context, key: Key) -> Kept[Source]:
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
    if kept.document.kind not in (SourceKind.ROSTER, SourceKind.ISSUER):
        raise Conflict(
            "no_roster",
            f"“{kept.document.name}” is a {kept.document.kind}; it takes no file.",
            "Choose a roster, or an issuer.",
        )
    return kept


def _read(ctx: Context, source: Source, content: bytes) -> Told:
    if source.kind is SourceKind.ISSUER:
        return Told(whole=True, keys=keys_of(content))
    manifest = read_list(content, ctx.limits.files, ctx.check_time)
    return roster_of(manifest, source)
