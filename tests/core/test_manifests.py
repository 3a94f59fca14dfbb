"""Cells in, cells out: what a file says arrives as it stands, in whatever format and encoding it
was written.
"""

import csv
import io
import json
from collections.abc import Callable

import polars as pl
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from tests.workbooks import ods, xlsx

from sortitor.core.errors import SortitorError
from sortitor.core.manifests import Manifest, read_paste, read_table

HEADERS = ["serial", "site", "note"]
#: What a cell may hold: scripts, quotes, separators, line ends; neither controls nor a byte order
#: mark, which no supplier means.
letters = st.characters(
    exclude_categories=("Cc", "Cs", "Cn", "Co", "Zl", "Zp"), exclude_characters="\ufeff"
)
cells = st.text(letters, max_size=12) | st.sampled_from(
    [
        "",
        "a,b",
        "x;y",
        'say "ho"',
        "two\nlines",
        "a|b",
        "\ttab",
        "0042",
        "1e5",
        "=1+1",
        "ميناء",
        "  padded  ",
    ]
)
tables = st.lists(
    st.tuples(st.from_regex(r"[A-Z]{2}-[0-9]{3,6}", fullmatch=True), cells, cells),
    min_size=1,
    max_size=8,
)
Table = list[tuple[str, str, str]]


def written(
    table: Table, delimiter: str = ",", end: str = "\r\n", quoting: int = csv.QUOTE_MINIMAL
) -> str:
    buffer = io.StringIO()
    writer = csv.writer(buffer, delimiter=delimiter, lineterminator=end, quoting=quoting)
    writer.writerow(HEADERS)
    writer.writerows(table)
    return buffer.getvalue()


def read_back(manifest: Manifest) -> Table:
    assert manifest.headers[:3] == tuple(HEADERS)
    return [tuple(cell or "" for cell in row[:3]) for row in manifest.cells.rows()]


def one_line_end(table: Table) -> Table:
    """A text file's line ends may be said in more than one way inside a cell too."""
    return [tuple(cell.replace("\r\n", "\n") for cell in row) for row in table]


@given(tables, st.sampled_from([",", ";", "\t", "|"]), st.sampled_from(["\n", "\r\n"]))
def test_delimited_text_says_what_was_written(table: Table, delimiter: str, end: str) -> None:
    # With one more separator of another kind in every line nobody could tell which is meant.
    assume(
        not any(
            other in cell
            for row in table
            for cell in row
            for other in ",;\t|"
            if other != delimiter
        )
    )
    manifest = read_table(written(table, delimiter, end).encode())
    assert manifest.layout == {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}[delimiter]
    assert one_line_end(read_back(manifest)) == table


@given(tables, st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]))
def test_every_encoding_says_the_same(table: Table, encoding: str) -> None:
    manifest = read_table(written(table, quoting=csv.QUOTE_ALL).encode(encoding))
    assert one_line_end(read_back(manifest)) == table
    assert manifest.encoding == ("UTF-16" if encoding == "utf-16" else "UTF-8")


@given(
    st.lists(
        st.text(st.sampled_from("abcdexyz 059.-äöüß–€°"), min_size=1, max_size=10),
        min_size=1,
        max_size=5,
    )
)
def test_the_old_encoding_is_guessed_where_it_is_no_utf_8(sites: list[str]) -> None:
    content = written(
        [(f"KM-{i}", site, "") for i, site in enumerate(sites)], ";", quoting=csv.QUOTE_ALL
    ).encode("cp1252")
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        assert [row[1] for row in read_back(read_table(content))] == sites


@given(tables)
def test_workbooks_say_what_was_written(table: Table) -> None:
    # The formats themselves fold blanks at the ends of lines; what is between them stays.
    plain: Table = [tuple(" ".join(cell.split()) for cell in row) for row in table]
    for content in (
        xlsx(("Sheet", [HEADERS, *([cell or None for cell in row] for row in plain)])),
        ods([HEADERS, *plain]),
    ):
        manifest = read_table(content)
        assert manifest.layout == "workbook"
        assert read_back(manifest) == plain


@given(tables)
def test_json_lines_say_what_was_written(table: Table) -> None:
    content = "\n".join(
        json.dumps(dict(zip(HEADERS, row, strict=True)), ensure_ascii=False) for row in table
    ).encode()
    assume(len(content.splitlines()) == len(table))
    manifest = read_table(content)
    assert manifest.layout == "json"
    assert read_back(manifest) == table


@given(st.lists(st.integers(10**13, 10**17), min_size=1, max_size=6))
def test_no_digit_is_lost_from_a_number_in_json(numbers: list[int]) -> None:
    manifest = read_table(
        "\n".join(
            f'{{"imei": {number}, "serial": "X-{place}"}}' for place, number in enumerate(numbers)
        ).encode()
    )
    assert manifest.cells["imei"].to_list() == [str(number) for number in numbers]


@given(tables, st.lists(st.integers(0, 8), max_size=4))
def test_rows_keep_their_line_of_the_file(table: Table, gaps: list[int]) -> None:
    """Blank lines in between count as lines, and are no rows."""
    single: Table = [tuple(cell.replace("\n", " ") for cell in row) for row in table]
    lines = written(single, quoting=csv.QUOTE_ALL, end="\n").splitlines()
    assume(len(lines) == len(table) + 1)
    for place in gaps:
        lines.insert(1 + min(place, len(lines) - 1), ",,")
    expected = [number for number, line in enumerate(lines, 1) if number > 1 and line != ",,"]
    assert read_table("\n".join(lines).encode()).numbers.to_list() == expected


def attempt(read: Callable[[], Manifest]) -> Manifest | SortitorError:
    try:
        return read()
    except SortitorError as refused:
        return refused


@given(st.binary(max_size=400))
def test_whatever_the_bytes_there_are_rows_or_words(content: bytes) -> None:
    for read in (read_table, read_paste):
        found = attempt(lambda read=read: read(content))
        if isinstance(found, SortitorError):
            assert found.detail
            assert found.remedy
        else:
            assert found.cells.height == found.numbers.len() > 0
            assert all(kind == pl.String for kind in found.cells.dtypes)


@pytest.mark.parametrize("damage", range(0, 6_000, 61))
def test_a_damaged_workbook_is_read_or_refused(damage: int) -> None:
    content = bytearray(
        xlsx(("A", [["serial", "imei"], *([f"KM-{i}", 356938035643809 + i] for i in range(50))]))
    )
    place = damage % len(content)
    content[place] ^= 0x5A
    found = attempt(lambda: read_table(bytes(content)))
    assert found.remedy if isinstance(found, SortitorError) else found.cells.height > 0


@given(
    st.lists(st.from_regex(r"[A-Z]{2}-[0-9]{3,6}", fullmatch=True), min_size=1, max_size=10),
    st.sampled_from([",", ";", " ", "\n", "\r\n", ", ", "\t"]),
)
def test_a_paste_gives_every_token_a_row(tokens: list[str], separator: str) -> None:
    assert read_paste(separator.join(tokens).encode()).cells["serial"].to_list() == tokens
