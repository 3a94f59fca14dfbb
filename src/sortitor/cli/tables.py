"""Tables for a terminal of any width: no word is broken, and what gives way is named.

Columns that are too many give way by importance; texts wrap between words; a text that needs more
room than its column has stands below its row.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from rich.cells import cell_len
from rich.console import Console
from rich.padding import Padding
from rich.table import Column, Table
from rich.text import Text

Columns = Mapping[str, Callable[[Any], Any]]
#: Between two columns.
_GAP = 2
#: A text wraps in its column only where that leaves it so much room.
_ROOM = 24
#: How far what stands below a row is indented.
_INDENT = 4


@dataclass(frozen=True, slots=True)
class Layout:
    """Which columns stand beside each other and how wide, which stand below, which gave way."""

    widths: dict[str, int]
    below: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Rows:
    """The cells of a table by heading, and how it may give way.

    `below` are texts that may stand below their row; `first_to_go` are headings in the order in
    which they give way, then the others from the right. The first column always stays.
    """

    cells: Mapping[str, Sequence[Text]]
    below: Sequence[str] = ()
    first_to_go: Sequence[str] = field(default=())

    def natural(self, heading: str) -> int:
        """How wide a column is that nothing presses."""
        return max(cell_len(heading), *(_widest_line(cell) for cell in self.cells[heading]), 1)

    def longest_word(self, heading: str) -> int:
        """What a column cannot be narrower than without breaking a word."""
        words = [heading, *(cell.plain for cell in self.cells[heading])]
        return max((cell_len(word) for text in words for word in text.split()), default=1)


def _widest_line(cell: Text) -> int:
    return max((cell_len(line) for line in cell.plain.splitlines()), default=0)


def layout(rows: Rows, width: int) -> Layout:
    """How the columns share a terminal of so many characters."""
    shown = list(rows.cells)
    natural = {heading: rows.natural(heading) for heading in shown}
    if _total(natural) <= width:
        return Layout(natural)
    least = {heading: _least(rows, heading, natural[heading]) for heading in shown}
    below = []
    for heading in rows.below:
        if _total(least) > width and heading in least:
            below.append(heading)
            del least[heading]
    left_out = []
    for heading in _giving_way(rows):
        if _total(least) <= width or len(least) == 1:
            break
        if heading in least:
            left_out.append(heading)
            del least[heading]
    widths = _share(least, natural, width)
    order = [heading for heading in shown if heading in left_out]
    return Layout(widths, tuple(below), tuple(order))


def _least(rows: Rows, heading: str, natural: int) -> int:
    """A text may wrap between its words, but not into a thin strip."""
    return min(natural, max(rows.longest_word(heading), _ROOM))


def _giving_way(rows: Rows) -> list[str]:
    first = list(rows.first_to_go)
    others = [heading for heading in reversed(list(rows.cells)[1:]) if heading not in first]
    return first + others


def _share(least: Mapping[str, int], natural: Mapping[str, int], width: int) -> dict[str, int]:
    """Give the room that is left to the columns that wrap, from the left."""
    widths = dict(least)
    spare = width - _total(widths)
    for heading in widths:
        more = min(max(spare, 0), natural[heading] - widths[heading])
        widths[heading] += more
        spare -= more
    return widths


def _total(widths: Mapping[str, int]) -> int:
    return sum(widths.values()) + _GAP * max(0, len(widths) - 1)


def print_table(console: Console, rows: Rows) -> Layout:
    """Print the rows in the console's width; gives how they were laid out."""
    found = layout(rows, console.width)
    columns = _columns(found, rows)
    head = _grid(columns)
    head.add_row(*(Text(heading, style="bold") for heading in found.widths))
    console.print(head)
    console.print(Text("─" * min(_total(found.widths), console.width), style="dim"))
    number = max((len(cells) for cells in rows.cells.values()), default=0)
    for places in _together(number, apart=bool(found.below)):
        body = _grid(columns)
        for place in places:
            body.add_row(*(rows.cells[heading][place] for heading in found.widths))
        console.print(body)
        for heading in found.below:
            _print_below(console, heading, rows.cells[heading][places[0]])
    return found


def _together(number: int, apart: bool) -> list[range]:
    """The rows that are printed at once: each alone where something stands below it."""
    if apart:
        return [range(place, place + 1) for place in range(number)]
    return [range(number)] if number else []


def _print_below(console: Console, heading: str, text: Text) -> None:
    if text.plain not in ("", "–"):
        words = Text.assemble((f"{heading}: ", "dim"), text)
        console.print(Padding(words, (0, 0, 0, _INDENT)))


def _columns(found: Layout, rows: Rows) -> list[Column]:
    """How each column is drawn; all its cells are looked at, so this is done once a table."""
    return [
        Column(
            justify="right" if all(map(_is_number, rows.cells[heading])) else "left",
            width=width,
            overflow="fold",
            no_wrap=width >= rows.natural(heading),
        )
        for heading, width in found.widths.items()
    ]


def _grid(columns: Iterable[Column]) -> Table:
    """An empty table of these columns; between two of them are `_GAP` blanks."""
    return Table(
        *(column.copy() for column in columns),
        box=None,
        pad_edge=False,
        show_edge=False,
        show_header=False,
        padding=(0, _GAP, 0, 0),
    )


def _is_number(cell: Text) -> bool:
    return cell.plain in ("", "–") or cell.plain.replace(",", "").strip().isdigit()
