"""Every read and every preview of the service, asked for as the OpenAPI document has them: at ten
thousand and at a million devices, each with the SQL of somebody who knows the tables beside it
where there is one. `tests/test_bench.py` fails for a route that is neither here nor in `APART`.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

SMALL, LARGE = 10_000, 1_000_000
#: Repeated until this many readings or seconds.
_READINGS, _SECONDS = 21, 4.0


@dataclass(frozen=True, slots=True)
class Asked:
    """One request: the operation's id, its path below /api/v1, the body of a POST, and the floor:
    the same by hand.
    """

    operation: str
    path: str
    body: Any = None
    floor: str = ""
    aim: str = ""
    merge: bool = False
    put: dict[str, str] = field(default_factory=dict)


_CROWD = {"filter": 'site eq "Quay 3"'}
_ONE = {"ids": [5]}
_COHORT = {"name": "Cohort 1", "filter": 'site eq "Quay 7" and platform eq "android"'}
_POOL = {"name": "Pool 1", "seats": 50_000, "filter": 'site eq "Quay 7"'}
_RULE = {"name": "Rule 1", "idle_window_days": 61, "filter": 'site eq "Quay 7"'}
_PAGE = "under 60"

READS: tuple[Asked, ...] = (
    Asked("read_today", "/today", aim="under 50"),
    Asked("list_pools", "/pools", aim="under 50"),
    Asked("show_pool", "/pools/1", aim="under 50"),
    Asked("show_course", "/pools/1/course"),
    Asked("show_report", "/licences/report"),
    Asked("list_cohorts", "/cohorts", aim="under 50"),
    Asked("show_cohort", "/cohorts/1", aim="under 50"),
)
