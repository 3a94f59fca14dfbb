"""The one shape in which every change is shown before it is made."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from sortitor.core.documents import Difference
from sortitor.core.sweeps import Bar


@dataclass(frozen=True, slots=True)
class Count:
    """One number of a preview, with the words for it; `tone` is plain, good, warn or bad."""

    key: str
    label: str
    count: int
    tone: str = "plain"


@dataclass(frozen=True, slots=True)
class Example:
    """One line of a preview: whose, which field, from what to what, and a remark."""

    subject: str
    field: str
    before: str | None
    after: str | None
    note: str = ""
    device_id: int | None = None


@dataclass(frozen=True, slots=True)
class Preview:
    """What a change would do. `apply_label` is the button's text; `digest` is what applying must
    quote.
    """

    title: str
    apply_label: str
    counts: tuple[Count, ...]
    examples: tuple[Example, ...]
    examples_total: int
    warnings: tuple[str, ...] = ()
    bars: tuple[Bar, ...] = ()
    bars_line_days: int | None = None
    #: What becomes of the fields of a document that is changed.
    changes: tuple[Difference, ...] = ()
    #: There is nothing that applying would do.
    nothing_to_do: bool = False
    digest: str = field(default="")


def digest_of(outcome: Any) -> str:
    """SHA-256 over the outcome's JSON with sorted keys; dates and enums as their text."""
    return hashlib.sha256(json.dumps(outcome, sort_keys=True, default=str).encode()).hexdigest()


def sealed(preview: Preview, outcome: Any = None) -> Preview:
    """The preview with its digest, over `outcome` or else over all that it shows."""
    if outcome is None:
        outcome = asdict(preview)
        outcome.pop("digest")
    return replace(preview, digest=digest_of(outcome))


def listed(words: Sequence[str]) -> str:
    """`a`, `a and b`, `a, b and c`."""
    *first, last = words or ("",)
    return f"{', '.join(first)} and {last}" if first else last


def called(device_id: int, name: str | None, model: str | None) -> str:
    """A device where its serial number is not for everybody's eyes: its name, else its model with
    its number here.
    """
    return name or f"{model or 'device'} no. {device_id}"


def sized(size: int) -> str:
    """Bytes as people say them, in the units of the SI: `12.6 MB`."""
    for factor, unit in ((10**9, "GB"), (10**6, "MB"), (10**3, "kB")):
        if size >= factor:
            number = f"{size / factor:,.1f}".removesuffix(".0")
            return f"{number} {unit}"
    return plural(size, "byte")


def plural(count: int, word: str, many: str | None = None) -> str:
    """`1 device`, `2 devices`; `many` where an s does not do."""
    return f"{count:,} {word}" if count == 1 else f"{count:,} {many or word + 's'}"
