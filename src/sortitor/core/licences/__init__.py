"""Licence pools: what is needed, what there is and until when, and what a voucher would change."""

from sortitor.core.licences.books import Books, Course, Grant, book, course_of
from sortitor.core.licences.compare import Comparison, Outcome, compare
from sortitor.core.licences.forecast import Forecast, Growth, forecast
from sortitor.core.licences.pools import (
    Pool,
    Standing,
    is_for,
    needing,
    needing_by,
    needs_seat,
    standing_on,
    state_of,
)
from sortitor.core.licences.vouchers import (
    REVERT_DAYS,
    Claims,
    Voucher,
    claims_of,
    find_token,
    used_as,
)

__all__ = [
    "REVERT_DAYS",
    "Books",
    "Claims",
    "Comparison",
    "Course",
    "Forecast",
    "Grant",
    "Growth",
    "Outcome",
    "Pool",
    "Standing",
    "Voucher",
    "book",
    "claims_of",
    "compare",
    "course_of",
    "find_token",
    "forecast",
    "is_for",
    "needing",
    "needing_by",
    "needs_seat",
    "standing_on",
    "state_of",
    "used_as",
]
