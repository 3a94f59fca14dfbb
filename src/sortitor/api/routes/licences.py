"""Routes: licence pools."""

from __future__ import annotations

from sortitor.api.http.documents import Noun, document_router
from sortitor.core import licences as core
from sortitor.core.access import Permission
from sortitor.core.licences import Pool
from sortitor.operations import licences
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.schemas.licences import PoolDetail


def _shape(counted: licences.CountedPool) -> PoolDetail:
    kept, needed = counted.kept, counted.needed
    seats = kept.document.seats
    return PoolDetail(
        **kept.document.model_dump(),
        id=kept.id,
        revision=kept.revision,
        needed=needed,
        state=core.state(needed, seats),
        free=max(0, seats - needed),
    )


def _made(ctx: Context, kept: Kept[Pool]) -> PoolDetail:
    return _shape(licences.counted(ctx, kept))


router = document_router(
    Noun(
        kind=licences.POOLS,
        path="/pools",
        tag="licences",
        one="pool",
        many="pools",
        answer=PoolDetail,
        every=lambda ctx: [_shape(one) for one in licences.every(ctx)],
        find=lambda ctx, key: _shape(licences.one(ctx, key)),
        shape=_made,
        may=Permission.LICENSE,
    )
)
