"""Tables for terminals of any width."""

from __future__ import annotations

import io
from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console
from rich.text import Text

from sortitor.cli import tables
from sortitor.cli.tables import Layout, Rows, print_table

#: Words that a column can hold at the least width of a terminal.
words = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=9)
texts = st.lists(words, max_size=8).map(" ".join)


def rows_of(lines: Sequence[Sequence[str]], **how: Sequence[str]) -> Rows:
    columns = zip(*lines, strict=True)
    named = zip(("Number", "Name", "Note"), columns, strict=True)
    return Rows({heading: [Text(cell) for cell in cells] for heading, cells in named}, **how)


def printed(rows: Rows, width: int) -> tuple[str, Layout]:
    console = Console(file=io.StringIO(), width=width)
    found = print_table(console, rows)
    assert isinstance(console.file, io.StringIO)
    return console.file.getvalue(), found


@given(
    st.lists(st.tuples(st.integers(0, 9_999).map(str), texts, texts), min_size=1, max_size=12),
    st.integers(20, 120),
    st.booleans(),
)
def test_no_word_is_broken_and_no_line_is_too_long(
    lines: list[tuple[str, str, str]], width: int, is_below: bool
) -> None:
    rows = rows_of(lines, below=["Note"] if is_below else [])
    text, found = printed(rows, width)
    assert all(len(line.rstrip()) <= width for line in text.splitlines())
    shown = text.split()
    for heading, cells in rows.cells.items():
        if heading not in found.left_out:
            assert {word for cell in cells for word in cell.plain.split()} <= set(shown)


def test_what_gives_way_is_told_in_order() -> None:
    rows = rows_of([("1", "a name of many words", "n" * 30)], first_to_go=["Name"])
    assert printed(rows, 80)[1].left_out == ()
    assert printed(rows, 40)[1].left_out == ("Name",)
    assert printed(rows, 20)[1].left_out == ("Name", "Note")


def test_what_stands_below_follows_its_row() -> None:
    lines = [("1", "first", "a note of its own"), ("2", "second", "another of its own")]
    text, found = printed(rows_of(lines, below=["Note"]), 30)
    assert found.below == ("Note",)
    kept = [line.split() for line in text.splitlines()[2:]]
    assert kept == [
        ["1", "first"],
        ["Note:", "a", "note", "of", "its", "own"],
        ["2", "second"],
        ["Note:", "another", "of", "its", "own"],
    ]


def test_a_long_table_is_looked_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each cell a few times, however many rows there are: once it was the square of them."""
    looks = 0
    widest = tables._widest_line

    def counted(cell: Text) -> int:
        nonlocal looks
        looks += 1
        return widest(cell)

    monkeypatch.setattr(tables, "_widest_line", counted)
    lines = [(str(number), "a name", "a note of many words " * 4) for number in range(300)]
    text, found = printed(rows_of(lines, below=["Note"]), 30)
    assert found.below == ("Note",)
    assert "299" in text
    assert looks <= 3 * 3 * 300
