"""Licence pools: their seats, vouchers, course and report."""

from sortitor.operations.licences.arrivals import seats_for
from sortitor.operations.licences.course import PoolCourse, course
from sortitor.operations.licences.pools import (
    POOLS,
    CountedPool,
    counted,
    every,
    filter_of,
    one,
)
from sortitor.operations.licences.report import Reported, frame_of, month_of, report
from sortitor.operations.licences.seats import keep_up, needed, taken_by
from sortitor.operations.licences.vouchers import (
    Compared,
    VoucherRead,
    apply,
    compare,
    history,
    preview,
    read,
)

__all__ = [
    "POOLS",
    "Compared",
    "CountedPool",
    "PoolCourse",
    "Reported",
    "VoucherRead",
    "apply",
    "compare",
    "counted",
    "course",
    "every",
    "filter_of",
    "frame_of",
    "history",
    "keep_up",
    "month_of",
    "needed",
    "one",
    "preview",
    "read",
    "report",
    "seats_for",
    "taken_by",
]
