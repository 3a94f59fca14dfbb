"""JSON that strangers write."""

from __future__ import annotations

import json
from typing import Any


def json_in(text: str | bytes) -> Any:
    """What a text says as JSON (I-JSON, RFC 7493). Raises ValueError for what is none: also for
    halves of characters, numbers without end, and what is nested deeper than Python reads, for
    which it has an error of its own.
    """
    try:
        found = json.loads(text)
        json.dumps(found, ensure_ascii=False, allow_nan=False).encode()
    except RecursionError as error:
        raise ValueError("nested too deep") from error
    return found
