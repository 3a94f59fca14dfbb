"""What a case says, and how its files are made."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import openpyxl
from tests.identifiers import imei

from sortitor.core.manifests import Reading

A, U, C, R, N = "add", "unchanged", "conflict", "reject", "no_row"
I1, I2, I3, I4, I5, I6 = (imei(number) for number in range(1, 7))


@dataclass(frozen=True)
class Case:
    """A file with its verdicts row by row; `notes` are exactly those on rows, `remarks` those on
    the file; `keys` are all identifiers, `values` some fields of rows.
    """

    content: bytes | Callable[[], bytes]
    verdicts: Sequence[str]
    notes: set[str] = field(default_factory=set)
    remarks: set[str] = field(default_factory=set)
    keys: set[str] | None = None
    values: dict[str, list[str | None]] = field(default_factory=dict)
    reading: Reading = field(default_factory=Reading)
    known_makers: tuple[str, ...] = ()

    @property
    def bytes(self) -> bytes:
        return self.content if isinstance(self.content, bytes) else self.content()


def t(*lines: str, encoding: str = "utf-8", end: str = "\n") -> bytes:
    """Lines of text."""
    return (end.join(lines) + end).encode(encoding)


def book(
    *sheets: tuple[str, Sequence[Sequence[Any]]],
    act: Callable[[openpyxl.Workbook], None] | None = None,
) -> bytes:
    """A workbook as openpyxl writes it; `act` does what its cells alone do not say."""
    workbook = openpyxl.Workbook()
    workbook.remove(workbook.worksheets[0])
    for name, rows in sheets:
        sheet = workbook.create_sheet(name)
        for row in rows:
            sheet.append(list(row))
    if act is not None:
        act(workbook)
    buffer = io.BytesIO()
    workbook.save(buffer)
    return buffer.getvalue()
