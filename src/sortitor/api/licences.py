"""Routes: licence pools."""

from __future__ import annotations

from fastapi import APIRouter, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.etags import IfMatch, revision_of, tag
from sortitor.api.routes import Route
from sortitor.core import licences as core
from sortitor.operations import licences
from sortitor.schemas.licences import Pool, PoolNew

router = APIRouter(prefix="/pools", tags=["licences"], route_class=Route)


def _shape(counted: licences.Counted) -> Pool:
    row, needed = counted.pool, counted.needed
    return Pool.model_validate(
        {
            **row._mapping,
            "needed": needed,
            "state": core.state(needed, row.seats),
            "free": max(0, row.seats - needed),
        }
    )


def _pool(given: PoolNew) -> core.Pool:
    return core.Pool(given.name, given.seats, given.filter or None, given.awaited_too)


@router.get("")
def list_pools(ctx: Viewer) -> list[Pool]:
    """Pools by name: seats needed against seats held."""
    return [_shape(row) for row in licences.every(ctx)]


@router.get("/{pool_id}")
def show_pool(response: Response, ctx: Viewer, pool_id: int) -> Pool:
    """One pool: seats needed and held, and who needs one."""
    shown = _shape(licences.one(ctx, pool_id))
    tag(response, shown.revision)
    return shown


@router.post("", status_code=201)
def add_pool(ctx: Coordinator, given: PoolNew) -> Pool:
    """Add a pool."""
    return _shape(licences.add(ctx, _pool(given)))


@router.put("/{pool_id}")
def edit_pool(ctx: Coordinator, pool_id: int, given: PoolNew, if_match: IfMatch = None) -> Pool:
    """Change a pool."""
    return _shape(licences.edit(ctx, pool_id, _pool(given), revision_of(if_match)))


@router.delete("/{pool_id}", status_code=204)
def remove_pool(ctx: Coordinator, pool_id: int) -> None:
    """Remove a pool; a revert of the journal entry brings it back."""
    licences.remove(ctx, pool_id)
