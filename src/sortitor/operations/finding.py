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

MOST_ROWS, _MOST_CELLS = 10_000, 200_000
#: Nothing that a device is called is longer.
_LONGEST = 200


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
    height = manifest.cells.height
    if height > MOST_ROWS or height * manifest.cells.width > _MOST_CELLS:
        raise BadInput(
            "too_many",
            f"The list has {height:,} rows and {manifest.cells.width:,} columns; {MOST_ROWS:,} rows"
            f" and {_MOST_CELLS:,} cells can be found at once.",
            "Keep the columns that name the devices, split the list, or check it as a lot.",
        )
    numbers = manifest.numbers.to_list()
    rows = [_cells(row) for row in manifest.cells.rows()]
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
    told = (cell.strip() for cell in row if cell)
    return [cell for cell in told if 0 < len(cell) <= _LONGEST]


def _meant(cells: Sequence[str], known: Mapping[str, set[int]]) -> set[int]:
    """The devices that any of the cells means."""
    return set().union(*(known.get(cell, set()) for cell in cells))
