"""The rows of a lot as their reader may see them: identifiers of personal devices are veiled."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any

from sortitor.core import lots as core
from sortitor.core.columns import FIELDS, IDENTIFIER_COLUMNS
from sortitor.core.vocabulary import Ownership
from sortitor.operations.context import Context
from sortitor.store import devices as store_devices
from sortitor.store.engine import Connection
from sortitor.store.lots import HeadRow, LotRow, NoteGroupRow

_PERSONAL = Ownership.PERSONAL
#: What a file sets on a device that is no identifier of it.
_PLAIN_FIELDS = frozenset((*FIELDS, "name", "person_id", "merged_devices"))


def veiled_rows(
    ctx: Context, connection: Connection, lot: HeadRow, rows: Sequence[LotRow]
) -> list[LotRow]:
    """Rows with the identifiers of personal devices masked: of rows that say so, that meet such a
    device, or that carry a number of one.
    """
    if ctx.veil.lifted:
        return list(rows)
    plain = plain_headers(lot)
    texts = {text for row in rows for text in _hidden_cells(row, plain)}
    known = store_devices.personal_among(connection, texts, [row.device_id for row in rows])
    shown = []
    for row in rows:
        personal = (
            _stated_ownership(lot, row) == Ownership.PERSONAL
            or row.device_id in known.devices
            or not known.texts.isdisjoint(_hidden_cells(row, plain))
        )
        shown.append(_veiled(ctx, row, plain) if personal else row)
    return shown


def veiled_groups(ctx: Context, lot: HeadRow, groups: Sequence[NoteGroupRow]) -> list[NoteGroupRow]:
    """Groups of notes, whose one value stands for many rows: masked where it may be an
    identifier.
    """
    plain = plain_headers(lot)
    return [
        group if group.column in plain else replace(group, given=_masked(ctx, group.given))
        for group in groups
    ]


def veiled_understanding(ctx: Context, lot: HeadRow) -> dict[str, Any]:
    """How the file was understood; examples and lines that may name a device are masked."""
    told = lot.understanding
    if ctx.veil.lifted or not told:
        return told
    plain = plain_headers(lot)
    shown = {
        part: [
            remark
            if remark["column"] in plain
            else {**remark, "given": _with_digits_masked(ctx, remark["given"])}
            for remark in told.get(part, [])
        ]
        for part in ("file", "columns", "cells")
    }
    above = [
        [number, [_with_digits_masked(ctx, cell) or "" for cell in cells]]
        for number, cells in told.get("above", [])
    ]
    return {**told, **shown, "above": above}


def _with_digits_masked(ctx: Context, text: str | None) -> str | None:
    return _masked(ctx, text) if text and re.search(r"\d.*\d.*\d.*\d", text) else text


def plain_headers(lot: HeadRow) -> set[str]:
    """Headers of the file that hold no identifier; a column that nobody knows may hold one."""
    return {header for header, column in lot.columns.items() if column not in IDENTIFIER_COLUMNS}


def _cells(row: LotRow) -> Mapping[str, str | None]:
    return {**row.cells, **(row.edited or {})}


def _hidden_cells(row: LotRow, plain: Collection[str]) -> set[str]:
    found = {value for header, value in _cells(row).items() if value and header not in plain}
    # Also the numbers that were taken out of a cell with a label, or with two of them.
    for header, kept in row.kept.items():
        found |= set() if header in plain else set(kept.split())
    return found


def _stated_ownership(lot: HeadRow, row: LotRow) -> str | None:
    cells = _cells(row)
    for header, column in lot.columns.items():
        if column == "ownership" and cells.get(header):
            return core.ownership_of(cells[header] or "")
    return lot.defaults.get("ownership")


def _veiled(ctx: Context, row: LotRow, plain: Collection[str]) -> LotRow:
    notes = [
        note if note["column"] in plain else {**note, "given": _masked(ctx, note["given"])}
        for note in row.notes or []
    ]
    edited = None
    if row.edited is not None:
        edited = ctx.veil.cells(row.edited, plain, personal=True)
    changes = None
    if row.changes is not None:
        changes = {field: _veiled_change(ctx, field, pair) for field, pair in row.changes.items()}
    return replace(
        row,
        cells=ctx.veil.cells(row.cells, plain, personal=True),
        kept={h: v for h, v in ctx.veil.cells(row.kept, plain, personal=True).items() if v},
        edited=edited,
        notes=notes,
        changes=changes,
    )


def _veiled_change(ctx: Context, field: str, pair: Mapping[str, Any]) -> Mapping[str, Any]:
    """The old and the new value of a field; of an identifier or of a detail, masked."""
    if field in _PLAIN_FIELDS:
        return pair
    return {side: ctx.veil.details({side: value}, _PERSONAL)[side] for side, value in pair.items()}


def _masked(ctx: Context, value: str | None) -> str | None:
    return ctx.veil.identifier(value, Ownership.PERSONAL)
