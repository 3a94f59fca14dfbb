"""The devices that a list means: pasted, or in a file of any format."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sortitor.core.errors import BadInput
from sortitor.core.filters import lower
from sortitor.core.manifests import Reading
from sortitor.operations.context import Context
from sortitor.operations.files import Form, read_file
from sortitor.store import devices as store

MOST_ROWS = 10_000


@dataclass(frozen=True, slots=True)
class Line:
    """One row of a list, with its number and what it says first."""

    row: int
    text: str


@dataclass(frozen=True, slots=True)
class Found:
    """The devices, in the order of the list, and the rows that mean none or more than one."""

    rows: int
    ids: list[int]
    unknown: list[Line]
    several: list[Line]


def find(ctx: Context, content: bytes, form: Form) -> Found:
    """Each row by any of its cells: an identifier, else an asset tag or a name. Nothing is
    written. Raises BadInput for what is no list, and for more than MOST_ROWS rows.
    """
    manifest = read_file(content, form, Reading(), ctx.limits.files, ctx.check_time)
    numbers = manifest.numbers.to_list()
    rows = [_cells(row) for row in manifest.cells.rows()]
    if len(rows) > MOST_ROWS:
        raise BadInput(
            "too_many",
            f"The list has {len(rows):,} rows; {MOST_ROWS:,} can be found at once.",
            "Split it, or check it as a lot.",
        )
    # Without titles the first device stands where they would.
    titles = _cells(manifest.headers)
    texts = sorted({cell for row in [titles, *rows] for cell in row})
    with ctx.reading() as connection:
        by_number = store.called_by_number(connection, texts)
        by_name = store.called_by_name(connection, texts)
    ids: dict[int, None] = {}
    unknown: list[Line] = []
    several: list[Line] = []
    if manifest.header_row and _meant(titles, by_number):
        numbers.insert(0, manifest.header_row)
        rows.insert(0, titles)
    for number, cells in zip(numbers, rows, strict=True):
        if not cells:
            continue
        meant = _meant(cells, by_number) or _meant([lower(cell) for cell in cells], by_name)
        if len(meant) == 1:
            ids[meant.pop()] = None
        else:
            (several if meant else unknown).append(Line(number, ", ".join(cells[:3])))
    return Found(len(rows), list(ids), unknown, several)


def _cells(row: Sequence[str | None]) -> list[str]:
    return [cell.strip() for cell in row if cell and cell.strip()]


def _meant(cells: Sequence[str], known: Mapping[str, set[int]]) -> set[int]:
    """The devices that any of the cells means."""
    return set().union(*(known.get(cell, set()) for cell in cells))
