"""Cells of files that go out to spreadsheets."""

from __future__ import annotations

import json
from typing import Any

#: What a spreadsheet takes for the beginning of a formula.
RISKY = ("=", "+", "-", "@", "\t", "\r")


def harmless(value: Any) -> Any:
    """A cell that no spreadsheet runs: an apostrophe goes in front.

    Lists and objects become JSON.
    """
    text = json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else value
    return f"'{text}" if isinstance(text, str) and text.startswith(RISKY) else text
