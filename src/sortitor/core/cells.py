"""Cells of files that go out to spreadsheets."""

from __future__ import annotations

import json
import unicodedata
from typing import Any

#: What a spreadsheet takes for the beginning of a formula: an operator, also a full-width one, also
#: behind blanks, line breaks and what cannot be seen.
FORMULA = r"^[\s\p{C}]*[=+\-@＝＋－＠﹢﹣﹦﹫]|^[\t\r\n]"
_OPERATORS = "=+-@＝＋－＠﹢﹣﹦﹫"


def harmless(value: Any) -> Any:
    """A cell that no spreadsheet runs: an apostrophe goes in front.

    Lists and objects become JSON.
    """
    text = json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else value
    return f"'{text}" if isinstance(text, str) and is_formula(text) else text


def is_formula(text: str) -> bool:
    """Whether a spreadsheet may run a cell."""
    if text.startswith(("\t", "\r", "\n")):
        return True
    first = next(
        (one for one in text if not (one.isspace() or unicodedata.category(one)[0] == "C")), ""
    )
    return first != "" and first in _OPERATORS


def plain_header(text: str) -> str:
    """A header as it was before it was made harmless."""
    return text[1:] if text.startswith("'") and is_formula(text[1:]) else text
