"""Licence pools."""

from __future__ import annotations

from sortitor.client.documents import Documents
from sortitor.schemas import licences as li


class Pools(Documents[li.Pool, li.PoolDetail]):
    """Licence pools."""

    path = "/pools"
    answer = li.PoolDetail
    model = li.Pool
