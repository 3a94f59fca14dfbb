"""Rows that stayed behind, in words, to be taken out with their file and brought back mended."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import Severity


def problems_of(notes: Iterable[Mapping[str, Any]]) -> str:
    """What is the matter with one row, in one cell: only what keeps it out, with what to do."""
    errors = [(note, CATALOGUE[note["code"]]) for note in notes]
    words = [
        f"{note['column']}: {kind.title}" if note["column"] else kind.title
        for note, kind in errors
        if kind.severity is Severity.ERROR
    ]
    remedies = dict.fromkeys(kind.remedy for _, kind in errors if kind.severity is Severity.ERROR)
    return f"{'; '.join(words)}. {' '.join(remedies)}" if words else ""
