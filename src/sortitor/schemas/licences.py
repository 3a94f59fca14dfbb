"""Licence pools."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.licences import Pool as Pool
from sortitor.core.licences import PoolState
from sortitor.schemas.documents import Kept


class PoolDetail(Pool, Kept):
    """A pool with the seats it needs; the count's devices are at `/devices?pool=ID`."""

    model_config = ConfigDict(extra="ignore")

    needed: int = Field(description="Seats that devices need now.")
    state: PoolState
    free: int = Field(description="Seats that nothing takes.")
