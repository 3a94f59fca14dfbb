"""Lots: from a supplier's file to devices, and back."""

from sortitor.operations.lots.applying import apply, discard, preview, preview_revert, revert
from sortitor.operations.lots.checking import (
    Change,
    Given,
    Settings,
    begin,
    check,
    choose,
    edit,
    finish,
    read_again,
)
from sortitor.operations.lots.reading import (
    content,
    note_groups,
    one,
    page,
    rows,
    takeout,
    template,
)
from sortitor.operations.lots.veil import veiled_understanding
from sortitor.store.lots import Chosen, HeadRow, LotRow

__all__ = [
    "Change",
    "Chosen",
    "Given",
    "HeadRow",
    "LotRow",
    "Settings",
    "apply",
    "begin",
    "check",
    "choose",
    "content",
    "discard",
    "edit",
    "finish",
    "note_groups",
    "one",
    "page",
    "preview",
    "preview_revert",
    "read_again",
    "revert",
    "rows",
    "takeout",
    "template",
    "veiled_understanding",
]
